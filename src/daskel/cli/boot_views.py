"""Boots as commands show them: one whole, why it stopped, and what was fetched."""

from __future__ import annotations

import time
from collections.abc import Sequence

from rich.table import Table
from rich.text import Text

from daskel.cli import events, records
from daskel.cli.output import Output
from daskel.cli.selection import select
from daskel.cli.usage import UsageProblem
from daskel.core.history.boots import Boot, End, fetches
from daskel.core.history.case import Case, Cause
from daskel.core.history.events import Told, Up
from daskel.core.history.outcome import GOOD, Result, result
from daskel.core.site.model import Site
from daskel.core.values import counted, parse_mac, show_duration, show_size
from daskel.system.sitefile import SiteFile

_MAC_DIGITS = 12
_WIDE = 100  # characters
_SUPERSEDED = float("inf")  # a boot that another one followed does not go on
_ENDS = {End.SENT: "", End.MISSING: "red", End.ABORTED: "red"}  # colours
COLOURS = {Result.STUCK: "red", Result.REFUSED: "red", Result.LOBBY: "yellow"}


def named(site: Site, words: Sequence[str]) -> list[str] | None:
    """The clients that are meant, by name or MAC address; None for all. Raises UsageProblem."""
    if not words:
        return None
    found: list[str] = []
    for word in words:
        try:
            found.append(parse_mac(word))
        except ValueError:
            found += select(site, [word])
    return found


def with_results(boots: Sequence[Boot], now: float) -> list[tuple[Boot, str]]:
    """How each ended, the newest first: one that another one of the same machine followed does
    not go on."""
    newest: set[str] = set()
    found = []
    for boot in boots:
        found.append((boot, result(boot, now if boot.mac not in newest else _SUPERSEDED)))
        newest.add(boot.mac)
    return found


def find(file: SiteFile, site: Site, word: str) -> tuple[Boot, list[Boot]] | None:
    """The boot that a number or a client means, and earlier ones of the same machine. Raises
    UsageProblem."""
    if word.isdigit() and len(word) < _MAC_DIGITS:
        boot = records.boot(file, int(word))
        if boot is None:
            return None
        boots = records.boots(file, clients=[boot.mac], most=50)
        return boot, [other for other in boots if other.number < boot.number]
    found = named(site, [word])
    if found != [word] and word in site.groups:
        raise UsageProblem(f"{word} is a group", "name one client of it")
    boots = records.boots(file, clients=found, most=50)
    return (boots[0], boots[1:]) if boots else None


def case_of(file: SiteFile, boot: Boot, before: list[Boot]) -> Case:
    """A boot with what it is compared with."""
    later = records.boots(file, clients=[boot.mac], since=boot.began + 0.001, most=1)
    now = _SUPERSEDED if later and later[0].number > boot.number else time.time()
    day_ago = boot.began - 86400
    others = records.boots(file, since=day_ago, until=boot.began + 86400, most=2000)
    beside = [o for o in others if o.mac != boot.mac and o.segment == boot.segment]
    return Case(boot, now, before, beside)


def fetch_json(boot: Boot) -> list[dict[str, object]]:
    return [
        {"path": f.path, "kind": f.kind, "bytes": f.size, "seconds": f.seconds, "over": f.over,
         "resent": f.resent, "end": f.how, "at": f.at}
        for f in fetches(boot)
    ]  # fmt: skip


def cause_json(cause: Cause) -> dict[str, object]:
    shown = [[at, *events.words(event)] for at, event in cause.evidence]
    return {"cause": cause.cause, "problem": cause.problem, "remedy": cause.remedy,
            "evidence": shown}  # fmt: skip


def print_boot(boot: Boot, how: str, output: Output) -> None:
    began = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(boot.began))
    where = f" on {boot.segment}" if boot.segment else ""
    colour = COLOURS.get(how, "green" if how in GOOD else "")
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
            style = _ENDS.get(f.end, "yellow")
            again = f", {counted(f.resent, 'packet')} again" if f.resent else ""
            table.add_row(
                f"  +{f.at - boot.began:8.2f} s", *((f.kind,) if wide else ()), f.path,
                show_size(f.size) if f.size is not None else "",
                show_duration(round(f.seconds, 2)) if f.seconds is not None else "",
                Text(f"{f.over} {f.how}{again}", style=style),
            )  # fmt: skip
        output.console.print(table)
    _print_told(boot, output)


def _print_told(boot: Boot, output: Output) -> None:
    loaded, up = boot.loaded, boot.newest(Up)
    if boot.root:
        output.print(f"\nroot       {boot.root}")
    if boot.private:
        output.print(f"private    through the tunnel; its key: {boot.private}")
    told: Told | None = boot.newest(Told)
    if loaded and told:
        several = f" (of {len(told.loadouts)} that it can choose)" if len(told.loadouts) > 1 else ""
        output.print(
            f"\nhanded out {loaded.loadout}{several}: {loaded.arguments or 'no arguments'}"
        )
    if up:
        seconds = show_duration(round(up.uptime, 1))
        output.print(f"runs       {up.arguments}")
        output.print(f"           Linux {up.kernel}; it said so {seconds} after its kernel's start")


def show_causes(causes: Sequence[Cause], output: Output) -> None:
    for cause in causes:
        output.print()
        output.print(Text.assemble((f"{cause.cause}: ", "bold red"), cause.problem))
        for at, event in cause.evidence:
            what, rest = events.words(event)
            clock = time.strftime("%H:%M:%S", time.localtime(at))
            output.print(Text(f"      {clock}  {what}  {rest}", style="dim"))
        output.print(Text(f"      {cause.remedy}", style="green"))
