"""`daskel wake`: switches machines on by magic packets, and says who came."""

from __future__ import annotations

import argparse
import re
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from typing import Any

from daskel.cli.completing import names_of
from daskel.cli.forecasting import Room, foreseen_of, kinds_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.selection import select
from daskel.cli.site import json_argument, open_site, question, site_argument
from daskel.cli.usage import UsageProblem, seconds
from daskel.core import wake
from daskel.core.values import counted, few, show_duration
from daskel.rehearse.fetch import BootError
from daskel.system.host.magic import send
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel wake tide",
    "daskel wake tide lib --pace 2/s --at 07:30",
    "daskel wake tide --pace forecast --wait 10min",
)
_LOOKS = 0.5  # seconds between two looks at who came
_PACE = re.compile(r"(\d+(?:\.\d+)?) ?/ ?(s|min)")
_MOST_NAMES = 12


@dataclass
class Asked:
    """One machine, when it was asked, and when it was heard."""

    name: str
    mac: str
    way: tuple[IPv4Address, IPv4Address]  # the server's address that asks, and where to
    times: list[float] = field(default_factory=list)
    came: float | None = None

    @property
    def after(self) -> float | None:
        """Seconds from the first magic packet."""
        return None if self.came is None else max(0.0, self.came - self.times[0])


def arguments(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument("who", nargs="+", metavar="CLIENT|GROUP", help="who is to come")
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--pace", type=_pace, default=0.2, metavar="PACE",
        help='machines asked in a time, like "5/s" (the default) or "20/min"; or: forecast, as '
        "fast as this server can boot them",
    )  # fmt: skip
    parser.add_argument(
        "--at", type=_clock, metavar="TIME", help='wait until then, like "07:30", today or tomorrow'
    )
    parser.add_argument(
        "--wait", type=seconds, default=300, metavar="TIME",
        help="how long to look who comes, asking the others again (default: 5min)",
    )  # fmt: skip
    site_argument(parser)
    json_argument(parser)


def _pace(text: str) -> float | None:
    """Seconds between two machines; None for what the forecast says."""
    if text == "forecast":
        return None
    match = _PACE.fullmatch(text)
    if not match or not float(match[1]):
        raise argparse.ArgumentTypeError(f"{text} is not a pace; write one like 5/s, or: forecast")
    return (1.0 if match[2] == "s" else 60.0) / float(match[1])


def _clock(text: str) -> datetime:
    try:
        at = datetime.strptime(text, "%H:%M").time()
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text} is not a time; write one like 07:30") from None
    now = datetime.now()
    found = datetime.combine(now.date(), at)
    return found if found > now else found + timedelta(days=1)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=True)
    asked = [_asked(file, name) for name in select(file.valid, args.who)]
    pause: float = _carried(file, asked, output) if args.pace is None else args.pace
    if args.at:
        if not output.as_json:
            output.print(f"{counted(len(asked), 'machine')} at {args.at:%H:%M}.")
        time.sleep(max(0.0, (args.at - datetime.now()).total_seconds()))
    seen = question(file, "status") is not None
    began = time.time()
    for number, machine in enumerate(asked):
        time.sleep(max(0.0, began + number * pause - time.time()))
        _ask(machine, output)
        _look(file, asked, began, output)
    if seen:
        _wait(file, asked, began, args.wait, output)
    return _tell(asked, pause, seen, output)


def _asked(file: SiteFile, name: str) -> Asked:
    way = wake.target(file.valid, name)
    if way is None:
        raise UsageProblem(f"{name} is on no segment", "give it or its group one: segment = ...")
    return Asked(name, file.valid.clients[name].mac, way)


def _carried(file: SiteFile, asked: Sequence[Asked], output: Output) -> float:
    names = [machine.name for machine in asked]
    try:
        kinds = kinds_of(file, names, output)
    except BootError as error:
        problem = f"no forecast: a simulated client does not come up: {error}"
        raise UsageProblem(problem, "daskel rehearse says more; --pace 5/s needs none") from None

    def whole(pause: float) -> list[float]:
        room = Room(within=pause * (len(names) - 1))
        ends = foreseen_of(kinds, file, names, room).found.whole
        return [end - number * pause for number, end in enumerate(ends)]

    alone = max(
        foreseen_of({name: kinds[name]}, file, [name], Room()).found.whole[0] for name in names
    )
    pause = wake.carried(alone, whole)
    if not output.as_json:
        pace = f"{show_duration(pause)} between two machines" if pause else "all at once"
        output.print(f"The forecast: {pace}, and each boots nearly as fast as alone.")
    return pause


def _ask(machine: Asked, output: Output) -> None:
    send(wake.magic_packet(machine.mac), *machine.way, wake.PORT)
    machine.times.append(time.time())
    again = " again" if len(machine.times) > 1 else ""
    _say(output, machine.name, f"asked{again}: {machine.mac}, by {machine.way[1]}")


def _look(file: SiteFile, asked: Sequence[Asked], began: float, output: Output) -> None:
    """Who was heard since it was asked."""
    answer = question(file, "watch", since=began) or {}
    rows: dict[str, dict[str, Any]] = {row["mac"]: row for row in answer.get("machines", [])}
    for machine in asked:
        row = rows.get(machine.mac)
        if row and machine.came is None and machine.times and row["began"] >= machine.times[0] - 1:
            machine.came = row["began"]
            after = show_duration(round(machine.after or 0))
            _say(output, machine.name, f"came after {after}: {row['stage']}")


def _wait(
    file: SiteFile, asked: Sequence[Asked], began: float, most: float, output: Output
) -> None:
    again = [pause for pause in wake.ASKED_AGAIN if pause < most]
    while (left := [m for m in asked if m.came is None]) and time.time() - began < most:
        if again and time.time() - began > again[0]:
            again.pop(0)
            for machine in left:
                _ask(machine, output)
        time.sleep(_LOOKS)
        _look(file, asked, began, output)


def _say(output: Output, name: str, what: str) -> None:
    if not output.as_json:
        output.print(f"{time.strftime('%H:%M:%S')}  {name:<16} {what}")
        output.out.flush()


def _tell(asked: Sequence[Asked], pause: float, seen: bool, output: Output) -> ExitCode:
    absent = [machine.name for machine in asked if machine.came is None]
    if output.as_json:
        rows = [
            {"client": m.name, "mac": m.mac, "to": str(m.way[1]), "asked": m.times, "came": m.after}
            for m in asked
        ]
        output.json({"good": not absent, "seen": seen, "pause": pause, "clients": rows})
    elif not seen:
        output.print("\nNo server runs with this site, so that nobody sees who comes.")
    elif absent:
        output.print(f"\n{len(asked) - len(absent)} of {counted(len(asked), 'machine')} came; not "
                     f"{few(absent, _MOST_NAMES)}.")  # fmt: skip
        output.print("      are they plugged in, is waking by the network on in their firmware, "
                     "and was it\n      left on when they were shut down?")  # fmt: skip
    else:
        output.print(f"\nAll came: {counted(len(asked), 'machine')}.")
    return ExitCode.BAD_NEWS if seen and absent else ExitCode.GOOD
