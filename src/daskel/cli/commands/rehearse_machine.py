"""`daskel rehearse CLIENT --machine`: one client as a virtual machine with real firmware, in a
network of its own, against the site as it is; until it is up, or stuck."""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from rich.console import Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from daskel.cli.boot_views import cause_json, fetch_json, print_boot, show_causes
from daskel.cli.events import doing
from daskel.cli.output import ExitCode, Output
from daskel.cli.practice_server import Practice, begin, serving
from daskel.cli.rehearsals import init_fails, jobs_of
from daskel.core.boot.key_medium import image
from daskel.core.dhcp.client_messages import Face
from daskel.core.dhcp.pxe import Firmware, is_uefi
from daskel.core.history.boots import Boot, End, fetches, from_row
from daskel.core.history.case import Case, Cause
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.events import Stage
from daskel.core.history.outcome import GOOD, Result, result, waits_for
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.private import private_clients
from daskel.core.site.slate_rules import slate_of
from daskel.core.values import show_duration, show_size
from daskel.rehearse.keys import Typing
from daskel.rehearse.machine import KINDS, VirtualMachine, switch_on
from daskel.rehearse.network import Network
from daskel.system.control_client import ask, socket_path
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile

_PAUSE = 0.5  # seconds between two looks
_TELLS_UP = 600.0  # seconds from its root on, in which a system that tells when it is up does so
_QUIET, _MOST_AFTER = 15.0, 180.0  # the same for others: until its screen stands still
_PICTURES = 3.0  # seconds between two pictures of the screen
_MEMORY = 1536  # MiB
_NEVER_SEEN = 180.0  # seconds
_PANIC = "Kernel panic - not syncing"  # Linux, kernel/panic.c


def rehearse_machine(
    args: argparse.Namespace, file: SiteFile, name: str, output: Output
) -> ExitCode:
    folder = (args.keep or Path(f"rehearsed-{name}")).absolute()
    practice = Practice(str(file.path.absolute()), str(folder))
    practised = begin(practice, file)
    practice, site = practised.practice, practised.site
    job = jobs_of(practised, file, [name], args.firmware)[0]
    if args.ipv6 and not args.firmware and not _knows_ipv6(job.firmware):
        job = jobs_of(practised, file, [name], Firmware.UEFI.value)[0]
    if job.firmware not in KINDS:
        what = f"machine that asks by {job.firmware.upper()}" if job.raw else job.firmware
        output.error(f"a {what} cannot be a virtual machine",
                     f"rehearse it simulated: daskel rehearse {name}")  # fmt: skip
        return ExitCode.WRONG_USE
    client = _Client(practice, site, name)
    client.stays, client.until = args.stay, args.until
    segment = effective(site, name).segment
    assert segment, "jobs_of looked"
    if args.ipv6 and not site.segments[segment.value].network6:
        remedy = f"add network6 = ... to [segment.{segment.value}]"
        output.error(f"{name}'s segment {segment.value} has no IPv6 network", remedy)
        return ExitCode.WRONG_USE
    if args.ipv6 and not _knows_ipv6(job.firmware):
        output.error(f"firmware {job.firmware} does not ask over IPv6", "--firmware uefi-x64")
        return ExitCode.WRONG_USE
    with _room(practice, file.valid, site, segment.value) as network:
        medium = _medium(site, name, folder)
        machine = switch_on(
            network, folder, name, job.mac, job.firmware, memory=_MEMORY, ipv6=args.ipv6,
            more=["-drive", f"file={medium},format=raw,if=virtio"] if medium else [],
        )  # fmt: skip
        show = _live if output.console.is_terminal and not output.as_json else _plain
        client.typing = Typing(args.keys, machine.press)
        if not output.as_json:
            asks = f"{job.firmware} over IPv6" if args.ipv6 else job.firmware
            output.print(_head(file.valid, name, asks, segment.value))
        with suppress(KeyboardInterrupt):
            show(client, machine, output)
        client.take_picture(machine)
        if machine.process.poll() and client.boot is None:
            said = (folder / f"{name}.qemu").read_text().strip().splitlines()
            raise MissingRequirementError(f"QEMU ended: {said[-1] if said else 'it said nothing'}",
                               f"see {folder / name}.qemu")  # fmt: skip
    (folder / f"{name}.screen.txt").write_text("\n".join(client.screen).rstrip() + "\n")
    console = machine.console + "\n".join(client.screen)
    return _end(client, folder, job.firmware, _stopped(file, site, client, console), output)


def _medium(site: Site, name: str, folder: Path) -> Path | None:
    """An empty one for the key of a client that has its key on a medium, anew each time."""
    rules = site.settings.private
    if rules is None or "medium" not in rules.key or name not in private_clients(site):
        return None
    medium = folder / f"{name}.key.img"
    medium.write_bytes(image())
    return medium


def _knows_ipv6(firmware: str) -> bool:
    return firmware in KINDS and is_uefi(Face.of(Firmware(firmware)).architecture or 0)


def _stopped(file: SiteFile, site: Site, client: _Client, console: str) -> Cause | None:
    """Why a system does not run although its root was mounted."""
    boot = client.boot
    if boot is None or client.result not in (Result.ROOT, Result.RUNNING):
        return None
    line = boot.loaded.arguments if boot.loaded else ""
    if why := init_fails(file, site, client.name, line):
        remedy = "daskel root inspect looks at what its root has"
        return Cause("init-fails", f"its root was mounted, and {why}", remedy)
    panic = next((line for line in console.splitlines() if _PANIC in line), None)
    if panic is None:
        return None
    said = panic[panic.index(_PANIC) :].strip()
    return Cause("kernel-panic", f"its kernel has stopped: {said}", "see its console and screen")


def _head(site: Site, name: str, firmware: str, segment: str) -> str:
    notes = []
    if site.segments[segment].relays:
        notes.append("its relay agent is left out")
    if site.segments[segment].dhcp == "proxy":
        notes.append("another DHCP server gives the addresses")
    if site.segments[segment].dhcp == "off":
        notes.append("what daskel handoff prints is taken to be typed in")
    more = f"; {'; '.join(notes)}" if notes else ""
    return f"{name} as a virtual machine, {firmware}, in a network of its own{more}.\n"


@contextmanager
def _room(practice: Practice, whole: Site, site: Site, segment: str) -> Iterator[Network]:
    """A network with the server in it, and another DHCP server where the segment has one."""
    addresses = list(dict.fromkeys(
        f"{address}/{there.network.prefixlen}"
        for there in site.segments.values()
        for address in (there.server, there.router if there.router else there.server)
    ))  # fmt: skip
    addresses += [f"{s.server}/{s.network.prefixlen}" for s in over_ipv6(site).served.values()]
    with ExitStack() as stack:
        network = Network(addresses)
        stack.callback(network.close)
        if site.settings.private:  # a program may hold it, and with it the network
            end = ("ip", "link", "delete", site.settings.private.interface)
            stack.callback(_ended, network, end)
        if site.segments[segment].dhcp == "proxy":
            beside = replace(practice, beside=segment)
            theirs = beside.site_of(whole)[0].segments[segment]
            inside = network.add_host("other", f"{theirs.server}/{theirs.network.prefixlen}")
            stack.enter_context(serving(beside, inside))
        stack.enter_context(serving(practice, network.inside))
        yield network


def _ended(network: Network, command: Sequence[str]) -> None:
    with suppress(MissingRequirementError):  # there was none
        network.run(*command)


class _Client:
    """What the server knows of the client."""

    def __init__(self, practice: Practice, site: Site, name: str) -> None:
        self.name, self._socket = name, socket_path(practice.state)
        self._practice, self._pictured = practice, float("-inf")
        loadout = effective(site, name).loadout
        root = loadout.root if loadout else None
        slated = root and slate_of(site, site.clients[name], root) != "none"
        self._tells = bool(root and slated and site.roots[root].up)
        self.began = time.time()
        self.boot: Boot | None = None
        self.moving: dict[str, Any] | None = None
        self._screen: tuple[float, Sequence[str]] = (0.0, ())
        self._console = ""
        self._private = name in private_clients(site)
        self.stays, self.until = False, ""  # see the arguments of these names
        self.typing: Typing | None = None

    def look(self, machine: VirtualMachine) -> Sequence[str]:
        """What the server knows now, and what is on the screen."""
        screen = machine.lines()
        if time.monotonic() - self._pictured > _PICTURES:
            self.take_picture(machine)
        row = (ask(self._socket, "boot", client=self.name) or {}).get("boot")
        self.boot = from_row(row) if row and row["began"] > self.began - 1 else None
        rows = (ask(self._socket, "watch", since=self.began) or {}).get("machines", [])
        self.moving = next((r["file"] for r in rows if r["client"] == self.name), None)
        self._admit(machine)
        if list(screen) != list(self._screen[1]):
            self._screen = time.time(), screen
        if self.until:
            self._console = machine.console
        if self.typing and not self.typing.over and machine.runs:
            with suppress(OSError):
                self.typing.go_on(time.monotonic(), self.shows)
        return screen

    def _admit(self, machine: VirtualMachine) -> None:
        """Its key, when its screen shows the word that the lobby has."""
        keys = ask(self._socket, "keys") if self._private else None
        for one in (keys or {}).get("waiting", ()):
            word = one["word"]
            if one["client"] == self.name and (self.shows(word) or word in machine.console):
                ask(self._socket, "key", client=self.name, word=word)

    def shows(self, text: str) -> bool:
        """Whether a text is on its screen."""
        return any(text in line for line in self._screen[1])

    @property
    def came_there(self) -> bool:
        """It came to the stage, or shows the text, that it was to be watched until."""
        stage = next((s for s in Stage if s.value == self.until.lower()), None)
        if stage is not None:
            return bool(self.boot and any(at is stage for at, _ in self.boot.stages))
        return self.shows(self.until) or self.until in self._console

    def take_picture(self, machine: VirtualMachine) -> None:
        """Of its screen, instead of the one before; a machine may switch itself off."""
        self._pictured = time.monotonic()
        if machine.runs:
            with suppress(OSError):
                machine.picture(self._practice.folder / f"{self.name}.png")

    @property
    def screen(self) -> Sequence[str]:
        """The last lines that were on it: it may have switched itself off."""
        return self._screen[1]

    @property
    def result(self) -> str:
        return result(self.boot, time.time()) if self.boot else Result.UNDER_WAY

    def ended(self, machine: VirtualMachine) -> bool:
        """It is up, or does not go on."""
        now = time.time()
        if not machine.runs:
            return True
        if self.stays or (self.until and self.came_there):
            return not self.stays
        if self.boot is None:
            return now - self.began > _NEVER_SEEN
        since = now - self.boot.stages[-1][1]
        if self.until:
            return self.result == Result.STUCK
        if self.result in (Result.ROOT, Result.RUNNING):
            if self._tells and self.result == Result.ROOT:
                return since > _TELLS_UP
            return since > _MOST_AFTER or min(since, now - self._screen[0]) > _QUIET
        return self.result != Result.UNDER_WAY


# --- while it boots ---


def _plain(client: _Client, machine: VirtualMachine, output: Output) -> None:
    """A line for each stage and file."""
    shown = 0
    while True:
        client.look(machine)
        lines = list(_lines(client.boot, client.moving)) if client.boot else []
        done = [line for line, over in lines if over]
        for line in done[shown:] if not output.as_json else ():
            output.print(line)
            output.out.flush()
        shown = len(done)
        if client.ended(machine):
            return
        time.sleep(_PAUSE)


def _live(client: _Client, machine: VirtualMachine, output: Output) -> None:
    """What the server sees and the machine's screen, side by side."""
    with Live(console=output.console, auto_refresh=False, transient=True) as live:
        while True:
            screen = client.look(machine)
            live.update(_side_by_side(client, screen, output), refresh=True)
            if client.ended(machine):
                return
            time.sleep(_PAUSE)


def _side_by_side(client: _Client, screen: Sequence[str], output: Output) -> RenderableType:
    width, room = output.console.width, max(output.console.height - 3, 5)
    right = min(80, max(width - 46, width // 2))
    left = [Text("nothing was heard of it yet")]
    if client.boot:
        left = [Text(line, style="" if over else "cyan") for line, over in
                _lines(client.boot, client.moving)]  # fmt: skip
        left.append(Text(_now(client.boot), style="dim"))
    while screen and not screen[-1]:
        screen = screen[:-1]
    shown = Text("\n".join(line[:right] for line in screen[-room:]), no_wrap=True)
    table = Table(box=None, padding=(0, 2, 0, 0), expand=True)
    table.add_column("what the server sees", width=width - right - 4, no_wrap=True)
    table.add_column("its screen", width=right, no_wrap=True)
    table.add_row(Group(*left[-room:]), shown)
    return table


def _now(boot: Boot) -> str:
    return f"{time.time() - boot.began:7.1f} s  {doing(waits_for(boot))}"


def _lines(boot: Boot, moving: dict[str, Any] | None) -> Iterator[tuple[str, bool]]:
    """Stages and files in the order of their times, and whether each is over."""
    found: list[tuple[float, str, bool]] = []
    for fetch in fetches(boot):
        over = fetch.end is not End.UNDER_WAY
        size = show_size(fetch.size) if fetch.size is not None else ""
        end = "" if fetch.end is End.SENT else fetch.how
        if not over and moving and moving["size"]:
            end = f"{moving['done'] / moving['size']:.0%}"
        took = show_duration(round(fetch.seconds, 1)) if fetch.seconds else ""
        what = f"  {fetch.path}  {' '.join(w for w in (size, took, end) if w)}"
        found.append((fetch.at + (fetch.seconds or 0), what, over))
    found += [(at, stage.value, True) for stage, at in boot.stages]
    for at, text, over in sorted(found, key=lambda line: (not line[2], round(line[0], 2))):
        yield f"{at - boot.began:7.1f} s  {text}", over


# --- what came of it ---


def _end(
    client: _Client, folder: Path, firmware: str, stopped: Cause | None, output: Output
) -> ExitCode:
    name, boot = client.name, client.boot
    kept = [folder / f"{name}.{end}" for end in ("console", "screen.txt", "png")]
    kept = [path for path in (*kept, folder / "serve.log") if path.exists()]
    there = bool(client.until) and client.came_there
    goes_on = client.result in GOOD or there or client.stays
    over = time.time() if goes_on else float("inf")
    causes = diagnose(Case(boot, over)) if boot else [_silent(name)]
    how = result(boot, over) if boot else Result.STUCK
    if stopped:
        how, causes = Result.STUCK, [stopped, *causes]
    good = there if client.until else how in GOOD
    if output.as_json:
        output.json({
            "client": name, "firmware": firmware, "good": good, "result": how,
            "stage": boot.stage.value if boot else None,
            "seconds": round(boot.stages[-1][1] - boot.began, 3) if boot and boot.stages else None,
            "files": fetch_json(boot) if boot else [],
            "findings": [cause_json(cause) for cause in causes],
            "kept": [str(path) for path in kept],
        })  # fmt: skip
    else:
        output.print()
        if boot:
            print_boot(boot, how, output)
        show_causes(causes, output)
        if client.until:
            output.print(f"\nIt {'came to' if there else 'did not come to'}: {client.until}")
        output.print(f"\nkept in {folder}: {', '.join(path.name for path in kept)}")
    return ExitCode.GOOD if good else ExitCode.BAD_NEWS


def _silent(name: str) -> Cause:
    return Cause(
        "not-seen", f"nothing was heard of {name} in {show_duration(_NEVER_SEEN)}",
        "see the picture of its screen: its firmware did not come to its network card",
    )  # fmt: skip
