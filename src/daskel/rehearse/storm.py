"""Many simulated clients at once, in processes of their own so that they do not wait for each
other, and what limited them."""

from __future__ import annotations

import multiprocessing
import os
import signal
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from statistics import median, quantiles

from daskel.core.boot.wire import Wire
from daskel.core.dhcp.client_messages import FACES
from daskel.rehearse.client import Board, Read, SimulatedBoot, boot
from daskel.rehearse.dynamic_linking import needed_files
from daskel.rehearse.fetch import DIRECT, Way
from daskel.rehearse.raw import RawJob, load
from daskel.system.host.processes import Busy, Look, end_with_parent

_BUSY, _WAITS_FOR_DISK = 0.85, 0.3  # of the time
_LINE = 112e6  # bytes a second that a line of 1 Gbit/s carries of files


@dataclass(frozen=True)
class Job:
    """One client to boot."""

    wire: Wire
    server: IPv4Address
    name: str
    mac: str
    firmware: str  # one of `FACES`, or what a machine asks by in raw Ethernet frames
    way: Way = DIRECT
    board: Board | None = None
    read: Read = needed_files
    raw: RawJob | None = None  # it asks in raw Ethernet frames

    def run(self, progress: Callable[[SimulatedBoot], None]) -> SimulatedBoot:
        """Boot, and tell `progress` how far it is."""
        if self.raw:
            result = SimulatedBoot(self.name, self.mac, self.firmware)
            return load(self.wire, self.server, result, self.raw, progress)
        return boot(
            self.wire, self.server, self.name, self.mac, FACES[self.firmware], progress, self.way,
            self.read, self.board,
        )  # fmt: skip


@dataclass
class Outcome:
    """A storm, and what was busy meanwhile."""

    boots: list[SimulatedBoot]
    seconds: float  # from the first to the last
    busy: Busy
    processors: int = field(default_factory=lambda: os.cpu_count() or 1)

    @property
    def received(self) -> int:
        """Bytes of all clients together."""
        return sum(got.size for boot in self.boots for got in boot.files)

    @property
    def limit(self) -> str:
        """What limited it, in words."""
        busy = self.busy
        if self.seconds < 1:
            return "nothing: it was over within a second"
        if busy.server > _BUSY:
            what = "its one process for DHCP, TFTP and HTTP"
            return f"the server: {what} was busy {busy.server:.0%} of the time"
        if busy.machine > _BUSY:
            part = busy.clients / max(busy.machine * self.processors, 1e-9)
            return (
                f"this machine: its {self.processors} processors were busy {busy.machine:.0%} of "
                f"the time, {part:.0%} of that with the simulated clients themselves"
            )
        if busy.disk > _WAITS_FOR_DISK:
            return f"the disk: processors waited for it {busy.disk:.0%} of the time"
        return (
            "round trips: most blocks wait for the one before to be acknowledged; neither "
            "processors nor disk were full"
        )

    @property
    def shared(self) -> int:
        """Bytes of these that came to several clients at the same time."""
        return sum(got.shared for boot in self.boots for got in boot.files)

    @property
    def on_a_line(self) -> float:
        """Seconds that a line of 1 Gbit/s needs for the same; what is sent to many passes once."""
        files = [got for boot in self.boots for got in boot.files]
        once = dict.fromkeys({got.path for got in files}, 0)
        for got in files:
            once[got.path] = max(once[got.path], got.shared)
        return (sum(got.size - got.shared for got in files) + sum(once.values())) / _LINE


def by_stage(boots: Iterable[SimulatedBoot]) -> dict[str, list[float]]:
    """Seconds from the beginning to each stage, of all that came there."""
    found: dict[str, list[float]] = {}
    for one in boots:
        for stage, seconds in one.stages:
            found.setdefault(stage, []).append(seconds)
    return found


def spread(times: Sequence[float]) -> tuple[float, float, float]:
    """Median, 95th percentile, and the longest."""
    if len(times) < 2:
        return times[0], times[0], times[0]
    return median(times), quantiles(times, n=20)[-1], max(times)


def storm(jobs: Sequence[Job], within: float, server: int) -> Outcome:
    """Begin them evenly spread over a number of seconds, once all processes are there; `server` is
    the number of the server's process."""
    processes = min(os.cpu_count() or 1, len(jobs))
    spawned = multiprocessing.get_context("spawn")  # threads and forks do not go together
    found: dict[str, SimulatedBoot] = {}
    with ProcessPoolExecutor(processes, spawned, initializer=_belong) as pool, _ended_at_once():
        list(pool.map(_get_ready, range(processes)))
        look, start = Look(server), time.time()
        timed = [(job, start + within * i / max(len(jobs) - 1, 1)) for i, job in enumerate(jobs)]
        for boots in pool.map(_share, [timed[n::processes] for n in range(processes)]):
            found |= {one.name: one for one in boots}
        seconds, busy = time.time() - start, look.since()
    return Outcome([found[job.name] for job in jobs], seconds, busy)


def _belong() -> None:
    """Interrupts are for the first process, which ends the others."""
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)


@contextmanager
def _ended_at_once() -> Iterator[None]:
    """Nobody waits for clients that still boot when something went wrong, or was interrupted."""
    try:
        yield
    except BaseException:
        for process in multiprocessing.active_children():
            process.terminate()
        raise


def _get_ready(_: int) -> None:
    """Long enough for each process to take one of these."""
    time.sleep(0.5)


def _share(timed: Sequence[tuple[Job, float]]) -> list[SimulatedBoot]:
    with ThreadPoolExecutor(max_workers=len(timed)) as pool:
        return list(pool.map(_at_its_time, timed))


def _at_its_time(timed: tuple[Job, float]) -> SimulatedBoot:
    job, at = timed
    time.sleep(max(0.0, at - time.time()))
    return job.run(lambda _: None)
