"""What one simulated boot costs on this machine: seconds, bytes, and seconds of processors, for
each stage."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from statistics import median

import psutil

from daskel.core.forecast.model import Own, Phase, Resource
from daskel.rehearse.client import SimulatedBoot
from daskel.rehearse.fetch import BootError
from daskel.rehearse.storm import Job

_TIMES = 3  # boots that are measured, after one that fills caches
_WHAT = {"loader": "loader", "configuration": "menu", "kernel": "kernel", "initrd": "initrd",
         "image": "kernel", "root": "root"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Cost:
    """Of one stage, from the one before it on. Times are seconds; processors': of one of them."""

    stage: str
    seconds: float
    size: int  # bytes of files
    server: float  # the server's first process
    below: float  # those that it began: NFS
    client: float


def measured(job: Job, server: int) -> list[Cost]:
    """Of several boots the medians; `server` is the number of its process. Raises BootError."""
    runs = [_once(job, server) for _ in range(_TIMES + 1)][1:]
    stages = [cost.stage for cost in runs[0]]
    if any([cost.stage for cost in run] != stages for run in runs):
        raise BootError(f"{job.name} does not boot the same way each time")
    return [_middle([run[number] for run in runs]) for number in range(len(stages))]


def _middle(costs: Sequence[Cost]) -> Cost:
    return Cost(
        costs[0].stage, median(c.seconds for c in costs), costs[0].size,
        median(c.server for c in costs), median(c.below for c in costs),
        median(c.client for c in costs),
    )  # fmt: skip


def _once(job: Job, server: int) -> list[Cost]:
    marks = [_look(server)]
    stages: list[str] = []

    def moved(boot: SimulatedBoot) -> None:
        for stage, _ in boot.stages[len(stages) :]:
            stages.append(stage)
            marks.append(_look(server))

    boot = job.run(moved)
    if boot.problem:
        raise BootError(boot.problem)
    sizes: dict[str, int] = {}
    for got in boot.files:
        stage = _WHAT.get(got.what, "")
        sizes[stage] = sizes.get(stage, 0) + got.size
    return [
        Cost(
            stage, at.began - before.ended, sizes.get(stage, 0),
            max(0.0, at.server - before.server), max(0.0, at.below - before.below),
            at.own_began - before.own_ended,
        )
        for stage, before, at in zip(stages, marks, marks[1:], strict=False)
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Mark:
    """Seconds of processors until now: of the server's first process, and of those below. To look
    takes some time itself, which belongs to no stage: when it began and ended, and the seconds of
    this process then."""

    began: float
    own_began: float
    server: float
    below: float
    ended: float
    own_ended: float


def _look(server: int) -> _Mark:
    began, own = time.monotonic(), time.process_time()
    below = 0.0
    with suppress(psutil.Error):
        for process in psutil.Process(server).children(recursive=True):
            below += _on_processors(process.pid)
    first = _on_processors(server)
    return _Mark(began, own, first, below, time.monotonic(), time.process_time())


def _on_processors(process: int) -> float:
    """Of all threads of a process (/proc/PID/task/TID/schedstat, in nanoseconds)."""
    total = 0
    for task in Path(f"/proc/{process}/task").glob("*/schedstat"):
        with suppress(OSError, ValueError):
            total += int(task.read_text().split()[0])
    return total / 1e9


def as_simulated(costs: Sequence[Cost]) -> list[Phase]:
    """The phases of a simulated client, which has its processors from the same machine."""
    return [
        Phase(
            cost.stage, cost.seconds, Own.TRIPS,
            {Resource.SERVER: cost.server,
             Resource.PROCESSORS: cost.server + cost.below + cost.client},
        )
        for cost in costs
    ]  # fmt: skip


def this_machine(look: float = 1.0) -> dict[Resource, float]:
    """What this machine has left for a practice: its processors, without what others use just now,
    looked at for some seconds; half of them at least, a fair share beside whatever else runs."""
    processors = os.cpu_count() or 1
    used = psutil.cpu_percent(look) / 100 * processors
    return {Resource.SERVER: 1.0, Resource.PROCESSORS: max(processors - used, processors / 2)}
