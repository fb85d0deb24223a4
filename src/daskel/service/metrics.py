"""Figures for monitoring, in the Prometheus text format over HTTP, where the site switches it on.

They are counted from the same events as everything else.
"""

from __future__ import annotations

import socket
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Figure:
    """One figure: its name behind `daskel_`, what it says, and the label that tells its parts
    apart."""

    name: str
    text: str
    label: str = ""
    counts: bool = False  # up, from the server's start

    @property
    def full_name(self) -> str:
        """As the text format has it."""
        return f"daskel_{self.name}" + ("_total" if self.counts else "")


EVENTS = Figure("events", "Events, by their name", "event", counts=True)
SENT = Figure("sent_bytes", "Bytes of files that clients fetched", "over", counts=True)
RESENT = Figure("resent_packets", "Packets that were sent again", "over", counts=True)
CLIENTS = Figure("clients", "Clients of the site")
LEASES = Figure("leases", "Addresses that machines have")
LOBBY = Figure("lobby", "Machines that are not in the site")
STAGES = Figure("clients_at_stage", "Clients by the stage of their last boot", "stage")
RESULTS = Figure("clients_by_result", "Clients by how their last boot ended", "result")
AWAY = Figure("store_away_seconds", "For how long the store has not answered; 0 where it does")
SERVERS = Figure("other_servers", "Other servers of the site, by whether they are alive", "is")
PRIVATE = Figure("private_clients", "Clients with private roots, by what their keys are", "key")
FIGURES = (
    EVENTS, SENT, RESENT, CLIENTS, LEASES, LOBBY, STAGES, RESULTS, AWAY, SERVERS, PRIVATE,
)  # fmt: skip


class Metrics(Collector):
    """Counts from the server's start; answers at the path /metrics where the site says so."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._where: Where | None = None
        self._socket: socket.socket | None = None
        self._runner: web.AppRunner | None = None
        self._registry = CollectorRegistry()
        self._registry.register(self)
        self._events = self._count(EVENTS)
        self._by_kind: dict[type[Event], Count] = {}  # of `_events`, which takes long to ask
        self._bytes = self._count(SENT)
        self._resent = self._count(RESENT)
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
        yield _gauge(CLIENTS, len(shared.site.clients))
        yield _gauge(LEASES, len(shared.leases.held(now)))
        yield _gauge(LOBBY, len(list(shared.lobby)))
        yield _gauge(AWAY, shared.clock.now() - shared.away_since if shared.away else 0)
        others = shared.peers.others if shared.peers else ()
        yield _gauges(SERVERS, Counter("alive" if one.alive else "away" for one in others))
        yield _gauges(PRIVATE, Counter(shared.tunnel.counts() if shared.tunnel else {}))
        yield _gauges(STAGES, Counter(boot.stage.value for boot in boots))
        yield _gauges(RESULTS, Counter(result(boot, now) for boot in boots))

    def _count(self, figure: Figure) -> Count:
        name = f"daskel_{figure.name}"  # which the library ends with _total
        return Count(name, figure.text, [figure.label], registry=self._registry)

    def _happened(self, event: Event) -> None:
        kind = type(event)
        counted = self._by_kind.get(kind)
        if counted is None:
            counted = self._by_kind[kind] = self._events.labels(name_of(kind))
        counted.inc()
        if isinstance(event, FileSent):
            self._bytes.labels(event.over).inc(event.size)
            self._resent.labels(event.over).inc(event.resent)

    async def _answer(self, _: web.Request) -> web.Response:
        headers = {"Content-Type": CONTENT_TYPE_LATEST}
        return web.Response(body=generate_latest(self._registry), headers=headers)


def _gauge(figure: Figure, value: float) -> GaugeMetricFamily:
    return GaugeMetricFamily(figure.full_name, figure.text, value)


def _gauges(figure: Figure, values: Counter[str]) -> GaugeMetricFamily:
    found = GaugeMetricFamily(figure.full_name, figure.text, labels=[figure.label])
    for value, count in values.items():
        found.add_metric([value], count)
    return found
