"""`daskel watch`: the live view. A row for each client that boots; keys show one, or the log."""

from __future__ import annotations

import argparse
import io
import os
import re
import select
import termios
import time
import tty
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, Literal, TextIO

from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from daskel.cli import events
from daskel.cli.boot_views import print_boot, show_causes
from daskel.cli.completing import names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.room_view import places, room_of
from daskel.cli.site import json_argument, path_of, question, site_argument
from daskel.cli.usage import UsageProblem
from daskel.core.history.boots import from_row
from daskel.core.history.case import Case
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.encoding import from_json
from daskel.core.history.outcome import GOOD, Result, result
from daskel.core.site.layers import segment_name
from daskel.core.values import show_size
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel watch",
    "daskel watch tide",
    "daskel watch tide --room",
    "daskel watch --plain | tee monday.log",
)
_PAUSE = 0.5  # seconds between two looks
_FIRMWARE = 20  # characters
_LOOK_BACK = 3600.0  # seconds: machines that came before are not shown
_BAR = 8  # characters
_COLOURS = {
    Result.STUCK: "bold red", Result.REFUSED: "red", Result.LOBBY: "yellow",
    **dict.fromkeys(GOOD, "green"),
}  # fmt: skip
_KEYS = re.compile(rb"\x1b\[.|.", re.DOTALL)  # those that came at once, apart
_HELP, _BACK = "up/down choose   enter details", "esc all"

Machine = dict[str, Any]


def arguments(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument("who", nargs="*", metavar="CLIENT|GROUP|SEGMENT", help="only these")
    who.completer = names_of(["client", "group", "segment"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--plain", action="store_true", help="a line for each change: for pipes, slow terminals"
    )
    parser.add_argument(
        "--room", action="store_true", help="the room as it stands: each machine at its place"
    )
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    if file.site is None:
        output.findings(file.findings)
        return ExitCode.WRONG_USE
    known = {*file.site.clients, *file.site.groups, *file.site.segments}
    if wrong := next((word for word in args.who if word not in known), None):
        output.error(f"the site has no client, group or segment {wrong}", "daskel client list")
        return ExitCode.WRONG_USE
    view = _View(file, args.who, since=time.time() - _LOOK_BACK)
    if args.room and not places(file.site, view.names):
        remedy = "give each its row and number: daskel client set tide-01 place=A1"
        raise UsageProblem("no client has a place in the room", remedy)
    view.page = "room" if args.room else "all"
    if not view.look():
        output.error("no server runs with this site", "start it with: daskel serve")
        return ExitCode.LACKING
    plain = (
        args.plain or output.as_json or not (output.stdin.isatty() and output.console.is_terminal)
    )
    try:
        return _plain(view, output) if plain else _live(view, output)
    except KeyboardInterrupt:
        return ExitCode.GOOD


@dataclass
class _View:
    """What is seen now, and what the person at the keys has chosen."""

    file: SiteFile
    who: Sequence[str]
    since: float
    machines: list[Machine] = field(default_factory=list)
    chosen: int = 0
    page: str = "all"  # or one, log, room

    def look(self) -> bool:
        """Whether the server answers."""
        answer = question(self.file, "watch", since=self.since)
        if answer is None:
            return False
        self.machines = [m for m in answer.get("machines", []) if self._wanted(m)]
        self.chosen = max(0, min(self.chosen, len(self.machines) - 1))
        return True

    @property
    def names(self) -> list[str]:
        """The clients that are looked at."""
        site = self.file.site
        assert site
        return [
            name for name, client in site.clients.items()
            if not self.who or {name, segment_name(site, client), *client.group} & set(self.who)
        ]  # fmt: skip

    def _wanted(self, machine: Machine) -> bool:
        site, name = self.file.site, machine["client"]
        groups = site.clients[name].group if site and name in site.clients else ()
        names = {name, machine["segment"], *groups}
        return not self.who or bool(names & set(self.who))


# --- a line for each change ---


def _plain(view: _View, output: Output) -> ExitCode:
    before: dict[int, tuple[object, ...]] = {}
    while True:
        for machine in view.machines:
            path = machine["file"]["path"] if machine["file"] else None
            key = machine["stage"], machine["result"], path
            if before.get(machine["number"]) != key:
                before[machine["number"]] = key
                _line(machine, output)
        time.sleep(_PAUSE)
        if not view.look():
            output.error("the server has ended")
            return ExitCode.BAD_NEWS


def _line(machine: Machine, output: Output) -> None:
    if output.as_json:
        output.json(machine)
        return
    clock = time.strftime("%H:%M:%S")
    doing = _doing(machine).plain
    ended = machine["result"]
    said = machine["stage"] if ended in (Result.UNDER_WAY, machine["stage"]) else (
        f"{ended} at {machine['stage']}"
    )  # fmt: skip
    line = f"{clock}  {_name(machine):<17} {_seconds(machine):>7}  {said:<16} {doing}"
    output.print(line.rstrip())
    output.out.flush()


# --- the live view ---


def _live(view: _View, output: Output) -> ExitCode:
    with _keys(output.stdin), Live(console=output.console, screen=True, auto_refresh=False) as live:
        while True:
            live.update(_screen(view, output), refresh=True)
            ready, _, _ = select.select([output.stdin], [], [], _PAUSE)
            pressed = _KEYS.findall(os.read(output.stdin.fileno(), 64)) if ready else []
            if not all(_pressed(view, key) for key in pressed):
                return ExitCode.GOOD
            if not view.look():
                break
    output.error("the server has ended")
    return ExitCode.BAD_NEWS


@contextmanager
def _keys(stdin: TextIO) -> Iterator[None]:
    """Keys come one at a time, and are not shown."""
    before = termios.tcgetattr(stdin)
    tty.setcbreak(stdin)
    try:
        yield
    finally:
        termios.tcsetattr(stdin, termios.TCSADRAIN, before)


def _pressed(view: _View, keys: bytes) -> bool:
    """False to end."""
    match keys:
        case b"q" | b"Q":
            return False
        case b"\x1b[A" | b"k":
            view.chosen = max(0, view.chosen - 1)
        case b"\x1b[B" | b"j":
            view.chosen = min(len(view.machines) - 1, view.chosen + 1)
        case b"\r" | b"\n":
            view.page = "one" if view.page == "all" and view.machines else "all"
        case b"l" | b"L":
            view.page = "all" if view.page == "log" else "log"
        case b"r" | b"R" if view.file.site and places(view.file.site, view.names):
            view.page = "room"
        case b"\x1b" | b"\x7f":
            view.page = "all"
    return True


def _screen(view: _View, output: Output) -> Group:
    height, width = output.console.height, output.console.width
    head = Text(_summary(view), style="bold", no_wrap=True, overflow="ellipsis")
    drawn = "   r room" if view.file.site and places(view.file.site, view.names) else ""
    keys = f"{_HELP if view.page == 'all' else _BACK}   l log{drawn}   q quit"
    foot = Text(keys, style="dim", no_wrap=True)
    room = height - 3
    if view.page == "room":
        body: Any = _room(view, (width, room))
    elif view.page == "log":
        body = _log(view, room, width)
    elif view.page == "one" and view.machines:
        body = _one(view, room, width)
    else:
        body = _all(view, room, width)
    return Group(head, body, foot)


def _summary(view: _View) -> str:
    site = view.file.site
    assert site
    counts: dict[str, int] = {}
    for machine in view.machines:
        counts[machine["result"]] = counts.get(machine["result"], 0) + 1
    came = {machine["client"] for machine in view.machines}
    words = [f"{count} {how}" for how, count in counts.items()]
    if not view.who and (absent := sum(1 for name in site.clients if name not in came)):
        words.append(f"{absent} not seen")
    speed = sum((m["file"] or {}).get("speed") or 0 for m in view.machines)
    words += [f"{show_size(speed)}/s"] if speed else []
    return f"{site.settings.name}  {time.strftime('%H:%M:%S')}  {', '.join(words) or 'nobody yet'}"


_RANK = {Result.STUCK: 0, Result.REFUSED: 0, Result.UNDER_WAY: 0, Result.LOBBY: 1}


def _all(view: _View, room: int, width: int) -> Table:
    """Those that ended well give way when there is no room for all."""
    table = Table(box=None, header_style="bold dim", pad_edge=False, expand=True, padding=(0, 1))
    wide = width >= 104
    more = ["firmware", "address"] if wide else []
    for title in ("client", *more, "stage", "time"):
        side: Literal["left", "right"] = "right" if title == "time" else "left"
        most = _FIRMWARE if title == "firmware" else None
        table.add_column(title, no_wrap=True, justify=side, max_width=most, overflow="ellipsis")
    table.add_column("what it does, or waits for", ratio=1, no_wrap=not wide, overflow="ellipsis")
    machines = list(enumerate(view.machines))
    if len(machines) > room - 1:
        chosen = [m for m in machines if m[0] == view.chosen]
        rest = sorted((m for m in machines if m[0] != view.chosen),
                      key=lambda m: (_RANK.get(m[1]["result"], 2), -m[1]["last"]))  # fmt: skip
        machines = sorted((chosen + rest)[: room - 2], key=lambda m: m[0])
    for index, machine in machines:
        style = _COLOURS.get(machine["result"], "")
        stuck = machine["result"] == Result.STUCK
        stage = f"stuck: {machine['stage']}" if stuck else machine["stage"]
        cells = [Text(_name(machine), style="bold"), Text(stage, style=style),
                 Text(_seconds(machine), style="dim")]  # fmt: skip
        if wide:
            cells[1:1] = [Text(_firmware(machine)), Text(machine["address"] or "")]
        doing = _doing(machine)
        if not wide and machine["address"] and not doing.plain:
            doing = Text(machine["address"], style="dim")
        table.add_row(*cells, doing, style="reverse" if index == view.chosen else "")
    if hidden := len(view.machines) - len(machines):
        table.add_row(Text(f"and {hidden} more", style="dim"))
    return table


def _room(view: _View, size: tuple[int, int]) -> Group:
    site = view.file.site
    assert site
    table, without = room_of(site, view.names, {m["client"]: m for m in view.machines}, size)
    return Group(table, Text(without, style="dim", no_wrap=True, overflow="ellipsis"))


def _name(machine: Machine) -> str:
    return str(machine["client"] or machine["mac"])


def _firmware(machine: Machine) -> str:
    return (machine["firmware"] or "").replace(" boot from HTTP", " HTTP")


def _seconds(machine: Machine) -> str:
    """Since it began; until it came to its end, for those that are there."""
    ended = machine["result"] in GOOD
    seconds = (machine["reached"] if ended else time.time()) - machine["began"]
    return f"{seconds:.0f} s" if seconds < 600 else f"{seconds / 60:.0f} min"


def _doing(machine: Machine) -> Text:
    """What it waits for, and the server that it boots from, where that is another one."""
    what = _doing_here(machine)
    return Text.assemble((f"at {machine['server']}: ", "dim"), what) if machine["server"] else what


def _doing_here(machine: Machine) -> Text:
    file = machine["file"]
    if machine["why"]:
        return Text(machine["why"], style="red")
    if file and file["size"]:
        part = min(1.0, file["done"] / file["size"])
        full = round(part * _BAR)
        speed = f" {show_size(file['speed'])}/s" if file["speed"] else ""
        return Text.assemble(
            ("█" * full, "cyan"),
            ("░" * (_BAR - full), "dim"),
            f" {part:4.0%}{speed} {file['path']}",
        )
    doing = events.doing(machine["waits_for"])
    return Text(doing or ("its root is private" if machine["private"] else ""))


def _one(view: _View, room: int, width: int) -> Text:
    """The end of what there is to say of one machine."""
    machine = view.machines[view.chosen]
    name = machine["client"] or machine["mac"]
    answer = question(view.file, "boot", client=name) or {}
    row, before = answer.get("boot"), list(map(from_row, answer.get("before", ())))
    if row is None:
        return Text("nothing is known of it any more")
    boot, lines = from_row(row), io.StringIO()
    page = Output(out=lines)
    page.console.width = width
    now = time.time()
    print_boot(boot, result(boot, now), page)
    show_causes(diagnose(Case(boot, now, before)), page)
    if machine["file"] or machine["waits_for"]:
        page.print()
        page.print(_doing(machine))
    return Text("\n".join(lines.getvalue().splitlines()[-room:]), no_wrap=True, overflow="ellipsis")


def _log(view: _View, room: int, width: int) -> Text:
    told = (question(view.file, "events") or {}).get("events", [])
    lines = []
    for at, body in told[-room:]:
        event = from_json(body)
        if event is not None:
            what, rest = events.words(event)
            clock = time.strftime("%H:%M:%S", time.localtime(at))
            text = f"{clock}  {event.who!s:<17} {what:<9} {rest}"[:width]
            lines.append(Text(text + "\n", style="red" if events.bad(event) else ""))
    return Text.assemble(*lines, no_wrap=True, overflow="ellipsis")
