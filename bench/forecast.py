"""How good a forecast is: of storms of simulated clients on this machine, predicted from a few
boots that were measured one by one, against what the storms took: ratios of both."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

from daskel.cli.practice_server import Practice, Practised, begin, free_base, serving
from daskel.cli.rehearsals import jobs_of
from daskel.core.forecast.model import Forecast, forecast
from daskel.demo.data import lay_out
from daskel.rehearse.costs import as_simulated, measured, this_machine
from daskel.rehearse.storm import Job, Outcome, storm
from daskel.system.site_check import load_checked
from daskel.system.sitefile import SiteFile

QUICK = bool(os.environ.get("BENCH_QUICK"))
SIZES = (1, 2) if QUICK else (1, 10, 50, 200)
_TIMES = 1 if QUICK else 5
CLIENTS = ("tide-02", "lib-03", "buoy-1")  # by TFTP, over HTTP, and another processor


@contextmanager
def practice(file: SiteFile, count: int) -> Iterator[tuple[Practised, list[Job], int]]:
    with tempfile.TemporaryDirectory() as folder:
        wanted = Practice(str(file.path.absolute()), folder, free_base(), CLIENTS, count)
        practised = begin(wanted, file)
        names = [name for name in practised.like.values() if name in CLIENTS]
        jobs = jobs_of(practised, file, list(dict.fromkeys(names)), None)
        with serving(practised.practice) as server:
            yield practised, jobs[:count], server


def compare(file: SiteFile, count: int) -> tuple[Forecast, Outcome]:
    """A forecast, and the storm itself."""
    with practice(file, count) as (practised, jobs, server):
        costs = {}
        for job in jobs:
            like = practised.like[job.name]
            if like not in costs:
                costs[like] = measured(job, server)
        phases = [as_simulated(costs[practised.like[job.name]]) for job in jobs]
    found = forecast(phases, [0.0] * len(jobs), this_machine())
    with practice(file, count) as (_, jobs, server):
        return found, storm(jobs, 0, server)


def errors(found: Forecast, outcome: Outcome) -> dict[str, float]:
    """Predicted by measured: of the whole, and of half of the clients."""
    times = [boot.seconds for boot in outcome.boots if not boot.problem]
    return {
        "half": median(found.whole) / median(times),
        "the last": max(found.whole) / max(times),
    }


def slowest(outcome: Outcome) -> list[str]:
    """The stages on the way to which the clients of a storm spent time, the most first."""
    total: dict[str, float] = {}
    for boot in outcome.boots:
        before = 0.0
        for stage, at in boot.stages:
            total[stage] = total.get(stage, 0.0) + at - before
            before = at
    return sorted(total, key=lambda stage: -total[stage])


def main() -> None:
    """Each size several times, for the machine does other things, too: medians of the ratios."""
    with tempfile.TemporaryDirectory() as folder:
        file = load_checked(lay_out(Path(folder)))
        off = []
        for count in [int(word) for word in sys.argv[1:]] or SIZES:
            runs = [compare(file, count) for _ in range(_TIMES)]
            ratios = [errors(found, outcome) for found, outcome in runs]
            middle = {what: median(run[what] for run in ratios) for what in ratios[0]}
            off += [abs(ratio - 1) for ratio in middle.values()]
            told = ", ".join(
                f"{what} {ratio:.2f} ({min(r[what] for r in ratios):.2f} to "
                f"{max(r[what] for r in ratios):.2f})"
                for what, ratio in middle.items()
            )
            found, outcome = runs[-1]
            assert found.slowest
            stage, limit = found.slowest
            print(f"{count:4} clients: predicted/measured {told}")
            print(f"      most time before {stage} ({limit.value}); measured: before "
                  f"{slowest(outcome)[0]} ({outcome.limit})")  # fmt: skip
        print(f"median error {median(off):.0%} (goal: below 25%)")


if __name__ == "__main__":
    main()
