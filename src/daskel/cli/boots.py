"""`daskel boots`: what every client's boots were, as a table, one whole, and as a picture."""

from __future__ import annotations

import argparse
import csv
import io
import time
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

from rich.table import Table
from rich.text import Text

from daskel.cli import events
from daskel.cli.editing import names_of
from daskel.cli.output import ExitCode, Output, counted
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.core.boot.diagnosis import Case, Cause, diagnose
from daskel.core.boot.history import Boot, as_row, fetches
from daskel.core.boot.outcome import GOOD, Result, result
from daskel.core.boot.stages import Told, Up
from daskel.core.site.finding import did_you_mean
from daskel.core.site.model import Site
from daskel.core.values import parse_mac, show_duration, show_size
from daskel.store.reading import read_boot, read_boots
from daskel.system.lacking import LackingError
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel boots list --day today",
    "daskel boots list tide --result stuck",
    "daskel boots show tide-04",
    "daskel boots plot monday.png --day 2026-11-23 --against 2026-11-16",
)
_RESULTS = tuple(v for k, v in vars(Result).items() if k.isupper())
_MAC_DIGITS = 12
_WIDE = 100  # characters
_SUPERSEDED = float("inf")  # a boot that another one followed does not go on
_COLOURS = {Result.STUCK: "red", Result.REFUSED: "red", Result.LOBBY: "yellow"}


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    listed = verbs.add_parser("list", help="boots, the newest first")
    _filters(listed)
    listed.add_argument("--most", type=int, default=50, metavar="N", help="so many (default: 50)")
    listed.add_argument("--csv", action="store_true", help="as CSV, for a spreadsheet")
    shown = verbs.add_parser("show", help="one boot whole: stages, files, what the client runs")
    one = shown.add_argument(
        "boot", metavar="CLIENT|NUMBER", help="a client's last boot, or a boot"
    )
    one.completer = names_of(["client"])  # type: ignore[attr-defined]
    plotted = verbs.add_parser("plot", help="a picture: a bar for each client, and times by stage")
    plotted.add_argument("target", type=Path, metavar="FILE", help="ends with .png or .svg")
    _filters(plotted)
    plotted.add_argument("--against", metavar="DAY", help="an earlier day, to compare the times")
    for verb in (listed, shown, plotted):
        site_argument(verb)
        json_argument(verb)


def _filters(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument(
        "who", nargs="*", metavar="CLIENT|GROUP", help="all when none is named"
    )
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]
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
    try:
        if args.verb == "show":
            return _show(file, file.site, args.boot, output)
        boots = chosen(file, file.site, args.who, args.day, args.result)
        if args.verb == "plot":
            return _plot(args, file, file.site, boots, output)
    except ValueError as error:
        output.error(*error.args)
        return ExitCode.WRONG_USE
    return _list(args, boots[: max(args.most, 0)], len(boots), output)


def named(site: Site, words: Sequence[str]) -> list[str] | None:
    """The clients that are meant, by name or MAC address; None for all. Raises ValueError."""
    if not words:
        return None
    found: list[str] = []
    for word in words:
        if word in site.groups:
            found += [name for name, client in site.clients.items() if word in client.group]
        elif word in site.clients:
            found.append(word)
        else:
            try:
                found.append(parse_mac(word))
            except ValueError:
                hint = did_you_mean(word, [*site.clients, *site.groups])
                raise ValueError(f"the site has no client or group {word}", hint) from None
    return found


def day(word: str | None) -> tuple[float, float]:
    """From when to when, in seconds since 1970. Raises ValueError."""
    if word is None:
        return 0.0, float("inf")
    today = datetime.now().replace(hour=0, minute=0, second=0, microsecond=0)
    known = {"today": today, "yesterday": today - timedelta(days=1)}
    try:
        start = known.get(word) or datetime.fromisoformat(word)
    except ValueError:
        raise ValueError(f"{word} is no day", "write today, yesterday, or 2026-11-23") from None
    return start.timestamp(), (start + timedelta(days=1)).timestamp()


def chosen(
    file: SiteFile, site: Site, who: Sequence[str], word: str | None, ended: str | None = None
) -> list[tuple[Boot, str]]:
    """Boots and how they ended, the newest first. Raises ValueError."""
    since, until = day(word)
    boots = read_boots(file.state, clients=named(site, who), since=since, until=until)
    found = with_results(boots, time.time())
    return [(boot, how) for boot, how in found if ended in (None, how)]


def with_results(boots: Sequence[Boot], now: float) -> list[tuple[Boot, str]]:
    """How each ended, the newest first: one that another one of the same machine followed does
    not go on."""
    newest: set[str] = set()
    found = []
    for boot in boots:
        found.append((boot, result(boot, now if boot.mac not in newest else _SUPERSEDED)))
        newest.add(boot.mac)
    return found


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
        output.print("No boot is remembered that fits.")
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
    files = [fetch for fetch in fetches(boot) if fetch.end == "sent"]
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
        Text(how, style=_COLOURS.get(how, "green" if how in GOOD else "")),
        boot.stage.value,
    ]


def find(file: SiteFile, site: Site, word: str) -> tuple[Boot, list[Boot]] | None:
    """The boot that a number or a client means, and earlier ones of the same machine. Raises
    ValueError."""
    if word.isdigit() and len(word) < _MAC_DIGITS:
        boot = read_boot(file.state, int(word))
        if boot is None:
            return None
        boots = read_boots(file.state, clients=[boot.mac], most=50)
        return boot, [other for other in boots if other.number < boot.number]
    found = named(site, [word])
    if found != [word] and word in site.groups:
        raise ValueError(f"{word} is a group", "name one client of it")
    boots = read_boots(file.state, clients=found, most=50)
    return (boots[0], boots[1:]) if boots else None


def case_of(file: SiteFile, boot: Boot, before: list[Boot]) -> Case:
    """A boot with what it is compared with."""
    later = read_boots(file.state, clients=[boot.mac], since=boot.began + 0.001, most=1)
    now = _SUPERSEDED if later and later[0].number > boot.number else time.time()
    day_ago = boot.began - 86400
    others = read_boots(file.state, since=day_ago, until=boot.began + 86400, most=2000)
    beside = [o for o in others if o.mac != boot.mac and o.segment == boot.segment]
    return Case(boot, now, before, beside)


def _show(file: SiteFile, site: Site, word: str, output: Output) -> ExitCode:
    found = find(file, site, word)
    if found is None:
        output.error(f"no boot of {word} is remembered", "daskel boots list shows which are")
        return ExitCode.BAD_NEWS
    boot, before = found
    case = case_of(file, boot, before)
    causes = diagnose(case)
    if output.as_json:
        more = {"firmware": boot.firmware, "address": boot.address, "root": boot.root or None}
        output.json({**as_row(boot), **more, "result": case.result,
                     "durations": {s.value: t for s, t in boot.durations.items()},
                     "files": fetch_json(boot), "findings": [cause_json(c) for c in causes]}
                    )  # fmt: skip
        return ExitCode.GOOD
    print_boot(boot, case.result, output)
    show_causes(causes, output)
    return ExitCode.GOOD


def fetch_json(boot: Boot) -> list[dict[str, object]]:
    return [
        {"path": f.path, "kind": f.kind, "bytes": f.size, "seconds": f.seconds, "over": f.over,
         "resent": f.resent, "end": f.end, "at": f.at}
        for f in fetches(boot)
    ]  # fmt: skip


def cause_json(cause: Cause) -> dict[str, object]:
    shown = [[at, *events.words(event)] for at, event in cause.evidence]
    return {"cause": cause.cause, "problem": cause.problem, "remedy": cause.remedy,
            "evidence": shown}  # fmt: skip


def print_boot(boot: Boot, how: str, output: Output) -> None:
    began = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(boot.began))
    where = f" on {boot.segment}" if boot.segment else ""
    colour = _COLOURS.get(how, "green" if how in GOOD else "")
    head = f"boot {boot.number} of {boot.name} ({boot.mac}){where}, began {began}: "
    output.print(Text.assemble((head, "bold"), (how, colour)))
    if boot.firmware:
        output.print(f"firmware   {boot.firmware}")
    if boot.address:
        output.print(f"address    {boot.address}")
    output.print("\nstages")
    ends = boot.durations
    for stage, at in boot.stages:
        took = f", {show_duration(round(ends[stage], 2))}" if stage in ends else ""
        output.print(f"  +{at - boot.began:8.2f} s  {stage.value}{took}")
    if files := fetches(boot):
        output.print("\nfiles")
        table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
        wide = output.console.width >= _WIDE
        for side in ("right", *(("left",) if wide else ())):
            table.add_column(justify=side, no_wrap=True)
        table.add_column(overflow="fold")
        for _ in ("size", "time"):
            table.add_column(justify="right", no_wrap=True)
        table.add_column()
        for f in files:
            style = "" if f.end == "sent" else "red" if " " in f.end else "yellow"
            again = f", {counted(f.resent, 'packet')} again" if f.resent else ""
            table.add_row(
                f"  +{f.at - boot.began:8.2f} s", *((f.kind,) if wide else ()), f.path,
                show_size(f.size) if f.size is not None else "",
                show_duration(round(f.seconds, 2)) if f.seconds is not None else "",
                Text(f"{f.over} {f.end}{again}", style=style),
            )  # fmt: skip
        output.console.print(table)
    _print_told(boot, output)


def _print_told(boot: Boot, output: Output) -> None:
    loaded, up = boot.loaded, boot.newest(Up)
    if boot.root:
        output.print(f"\nroot       {boot.root}")
    told: Told | None = boot.newest(Told)
    if loaded and told:
        several = f" (of {len(told.loadouts)} that it can choose)" if len(told.loadouts) > 1 else ""
        output.print(
            f"\nhanded out {loaded.loadout}{several}: {loaded.arguments or 'no arguments'}"
        )
    if up:
        seconds = show_duration(round(up.uptime, 1))
        output.print(f"runs       {up.arguments}")
        output.print(f"           Linux {up.kernel}; it told so {seconds} after its kernel's start")


def show_causes(causes: Sequence[Cause], output: Output) -> None:
    for cause in causes:
        output.print()
        output.print(Text.assemble((f"{cause.cause}: ", "bold red"), cause.problem))
        for at, event in cause.evidence:
            what, rest = events.words(event)
            clock = time.strftime("%H:%M:%S", time.localtime(at))
            output.print(Text(f"      {clock}  {what}  {rest}", style="dim"))
        output.print(Text(f"      {cause.remedy}", style="green"))


def _plot(
    args: argparse.Namespace, file: SiteFile, site: Site, boots: list[tuple[Boot, str]],
    output: Output,
) -> ExitCode:  # fmt: skip
    from daskel.cli.picture import draw  # its library takes a second to import

    if args.target.suffix not in (".png", ".svg"):
        raise ValueError(f"{args.target} is no picture", "end its name with .png or .svg")
    if not boots:
        output.error("no boot is remembered that fits", "daskel boots list shows which are")
        return ExitCode.BAD_NEWS
    against: list[tuple[Boot, str]] = []
    if args.against:
        against = chosen(file, site, args.who, args.against, args.result)
    name = file.site.settings.name if file.site else ""
    try:
        draw(args.target, boots, against, f"{name}, {args.day or 'all boots that are remembered'}",
             args.against or "")  # fmt: skip
    except OSError as error:
        raise LackingError(f"cannot write {args.target} ({error.strerror})", "name another file"
                           ) from None  # fmt: skip
    if output.as_json:
        output.json({"file": str(args.target), "boots": len(boots)})
    else:
        output.print(f"{args.target}: {counted(len(boots), 'boot')}")
    return ExitCode.GOOD
