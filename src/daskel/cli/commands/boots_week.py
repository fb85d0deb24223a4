"""`daskel boots report`: a week of boots, as a table, for a spreadsheet, and as one page."""

from __future__ import annotations

import argparse
import csv
import io
import time
from dataclasses import asdict
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from rich.table import Table

from daskel.cli import records
from daskel.cli.boot_views import case_of, named, with_results
from daskel.cli.days import day
from daskel.cli.output import ExitCode, Output
from daskel.cli.picture_file import EXTRA, check_name, drawing
from daskel.cli.site import path_of
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.outcome import GOOD, Result
from daskel.core.values import counted, few, show_duration
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile, load

if TYPE_CHECKING:
    from daskel.cli.week_report import Machine, Report, Told

_MOST_NAMES = 6


def week(args: argparse.Namespace, output: Output) -> ExitCode:
    try:
        from daskel.cli.week_report import monday_of, report  # its library takes half a second
    except ModuleNotFoundError as error:
        raise MissingRequirementError(f"a report needs {error.name}", EXTRA) from None
    file = load(path_of(args))
    if file.site is None:
        output.findings(file.findings)
        return ExitCode.WRONG_USE
    check_name(args.plot)
    monday = monday_of(datetime.fromtimestamp(day(args.week)[0]).date())
    who = named(file.site, args.who)
    told = report(monday, *(_boots(file, who, monday - timedelta(weeks=back)) for back in (0, 1)))
    if not told.days:
        output.error(f"no boot ended in the week of {monday}",
                     "--week DAY shows another one; daskel boots list has all")  # fmt: skip
        return ExitCode.BAD_NEWS
    if args.plot:
        with drawing(args.plot):
            from daskel.cli.week_picture import draw

            draw(args.plot, told, f"{file.site.settings.name}, the week of {monday:%d %B %Y}")
    if output.as_json:
        output.json(_json(told))
    elif args.csv:
        output.out.write(_csv(told))
    else:
        _show(told, output)
        if args.plot:
            output.print(f"\n{args.plot}")
    return ExitCode.GOOD


def _boots(file: SiteFile, who: list[str] | None, monday: date) -> list[Told]:
    from daskel.cli.week_report import Told

    midnight = datetime.min.time()
    begins = datetime.combine(monday, midnight).timestamp()
    ends = datetime.combine(monday + timedelta(weeks=1), midnight).timestamp()
    boots = records.boots(file, clients=who, since=begins, until=ends)
    found = []
    for boot, how in with_results(boots, time.time()):
        if boot.client is None:
            continue
        good = how in GOOD
        cause = problem = ""
        if not good and how != Result.UNDER_WAY:
            causes = diagnose(case_of(file, boot, []))
            cause, problem = ((causes[0].cause, causes[0].problem) if causes
                              else ("untold", f"it came to {boot.stage.value}"))  # fmt: skip
        seconds = boot.stages[-1][1] - boot.began if boot.stages else 0.0
        found.append(Told(boot.client, boot.began, seconds, good, how != Result.UNDER_WAY,
                          cause, problem))  # fmt: skip
    return found


def _time(seconds: float | None) -> str:
    return "" if seconds is None else show_duration(round(seconds, 1 if seconds < 10 else None))


def _show(told: Report, output: Output) -> None:
    boots, good = sum(d.boots for d in told.days), sum(d.good for d in told.days)
    clients = counted(len(told.machines), "client")
    whole = f"{counted(boots, 'boot')} of {clients}, {good} came up"
    output.print(f"The week of {told.monday}: {whole}.\n")
    table = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("day", "boots", "came up", "half within", "the slowest", ""):
        table.add_column(title, justify="left" if title in ("day", "") else "right")
    for one in told.days:
        table.add_row(f"{one.day:%a %d %b}", str(one.boots), str(one.good), _time(one.median),
                      _time(one.slowest), one.slowest_client or "")  # fmt: skip
    output.console.print(table)
    if told.failures:
        output.print("\nWhy boots failed")
        for failure in told.failures:
            output.print(f"  {failure.times:3}  {failure.problem} "
                         f"({few(failure.clients, _MOST_NAMES)})")  # fmt: skip
    if told.conspicuous:
        output.print("\nMachines to look at")
        for machine in told.conspicuous:
            output.print(f"  {machine.client}: {_why(machine)}")
        output.print("\ndaskel diagnose CLIENT says more of its last boot.")


def _why(machine: Machine) -> str:
    said = [f"failed {machine.failed} of {machine.boots}"] if machine.fails_often else []
    if machine.slower:
        said.append(f"half within {_time(machine.median)}, {_time(machine.before)} the week before")
    return "; ".join(said)


def _json(told: Report) -> dict[str, object]:
    machines = [asdict(m) | {"slower": m.slower, "fails_often": m.fails_often}
                for m in told.machines]  # fmt: skip
    return {
        "monday": str(told.monday),
        "days": [asdict(one) | {"day": str(one.day)} for one in told.days],
        "failures": [asdict(failure) for failure in told.failures],
        "machines": machines,
    }


def _csv(told: Report) -> str:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["client", "boots", "failed", "seconds", "seconds the week before"])
    for m in told.machines:
        times = [round(value, 1) if value is not None else "" for value in (m.median, m.before)]
        writer.writerow([m.client, m.boots, m.failed, *times])
    return text.getvalue()
