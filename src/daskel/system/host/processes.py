"""How busy processes and the machine are: /proc/PID/stat and /proc/stat (proc(5))."""

from __future__ import annotations

import ctypes
import os
import shutil
import signal
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

_PR_SET_PDEATHSIG = 1
_TICK = os.sysconf("SC_CLK_TCK")


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
        seconds = max(time.monotonic() - self._at, 1e-9)
        (own, below, clients), (busy, waits, total) = self._before
        own_now, below_now, clients_now = _times(self._server)
        busy_now, waits_now, total_now = _machine()
        all_time = max(total_now - total, 1)
        return Busy(
            (own_now - own) / seconds, (below_now - below) / seconds,
            (clients_now - clients) / seconds,
            (busy_now - busy) / all_time, (waits_now - waits) / all_time,
        )  # fmt: skip


def _times(server: int) -> tuple[float, float, float]:
    """Processor seconds of the server, of those that it began, and of our own family."""
    parents: dict[int, int] = {}
    used: dict[int, float] = {}
    for entry in Path("/proc").glob("[0-9]*"):
        with suppress(OSError, ValueError, IndexError):  # it ended meanwhile
            fields = (entry / "stat").read_text().rpartition(")")[2].split()
            parents[int(entry.name)] = int(fields[1])
            ended = sum(map(int, fields[13:15])) if int(entry.name) != server else 0
            used[int(entry.name)] = (sum(map(int, fields[11:13])) + ended) / _TICK
    theirs = _family(server, parents)
    ours = _family(os.getpid(), parents) - theirs - {server} | {os.getpid()}
    return (
        used.get(server, 0.0),
        sum(used.get(pid, 0.0) for pid in theirs),
        sum(used.get(pid, 0.0) for pid in ours),
    )


def _family(first: int, parents: dict[int, int]) -> set[int]:
    """The processes below one."""
    found: set[int] = set()
    below = {first}
    while below:
        below = {pid for pid, parent in parents.items() if parent in below} - found
        found |= below
    return found


def _machine() -> tuple[int, int, int]:
    """Ticks of all processors: busy, waiting for the disk, and all."""
    line = Path("/proc/stat").read_text().splitlines()[0].split()[1:9]
    numbers = [int(word) for word in line]
    idle, waits, total = numbers[3], numbers[4], sum(numbers)
    return total - idle - waits, waits, total


def end_with_parent() -> None:
    """When the process that began this one ends, however suddenly. prctl(2)"""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM, 0, 0, 0)


def ended_with_us() -> list[str]:
    """Words before a command: it ends with this process, however suddenly that ends. setpriv(1)"""
    return ["setpriv", "--pdeathsig", "TERM"] if shutil.which("setpriv") else []
