"""`daskel forecast`: how long clients take from power-on to their root, and what limits them."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from statistics import median

from rich.table import Table

from daskel.cli.forecasting import Foreseen, Room, foresee
from daskel.cli.output import ExitCode, Output
from daskel.cli.picture_file import check_name, drawing
from daskel.cli.selection import clients_argument, select
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.cli.usage import UsageProblem, many, seconds
from daskel.core.forecast.model import Forecast
from daskel.core.forecast.room import (
    LINK,
)
from daskel.core.values import counted, show_duration, show_size
from daskel.rehearse.fetch import BootError

EXAMPLE = (
    "daskel forecast",
    "daskel forecast tide --machines 40 --within 1min --plot monday.png",
    "daskel forecast lib --link 100Mbit/s",
)
_UNITS = {"mbit": 1e6, "gbit": 1e9}
_MOST_ROWS = 24


def arguments(parser: argparse.ArgumentParser) -> None:
    clients_argument(parser)
    when = parser.add_mutually_exclusive_group()
    when.add_argument("--at-once", action="store_true", help="switched on together (the default)")
    when.add_argument(
        "--within", type=seconds, default=0, metavar="TIME",
        help='switched on spread over this time, like "2min"',
    )  # fmt: skip
    parser.add_argument(
        "--machines", type=many, metavar="N", help="this many: the clients, then copies of them"
    )
    parser.add_argument(
        "--link", type=_rate, default=LINK, metavar="RATE",
        help='of the server to the room, like "100Mbit/s" (default: 1Gbit/s)',
    )  # fmt: skip
    parser.add_argument("--plot", type=Path, metavar="FILE", help="a picture (.png or .svg)")
    site_argument(parser)
    json_argument(parser)


def _rate(text: str) -> float:
    match = re.fullmatch(r"(\d+(?:\.\d+)?) ?([a-z]+)(?:/s)?", text.strip().lower())
    if not match or match[2] not in _UNITS or not float(match[1]):
        raise argparse.ArgumentTypeError(f"{text} is not a rate; write one like 1Gbit/s")
    return float(match[1]) * _UNITS[match[2]] / 8


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=True)
    names = select(file.valid, args.who)
    if not names:
        raise UsageProblem("the site has no such clients", "daskel client add makes one")
    check_name(args.plot)
    try:
        room = Room(args.machines, args.within, args.link)
        foreseen = foresee(file, names, room, output)
    except BootError as error:
        output.error(f"no forecast: a simulated client does not come up: {error}",
                     "daskel rehearse says more")  # fmt: skip
        return ExitCode.BAD_NEWS
    if args.plot:
        _plot(args, foreseen)
    if output.as_json:
        output.json(_json(args, foreseen))
    else:
        _show(args, foreseen, output)
    return ExitCode.GOOD


# --- what came of it ---


def _stages(found: Forecast) -> list[str]:
    return list(dict.fromkeys(stage for ends in found.ends for stage in ends))


def _show(args: argparse.Namespace, foreseen: Foreseen, output: Output) -> None:
    found, whole = foreseen.found, sorted(foreseen.found.whole)
    begun = f"within {show_duration(args.within)}" if args.within else "at once"
    received = sum(kind.files for kind in foreseen.kinds.values())
    output.print(
        f"{counted(len(whole), 'client')} switched on {begun}: the first has its root after "
        f"{_time(whole[0])}, half of them after {_time(median(whole))}, the last after "
        f"{_time(whole[-1])}. {show_size(received)} in all."
    )
    if found.slowest:
        stage, holds = found.slowest
        output.print(f"Most of the time passes before {stage}: {holds.value}.")
    output.print()
    table = Table(box=None, header_style="bold", pad_edge=False)
    table.add_column("until", no_wrap=True)
    for title in ("half of them", "the last"):
        table.add_column(title, justify="right", no_wrap=True)
    table.add_column("what limits them")
    for stage in _stages(found):
        times = [ends[stage] for ends in found.ends if stage in ends]
        limit = found.limit(stage)
        told = limit.value if limit else ""
        table.add_row(stage, _time(median(times)), _time(max(times)), told)
    output.console.print(table)
    output.print()
    each = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("client", "firmware", "loadout"):
        each.add_column(title, no_wrap=True)
    each.add_column("root after", justify="right")
    for name, took in list(zip(foreseen.names, found.whole, strict=True))[:_MOST_ROWS]:
        kind = foreseen.kinds[name]
        each.add_row(name, kind.firmware, kind.loadout, _time(took))
    output.console.print(each)
    if len(foreseen.names) > _MOST_ROWS:
        more = len(foreseen.names) - _MOST_ROWS
        output.print(f"… and {more} more: --json has all of them")
    output.print("\nassumed")
    for line in foreseen.assumed:
        output.print(f"  {line}")
    if args.plot:
        output.print(f"\n{args.plot}")


def _time(seconds: float) -> str:
    return show_duration(round(seconds, 1))


def _json(args: argparse.Namespace, foreseen: Foreseen) -> dict[str, object]:
    found = foreseen.found
    return {
        "clients": [
            {"client": name, "firmware": foreseen.kinds[name].firmware,
             "loadout": foreseen.kinds[name].loadout, "bytes": foreseen.kinds[name].files,
             "seconds": round(max(ends.values(), default=0.0), 3),
             "stages": {stage: round(at, 3) for stage, at in ends.items()}}
            for name, ends in zip(foreseen.names, found.ends, strict=True)
        ],
        "within": args.within, "link": args.link,
        "limits": {
            stage: limit.name.lower() for stage in _stages(found) if (limit := found.limit(stage))
        },
        "assumed": list(foreseen.assumed),
    }  # fmt: skip


def _plot(args: argparse.Namespace, foreseen: Foreseen) -> None:
    found = foreseen.found
    limits = {s: limit.value for s in _stages(found) if (limit := found.limit(s))}
    begun = f"within {show_duration(args.within)}" if args.within else "at once"
    title = f"Forecast: {counted(len(foreseen.names), 'client')} switched on {begun}"
    with drawing(args.plot):
        from daskel.cli.forecast_picture import draw

        draw(args.plot, foreseen.names, found.ends, limits, title)
