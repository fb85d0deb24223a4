"""`daskel boots`: what every client's boots were, as a table, one whole, and as a picture."""

from __future__ import annotations

import argparse
import csv
import io
import time
from collections.abc import Sequence
from pathlib import Path

from rich.table import Table
from rich.text import Text

from daskel.cli import records
from daskel.cli.boot_views import (
    COLOURS,
    case_of,
    cause_json,
    fetch_json,
    find,
    named,
    print_boot,
    show_causes,
    with_results,
)
from daskel.cli.commands.boots_week import week
from daskel.cli.completing import names_of
from daskel.cli.days import day
from daskel.cli.output import ExitCode, Output
from daskel.cli.picture_file import check_name, drawing
from daskel.cli.selection import clients_argument
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.cli.usage import add_verb
from daskel.core.history.boots import Boot, End, as_row, fetches
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.events import Up
from daskel.core.history.outcome import GOOD, Result
from daskel.core.site.model import Site
from daskel.core.values import counted, show_duration, show_size
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel boots list --day today",
    "daskel boots list tide --result stuck",
    "daskel boots show tide-04",
    "daskel boots plot monday.png --day 2026-11-23 --against 2026-11-16",
    "daskel boots report --week 2026-11-23 --plot week.png",
)
_RESULTS = tuple(v for k, v in vars(Result).items() if k.isupper())


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    listed = add_verb(verbs, EXAMPLE, "list", "boots, the newest first", run)
    _filters(listed)
    listed.add_argument("--most", type=int, default=50, metavar="N", help="at most (default: 50)")
    listed.add_argument("--csv", action="store_true", help="as CSV, for a spreadsheet")
    shown = add_verb(
        verbs, EXAMPLE, "show", "one boot whole: stages, files, what the client runs", run
    )
    one = shown.add_argument(
        "boot", metavar="CLIENT|NUMBER", help="a client's last boot, or a boot"
    )
    one.completer = names_of(["client"])  # type: ignore[attr-defined]
    plotted = add_verb(
        verbs, EXAMPLE, "plot", "a picture: a bar for each client, and times by stage", run
    )
    plotted.add_argument("target", type=Path, metavar="FILE", help="ends with .png or .svg")
    _filters(plotted)
    plotted.add_argument("--against", metavar="DAY", help="an earlier day, to compare the times")
    weekly = add_verb(
        verbs, EXAMPLE, "report", "a week: times, why boots failed, machines to look at", week
    )
    clients_argument(weekly)
    weekly.add_argument(
        "--week", default="today", metavar="DAY", help="the week with this day (default: this week)"
    )
    weekly.add_argument("--csv", action="store_true", help="a row for each client, as CSV")
    weekly.add_argument("--plot", type=Path, metavar="FILE", help="one page (.png or .svg)")
    for verb in (listed, shown, plotted, weekly):
        site_argument(verb)
        json_argument(verb)


def _filters(parser: argparse.ArgumentParser) -> None:
    clients_argument(parser)
    parser.add_argument("--day", metavar="DAY", help="today, yesterday, or a date like 2026-11-23")
    parser.add_argument(
        "--result", type=lambda word: word.replace("-", " "), choices=_RESULTS, metavar="HOW",
        help=f"only those that ended so: {', '.join(_RESULTS).replace(' way', '-way')}",
    )  # fmt: skip


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    if file.site is None:
        output.findings(file.findings)
        return ExitCode.WRONG_USE
    if args.verb == "show":
        return _show(file, file.valid, args.boot, output)
    boots = chosen(file, file.valid, args.who, args.day, args.result)
    if args.verb == "plot":
        return _plot(args, file, file.valid, boots, output)
    return _list(args, boots[: max(args.most, 0)], len(boots), output)


def chosen(
    file: SiteFile, site: Site, who: Sequence[str], word: str | None, ended: str | None = None
) -> list[tuple[Boot, str]]:
    """Boots and how they ended, the newest first. Raises UsageProblem."""
    since, until = day(word)
    boots = records.boots(file, clients=named(site, who), since=since, until=until)
    found = with_results(boots, time.time())
    return [(boot, how) for boot, how in found if ended in (None, how)]


def _list(
    args: argparse.Namespace, boots: list[tuple[Boot, str]], total: int, output: Output
) -> ExitCode:
    rows = [_row(boot, how) for boot, how in boots]
    if output.as_json:
        output.json(rows)
        return ExitCode.GOOD
    if args.csv:
        text = io.StringIO()
        writer = csv.DictWriter(text, rows[0] if rows else ["number"])
        writer.writeheader()
        writer.writerows(rows)
        output.out.write(text.getvalue())
        return ExitCode.GOOD
    if not rows:
        output.print("No boot fits.")
        return ExitCode.GOOD
    table = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("boot", "client", "began", "firmware", "address"):
        table.add_column(title, no_wrap=True)
    for title in ("files", "received", "again", "time"):
        table.add_column(title, justify="right", no_wrap=True)
    for title in ("result", "came to"):
        table.add_column(title, no_wrap=True)
    for boot, how in boots:
        table.add_row(*_cells(boot, how))
    output.console.print(table)
    if total > len(boots):
        output.print(f"{total - len(boots)} older ones are not shown: --most {total}")
    return ExitCode.GOOD


def _row(boot: Boot, how: str) -> dict[str, object]:
    files = [fetch for fetch in fetches(boot) if fetch.end is End.SENT]
    loaded, up = boot.loaded, boot.newest(Up)
    return {
        "number": boot.number,
        "client": boot.client,
        "mac": boot.mac,
        "began": boot.began,
        "segment": boot.segment,
        "firmware": boot.firmware,
        "address": str(boot.address) if boot.address else None,
        "loadout": loaded.loadout if loaded else None,
        "root": boot.root or None,
        "private": bool(boot.private),
        "files": len(files),
        "bytes": sum(fetch.size or 0 for fetch in files),
        "resent": sum(fetch.resent for fetch in files),
        "seconds": round(_seconds(boot), 3),
        "stage": boot.stage.value,
        "result": how,
        "kernel": up.kernel if up else None,
    }


def _seconds(boot: Boot) -> float:
    """Until it came to its last stage."""
    return boot.stages[-1][1] - boot.began if boot.stages else 0.0


def _cells(boot: Boot, how: str) -> list[str | Text]:
    row = _row(boot, how)
    return [
        str(boot.number),
        boot.name,
        time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(boot.began)),
        boot.firmware or "not from firmware",
        str(boot.address or ""),
        str(row["files"]),
        show_size(int(str(row["bytes"]))),
        str(row["resent"] or ""),
        show_duration(round(_seconds(boot), 1)),
        Text(how, style=COLOURS.get(how, "green" if how in GOOD else "")),
        boot.stage.value,
    ]


def _show(file: SiteFile, site: Site, word: str, output: Output) -> ExitCode:
    found = find(file, site, word)
    if found is None:
        output.error(f"no boot of {word} is remembered", "daskel boots list shows which are")
        return ExitCode.BAD_NEWS
    boot, before = found
    case = case_of(file, boot, before)
    causes = diagnose(case)
    if output.as_json:
        more = {"firmware": boot.firmware, "address": boot.address, "root": boot.root or None,
                "private": bool(boot.private)}  # fmt: skip
        output.json({**as_row(boot), **more, "result": case.result,
                     "durations": {s.value: t for s, t in boot.durations.items()},
                     "files": fetch_json(boot), "findings": [cause_json(c) for c in causes]}
                    )  # fmt: skip
        return ExitCode.GOOD
    print_boot(boot, case.result, output)
    show_causes(causes, output)
    return ExitCode.GOOD


def _plot(
    args: argparse.Namespace, file: SiteFile, site: Site, boots: list[tuple[Boot, str]],
    output: Output,
) -> ExitCode:  # fmt: skip
    check_name(args.target)
    if not boots:
        output.error("no boot fits", "daskel boots list shows which are")
        return ExitCode.BAD_NEWS
    against: list[tuple[Boot, str]] = []
    if args.against:
        against = chosen(file, site, args.who, args.against, args.result)
    name = file.site.settings.name if file.site else ""
    title = f"{name}, {args.day or 'all boots that are remembered'}"
    with drawing(args.target):
        from daskel.cli.picture import draw

        draw(args.target, boots, against, title, args.against or "")
    if output.as_json:
        output.json({"file": str(args.target), "boots": len(boots)})
    else:
        output.print(f"{args.target}: {counted(len(boots), 'boot')}")
    return ExitCode.GOOD
