"""Figures for monitoring, in the Prometheus text format over HTTP, where the site switches it on.

They are counted from the same events as everything else.
"""

from __future__ import annotations

import socket
from collections import Counter
from collections.abc import Iterator
from ipaddress import IPv4Address

from aiohttp import web
from prometheus_client import CollectorRegistry
from prometheus_client import Counter as Count
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from daskel.core.history.encoding import name_of
from daskel.core.history.events import Event, FileSent
from daskel.core.history.outcome import result
from daskel.service.shared import Shared
from daskel.service.sockets import tcp

Where = tuple[IPv4Address, int]  # address and port


class Metrics(Collector):
    """Counts from the server's start; answers at the path /metrics where the site says so."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._where: Where | None = None
        self._socket: socket.socket | None = None
        self._runner: web.AppRunner | None = None
        self._registry = CollectorRegistry()
        self._registry.register(self)
        self._events = self._count("events", "Events, by their name", "event")
        self._bytes = self._count("sent_bytes", "Bytes of files that clients fetched", "over")
        self._resent = self._count("resent_packets", "Packets that were sent again", "over")
        shared.bus.listen(Event, self._happened)

    def open(self, where: Where | None) -> None:
        """Raises MissingRequirementError when the port is taken."""
        self._socket = tcp(str(where[0]), where[1]) if where else None
        self._where = where

    async def use(self, where: Where | None) -> None:
        """Answer elsewhere, or nowhere, from now on. Raises MissingRequirementError, and goes on
        where it was."""
        if where == self._where:
            return
        opened = tcp(str(where[0]), where[1]) if where else None
        await self.close()
        self._socket, self._where = opened, where
        await self.serve()

    async def serve(self) -> None:
        """Begin to answer, where it is to."""
        if self._socket is None:
            return
        application = web.Application()
        application.router.add_get("/metrics", self._answer)
        self._runner = web.AppRunner(application, access_log=None, handle_signals=False)
        await self._runner.setup()
        await web.SockSite(self._runner, self._socket).start()

    async def close(self) -> None:
        """Stop answering."""
        if self._runner:
            await self._runner.cleanup()
        if self._socket:
            self._socket.close()
        self._runner = self._socket = None

    def collect(self) -> Iterator[GaugeMetricFamily]:
        """What is so now; asked for whenever somebody looks."""
        shared, now = self._shared, self._shared.clock.now()
        boots = [boot for boot in shared.history.current.values() if boot.client]
        yield _gauge("clients", "Clients of the site", len(shared.site.clients))
        yield _gauge("leases", "Addresses that machines have", len(shared.leases.held(now)))
        yield _gauge("lobby", "Machines that are not in the site", len(list(shared.lobby)))
        stages = Counter(boot.stage.value for boot in boots)
        yield _gauges("clients_at_stage", "Clients by the stage of their last boot", stages)
        results = Counter(result(boot, now) for boot in boots)
        yield _gauges("clients_by_result", "Clients by how their last boot ended", results)

    def _count(self, name: str, what: str, label: str) -> Count:
        return Count(f"daskel_{name}", what, [label], registry=self._registry)

    def _happened(self, event: Event) -> None:
        self._events.labels(name_of(type(event))).inc()
        if isinstance(event, FileSent):
            self._bytes.labels(event.over).inc(event.size)
            self._resent.labels(event.over).inc(event.resent)

    async def _answer(self, _: web.Request) -> web.Response:
        headers = {"Content-Type": CONTENT_TYPE_LATEST}
        return web.Response(body=generate_latest(self._registry), headers=headers)


def _gauge(name: str, what: str, value: float) -> GaugeMetricFamily:
    return GaugeMetricFamily(f"daskel_{name}", what, value)


def _gauges(name: str, what: str, values: Counter[str]) -> GaugeMetricFamily:
    label = name.rpartition("_")[2]
    found = GaugeMetricFamily(f"daskel_{name}", what, labels=[label])
    for value, count in values.items():
        found.add_metric([value], count)
    return found
