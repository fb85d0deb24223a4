"""`daskel rehearse --storm`: many simulated clients at once, how long they took, and why."""

from __future__ import annotations

import argparse
import time
from collections.abc import Mapping, Sequence
from typing import Any

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.table import Table

from daskel.cli.boot_views import with_results
from daskel.cli.output import ExitCode, Output
from daskel.cli.picture_file import drawing
from daskel.cli.practice_server import Practice, begin, free_base, serving
from daskel.cli.rehearsals import Rehearsed, folder_of, jobs_of, judged, result_json, show_problems
from daskel.core.values import counted, show_duration, show_size
from daskel.rehearse.storm import Job, Outcome, by_stage, spread, storm
from daskel.store.reading import read_boots
from daskel.system.sitefile import SiteFile


def rehearse_storm(
    args: argparse.Namespace, file: SiteFile, names: Sequence[str], output: Output
) -> ExitCode:
    with folder_of(args.keep) as folder:
        practice = Practice(str(file.path.absolute()), str(folder), free_base(), names, args.storm)
        practised = begin(practice, file)
        practice = practised.practice
        jobs = jobs_of(practised, file, names, args.firmware)
        since = time.time()
        outcome = _boot(practice, jobs, args.within, output)
        results = judged(practised, file, outcome.boots, since)
        if args.plot:
            _plot(args, practice, since, outcome)
    _show(args, results, outcome, output)
    return ExitCode.GOOD if all(result.good for result in results) else ExitCode.BAD_NEWS


def _boot(practice: Practice, jobs: Sequence[Job], within: float, output: Output) -> Outcome:
    columns = (TextColumn("have their root"), BarColumn(), MofNCompleteColumn())
    quiet = output.as_json or not output.errors.is_terminal
    with Progress(*columns, console=output.errors, transient=True, disable=quiet) as progress:
        task = progress.add_task("", total=len(jobs))

        def heard(event: Mapping[str, Any]) -> None:
            if event.get("event") == "mounted":
                progress.advance(task)

        with serving(practice, heard=heard) as server:
            return storm(jobs, within, server)


def _plot(args: argparse.Namespace, practice: Practice, since: float, outcome: Outcome) -> None:
    boots = with_results(read_boots(practice.state, since=since), float("inf"))
    title = f"{counted(len(boots), 'simulated client')} within {show_duration(args.within)}"
    with drawing(args.plot):
        from daskel.cli.picture import draw

        draw(args.plot, boots, [], title, "", note=f"What limited them: {outcome.limit}")


def _show(
    args: argparse.Namespace, results: Sequence[Rehearsed], outcome: Outcome, output: Output
) -> None:
    boots = outcome.boots
    times = {stage: spread(seconds) for stage, seconds in by_stage(boots).items()}
    again = sum(len(boot.again) for boot in boots)
    good = sum(1 for result in results if result.good)
    if output.as_json:
        output.json({
            "good": good == len(results), "clients": len(results), "up": good,
            "within": args.within, "seconds": round(outcome.seconds, 3),
            "bytes": outcome.received, "shared": outcome.shared, "asked_again": again,
            "limit": outcome.limit,
            "busy": {
                "server": round(outcome.busy.server, 3), "nfs": round(outcome.busy.below, 3),
                "clients": round(outcome.busy.clients, 3),
                "machine": round(outcome.busy.machine, 3), "disk": round(outcome.busy.disk, 3),
            },
            "stages": {
                stage: dict(zip(("median", "p95", "longest"), map(_ms, found), strict=True))
                for stage, found in times.items()
            },
            "failed": [result_json(result) for result in results if not result.good],
        })  # fmt: skip
        return
    begun = f"within {show_duration(args.within)}" if args.within else "at once"
    output.print(f"{good} of {counted(len(results), 'client')} came up, begun {begun}.\n")
    table = Table(box=None, header_style="bold", pad_edge=False)
    table.add_column("seconds until", no_wrap=True)
    for title in ("half of them", "95 %", "the last", "clients"):
        table.add_column(title, justify="right", no_wrap=True)
    counts = {stage: len(seconds) for stage, seconds in by_stage(boots).items()}
    for stage, found in times.items():
        table.add_row(stage, *(f"{seconds:.2f}" for seconds in found), str(counts[stage]))
    output.console.print(table)
    rate = outcome.received / max(outcome.seconds, 1e-3)
    took, line = (show_duration(round(s, 1)) for s in (outcome.seconds, outcome.on_a_line))
    asked = counted(again, "time") if again else "nothing: every answer came in time"
    output.print(f"\nreceived       {show_size(outcome.received)} in {took}, {show_size(rate)}/s")
    if outcome.shared:
        output.print(f"sent to all    {show_size(outcome.shared)} of that, several at a time")
    output.print(f"asked again    {asked}")
    output.print(f"limited by     {outcome.limit}")
    output.print(f"on a wire      a line of 1 Gbit/s needs {line} for the same")
    show_problems(results, output)
    if args.plot:
        output.print(f"\n{args.plot}")


def _ms(seconds: float) -> float:
    return round(seconds, 3)
