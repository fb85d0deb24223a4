"""`daskel forecast`: how long clients take from power-on to their root, and what limits them."""

from __future__ import annotations

import argparse
import os
import re
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from statistics import median

from rich.table import Table

from daskel.cli.output import ExitCode, Output
from daskel.cli.practice_server import Practice, Practised, begin, free_base, serving
from daskel.cli.rehearsals import jobs_of
from daskel.cli.selection import clients_argument, select
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.cli.usage import UsageProblem, many, seconds
from daskel.core.forecast.model import Forecast, forecast
from daskel.core.forecast.room import (
    LINK,
    Experience,
    Kind,
    Load,
    assumptions,
    capacities,
    phases,
)
from daskel.core.site.layers import effective
from daskel.core.values import counted, show_duration, show_size
from daskel.rehearse.costs import Cost, measured
from daskel.rehearse.fetch import BootError
from daskel.rehearse.storm import Job
from daskel.store.reading import read_boots
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel forecast",
    "daskel forecast tide --machines 40 --within 1min --plot monday.png",
    "daskel forecast lib --link 100Mbit/s",
)
_UNITS = {"mbit": 1e6, "gbit": 1e9}
_MOST_ROWS, _MOST_BOOTS = 24, 3000


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


@dataclass(frozen=True)
class Foreseen:
    """A forecast, and what it rests on."""

    names: Sequence[str]
    kinds: Mapping[str, Kind]  # by client
    found: Forecast
    assumed: Sequence[str]


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=True)
    names = select(file.valid, args.who)
    if not names:
        raise UsageProblem("the site has no such clients", "daskel client add makes one")
    if args.plot and args.plot.suffix not in (".png", ".svg"):
        problem = f"{args.plot} is not a .png or .svg file"
        raise UsageProblem(problem, "end its name with .png or .svg")
    try:
        foreseen = _foresee(args, file, names, output)
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


def _foresee(
    args: argparse.Namespace, file: SiteFile, names: Sequence[str], output: Output
) -> Foreseen:
    kinds = _kinds(file, names, output)
    count = args.machines or len(names)
    everybody = [_called(names, number) for number in range(count)]
    of = {name: kinds[names[number % len(names)]] for number, name in enumerate(everybody)}
    experience = Experience.of(read_boots(file.state, most=_MOST_BOOTS))
    fetched: set[str] = set()
    clients = []
    for name in everybody:
        clients.append(phases(of[name], experience, first=of[name].loadout not in fetched))
        fetched.add(of[name].loadout)
    starts = [args.within * number / max(count - 1, 1) for number in range(count)]
    found = forecast(clients, starts, capacities(args.link, os.cpu_count() or 1))
    assumed = assumptions(list(of.values()), experience, args.link)
    busy = median(sum(load.processors for load in kind.loads) for kind in of.values())
    assumed.append(
        f"a boot costs this server {busy * 1e3:.0f} ms of a processor (it has {os.cpu_count()}): "
        "measured just now, with simulated clients"
    )
    return Foreseen(everybody, of, found, assumed)


def _called(names: Sequence[str], number: int) -> str:
    name, copy = names[number % len(names)], number // len(names)
    return f"{name} ({copy + 1})" if copy else name


def _kinds(file: SiteFile, names: Sequence[str], output: Output) -> dict[str, Kind]:
    """What each client's boots are like; one of each kind is simulated, and measured."""
    with tempfile.TemporaryDirectory(prefix="daskel-forecast-") as folder:
        practised = begin(Practice(str(file.path.absolute()), folder, free_base()), file)
        jobs = jobs_of(practised, file, names, None)
        alike: dict[tuple[str, str], list[Job]] = {}
        for job in jobs:
            loadout = effective(practised.site, job.name).loadout_name or ""
            alike.setdefault((job.firmware, loadout), []).append(job)
        found: dict[str, Kind] = {}
        with (
            serving(practised.practice) as server,
            output.errors.status("measuring this server", spinner="line"),
        ):
            for (firmware, loadout), same in alike.items():
                costs = measured(same[0], server)
                kind = Kind(firmware, loadout, [_load(c) for c in costs], _menu(practised, same[0]))
                found |= dict.fromkeys((job.name for job in same), kind)
    return found


def _load(cost: Cost) -> Load:
    return Load(cost.stage, cost.size, cost.server, cost.server + cost.below)


def _menu(practised: Practised, job: Job) -> float:
    """Seconds that its menu waits."""
    choice = effective(practised.site, job.name).choice
    return float(choice.wait) if choice else 0.0


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
    from daskel.cli.forecast_picture import draw  # its library takes a second to import

    found = foreseen.found
    limits = {s: limit.value for s in _stages(found) if (limit := found.limit(s))}
    begun = f"within {show_duration(args.within)}" if args.within else "at once"
    title = f"Forecast: {counted(len(foreseen.names), 'client')} switched on {begun}"
    try:
        draw(args.plot, foreseen.names, found.ends, limits, title)
    except OSError as error:
        problem = f"cannot write {args.plot} ({error.strerror})"
        raise MissingRequirementError(problem, "name another file") from None
