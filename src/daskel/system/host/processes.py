"""How busy processes and the machine are, and processes that end with the one that began them."""

from __future__ import annotations

import os
import shutil
import signal
import time
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass

import psutil

from daskel.system.host import libc


@dataclass(frozen=True, slots=True)
class Busy:
    """Parts of the time between two looks."""

    server: float  # of one processor: the server's first process
    below: float  # of one processor: those that it began
    clients: float  # of one processor: this process and those that it began, without the server
    machine: float  # of all processors together
    disk: float  # of all processors together: waiting for it


class Look:
    """Taken before; `since` says what was busy from then until now."""

    def __init__(self, server: int) -> None:
        self._server, self._at = server, time.monotonic()
        self._before = _times(server), _machine()

    def since(self) -> Busy:
        """What was busy from then until now."""
        seconds = max(time.monotonic() - self._at, 1e-9)
        (own, below, clients), (busy, waits, total) = self._before
        own_now, below_now, clients_now = _times(self._server)
        busy_now, waits_now, total_now = _machine()
        all_time = max(total_now - total, 1e-9)
        return Busy(
            (own_now - own) / seconds, (below_now - below) / seconds,
            (clients_now - clients) / seconds,
            (busy_now - busy) / all_time, (waits_now - waits) / all_time,
        )  # fmt: skip


def _times(server: int) -> tuple[float, float, float]:
    """Processor seconds of the server, of those that it began, and of our own family."""
    theirs = {process.pid for process in _below(server)}
    ours = [p for p in _below(os.getpid()) if p.pid != server and p.pid not in theirs]
    with suppress(psutil.Error):
        used = psutil.Process(server).cpu_times()
        return used.user + used.system, _used(_below(server)), _used([psutil.Process(), *ours])
    return 0.0, 0.0, _used([psutil.Process(), *ours])


def _below(pid: int) -> list[psutil.Process]:
    with suppress(psutil.Error):
        found: list[psutil.Process] = psutil.Process(pid).children(recursive=True)
        return found
    return []


def _used(processes: Iterable[psutil.Process]) -> float:
    """Processor seconds, with those of children that have ended."""
    total = 0.0
    for process in processes:
        with suppress(psutil.Error):  # it ended meanwhile
            used = process.cpu_times()
            total += used.user + used.system + used.children_user + used.children_system
    return total


def _machine() -> tuple[float, float, float]:
    """Seconds of all processors: busy, waiting for the disk, and all."""
    times = psutil.cpu_times()
    waits = times.iowait
    total = sum(times) - getattr(times, "guest", 0) - getattr(times, "guest_nice", 0)
    return total - times.idle - waits, waits, total


def end_with_parent() -> None:
    """When the process that began this one ends, however suddenly."""
    libc.prctl(libc.PR_SET_PDEATHSIG, signal.SIGTERM)


def ended_with_us() -> list[str]:
    """Words before a command: it ends with this process, however suddenly that ends. setpriv(1)"""
    return ["setpriv", "--pdeathsig", "TERM"] if shutil.which("setpriv") else []
