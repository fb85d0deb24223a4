"""Which process holds a port."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import psutil


@dataclass(frozen=True, slots=True)
class Holder:
    """A process that has a port open."""

    pid: int
    name: str

    def __str__(self) -> str:
        return f"{self.name} (process {self.pid})"


def holder(protocol: str, port: int) -> Holder | None:
    """The process that has `port` open; None when nobody does or it may not be seen.

    `protocol` is "udp" or "tcp"; for TCP only listening sockets count. Of several processes that
    share the socket, the one that was begun first.
    """
    pids = sorted(connection.pid for connection in _open(protocol, port) if connection.pid)
    for pid in pids:
        with suppress(psutil.Error):  # it ended meanwhile
            return Holder(pid, psutil.Process(pid).name())
    return None


def taken(protocol: str, port: int) -> bool:
    """Somebody has it open, whether or not it may be seen who."""
    return any(True for _ in _open(protocol, port))


def _open(protocol: str, port: int) -> Iterator[Any]:
    for connection in psutil.net_connections(protocol):
        listening = protocol == "udp" or connection.status == psutil.CONN_LISTEN
        if listening and connection.laddr and connection.laddr.port == port:
            yield connection
