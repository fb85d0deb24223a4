"""`daskel diagnose`: why a client's boot came no further, from its events or from a capture."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from rich.text import Text

from daskel.cli import events
from daskel.cli.boot_views import case_of, cause_json, find, show_causes
from daskel.cli.completing import names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.cli.usage import UsageProblem
from daskel.core.capture.frames import Capture
from daskel.core.history.case import Case, Cause
from daskel.core.history.diagnosis import CANNOT_TELL, diagnose
from daskel.core.history.events import OtherServer
from daskel.core.history.outcome import GOOD, Result, waits_for
from daskel.core.history.ways import furthest
from daskel.core.site.layers import effective, unheard
from daskel.core.site.model import Site
from daskel.core.values import parse_mac, show_ago
from daskel.system.captures import read_frames
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import load

EXAMPLE = (
    "daskel diagnose tide-04",
    "daskel diagnose --capture monday.pcapng",
    "daskel diagnose tide-04 --capture monday.pcapng",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    client = parser.add_argument(
        "client", nargs="?", metavar="CLIENT|BOOT",
        help="a client by its name or MAC address, or the number of a boot; with --capture, all "
        "machines when none is named",
    )  # fmt: skip
    client.completer = names_of(["client"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--capture", type=Path, metavar="FILE",
        help="look at packets instead (pcap or pcapng), taken anywhere, also where Daskel did not "
        "run; a site file is used for names where there is one",
    )  # fmt: skip
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    if args.capture is not None:
        return _captured(args, output)
    if args.client is None:
        raise UsageProblem("which client?", "daskel diagnose CLIENT; daskel boots list shows them")
    file = load(path_of(args))
    if file.site is None:
        output.findings(file.findings)
        return ExitCode.WRONG_USE
    found = find(file, file.site, args.client)
    if found is None and args.client.isdigit():
        output.error(f"no boot {args.client} is remembered", "daskel boots list shows which are")
        return ExitCode.BAD_NEWS
    if found is None:
        return _never_seen(file.site, args.client, output)
    case = furthest(case_of(file, *found))
    return _answer([case], output)


def _never_seen(site: Site, name: str, output: Output) -> ExitCode:
    """Nothing was ever heard of it."""
    client = site.clients.get(name)
    mac = client.mac if client else name
    cause = Cause(
        "not-seen",
        f"nothing has been heard of {name} ({mac}): no boot of it is remembered",
        "is it switched on, is booting from the network first in its firmware's settings, is its "
        f"cable in, is {mac} its MAC address? daskel lobby list shows machines nobody knows, "
        "daskel survey which interface faces them",
    )
    cause = _unheard(site, name) or cause
    if output.as_json:
        output.json([{"client": name, "mac": mac, "result": None, "findings": [cause_json(cause)]}])
    else:
        show_causes([cause], output)
    return ExitCode.BAD_NEWS


def _unheard(site: Site, name: str) -> Cause | None:
    """It asks in raw Ethernet frames, where nobody listens for these."""
    segment = unheard(site, effective(site, name)) if name in site.clients else None
    if segment is None:
        return None
    problem = f"{name} asks in raw Ethernet frames, and segment {segment} does not listen for them"
    remedy = f"add raw = true to [segment.{segment}], and start daskel serve again"
    return Cause("raw-silent", problem, remedy)


def _captured(args: argparse.Namespace, output: Output) -> ExitCode:
    site = _site(args)
    capture, when = Capture(site), 0.0
    try:
        for when, frame in read_frames(args.capture):
            capture.feed(when, frame)
    except ValueError as error:
        read = capture.scope.packets
        if not read:
            output.error(f"{args.capture} is not a capture that can be read ({error})",
                         "give a capture of Ethernet in the format pcap or pcapng")  # fmt: skip
            return ExitCode.WRONG_USE
        output.error(f"{args.capture} is damaged after packet {read}: the rest is not read")
    except OSError as error:
        raise MissingRequirementError(
            f"cannot read {args.capture} ({error.strerror})", "name a capture"
        ) from None
    newest = {case.boot.mac: case for case in capture.finish(when)}
    cases = [furthest(case) for case in newest.values()]
    if args.client is not None:
        mac = _mac(site, args.client)
        cases = [case for case in cases if mac == case.boot.mac]
    if not output.as_json:
        output.print(f"{args.capture}: {capture.scope.told(_clock)}\n")
    if not cases:
        output.error(f"no boot{f' of {args.client}' if args.client else ''} is in {args.capture}",
                     "capture on the clients' wire, from before they are switched on")  # fmt: skip
        return ExitCode.BAD_NEWS
    return _answer(sorted(cases, key=lambda case: case.boot.began), output, captured=True)


def _clock(at: float) -> str:
    return time.strftime("%H:%M:%S", time.localtime(at))


def _site(args: argparse.Namespace) -> Site | None:
    """For the names of clients; a capture can be looked at without."""
    path = path_of(args)
    if args.site is None and not path.exists():
        return None
    return load(path).site


def _mac(site: Site | None, word: str) -> str:
    if site and word in site.clients:
        return site.clients[word].mac
    try:
        return parse_mac(word)
    except ValueError:
        return word


def _answer(cases: list[Case], output: Output, *, captured: bool = False) -> ExitCode:
    good = True
    told = []
    for case in cases:
        causes = diagnose(case)
        bad = [cause for cause in causes if cause.cause != CANNOT_TELL]
        good = good and not bad and (case.captured or case.result in (*GOOD, Result.UNDER_WAY))
        if output.as_json:
            told.append(_json(case, causes))
        else:
            _show(case, causes, output, captured)
    if output.as_json:
        output.json(told)
    return ExitCode.GOOD if good else ExitCode.BAD_NEWS


def _json(case: Case, causes: list[Cause]) -> dict[str, object]:
    boot = case.boot
    return {
        "client": boot.client, "mac": boot.mac, "boot": boot.number, "began": boot.began,
        "stage": boot.stage.value, "result": case.result, "firmware": boot.firmware or None,
        "address": str(boot.address) if boot.address else None,
        "cannot_see": [blind.name.lower() for blind in case.blind],
        "findings": [cause_json(cause) for cause in causes],
    }  # fmt: skip


_GOOD_NEWS = {
    Result.UP: "it is up, and said so itself",
    Result.ROOT: "it mounted its root",
    Result.RUNNING: "it has all that it needs, and runs from memory",
    Result.LOCAL: "it was told to start from its own disk",
}


def _untold(causes: list[Cause]) -> bool:
    return any(cause.cause == CANNOT_TELL for cause in causes)


def _show(case: Case, causes: list[Cause], output: Output, captured: bool) -> None:
    boot, how = case.boot, case.result
    open_end = how == Result.UNDER_WAY or _untold(causes)
    colour = "green" if how in GOOD else "yellow" if open_end else "red"
    when = time.strftime("%H:%M:%S", time.localtime(boot.began))
    ago = when if captured else f"{when}, {show_ago(time.time() - boot.began)}"
    firmware = f", {boot.firmware}" if boot.firmware else ""
    head = f"{boot.name}, boot of {ago}{firmware}: "
    news = _GOOD_NEWS.get(how)
    if news is None:
        news = f"came to {boot.stage.value}"
        if how == Result.UNDER_WAY and not causes:
            news += f", and goes on: it {events.doing(waits_for(boot)) or 'does nothing just now'}"
        elif how == Result.STUCK and not _untold(causes):
            news += ", and stopped there"
    output.print(Text.assemble((head, "bold"), (news, colour)))
    if causes:
        show_causes(causes, output)
    elif how == Result.STUCK and not captured:
        output.print("      nothing that was heard of it says why; look at its screen")
    if captured and (others := [e for _, e in boot.of(OtherServer)]):
        servers = ", ".join(dict.fromkeys(str(e.server) for e in others))
        output.print(f"      DHCP servers that answered it: {servers}")
    output.print()
