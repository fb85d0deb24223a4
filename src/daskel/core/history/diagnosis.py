"""Why a boot came no further: a table of causes, each with the events that show it.

The causes stand in the order in which they are tried; the first that fits says why it stopped, the
others what else was noticed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from statistics import median

from daskel.core.dhcp.pxe import is_uefi
from daskel.core.history.boots import Boot, End, Fetch, fetches, plain
from daskel.core.history.events import (
    Abort,
    Addressed,
    Event,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    GivenBack,
    Loaded,
    Missed,
    MountRefusal,
    MountRefused,
    OtherServer,
    Refusal,
    Refused,
    RootTrouble,
    Seen,
    Service,
    Stage,
    Trouble,
    Unanswered,
    Up,
    Waits,
)
from daskel.core.history.outcome import GOOD, Result, result
from daskel.core.values import counted, show_duration, show_size

_LOOPS, _LOOP_TIME = 3, 900.0  # boots that got no further, and the seconds that they are within
_SLOW, _SLOW_TIME = 3.0, 10.0  # times its neighbours' median, and seconds more than it
_MANY_AGAIN = 0.03  # of the packets of a file
_PACKET = 1400  # bytes


@dataclass(frozen=True, slots=True)
class Cause:
    """What went wrong, in words, what to do next, and what shows it."""

    cause: str  # stable
    problem: str
    remedy: str
    evidence: tuple[tuple[float, Event], ...] = ()


@dataclass(frozen=True)
class Case:
    """A boot and what there is to compare it with; `now` may be infinite for one that is over."""

    boot: Boot
    now: float
    before: Sequence[Boot] = ()  # earlier boots of the same machine, the last one first
    beside: Sequence[Boot] = ()  # boots of its neighbours

    @property
    def result(self) -> str:
        """How the boot ended, one of `Result`."""
        return result(self.boot, self.now)

    @property
    def stage(self) -> Stage:
        """How far the boot came."""
        return self.boot.stage

    @property
    def files(self) -> list[Fetch]:
        """The files that were asked for."""
        return fetches(self.boot)

    @property
    def who(self) -> str:
        """The client's name, else its MAC address."""
        return self.boot.name

    def last(self, *kinds: type[Event]) -> tuple[float, Event] | None:
        """The last event of some kinds, with its time."""
        found = list(self.boot.of(*kinds))
        return found[-1] if found else None

    def after(self, at: float, *kinds: type[Event]) -> bool:
        """Whether something of some kinds happened after a time."""
        return any(when > at for when, _ in self.boot.of(*kinds))


def diagnose(case: Case) -> list[Cause]:
    """The causes that fit; nothing for a boot that is well, or still under way without trouble."""
    return [cause for find in _TABLE for cause in find(case)]


Find = Callable[[Case], Iterator[Cause]]


# --- before it has an address ---


def _lobby(case: Case) -> Iterator[Cause]:
    if case.stage is Stage.LOBBY and (found := case.last(Waits)):
        problem = f"{case.who} is not in the site and waits in the lobby"
        yield Cause("lobby", problem, f"daskel lobby admit {case.boot.mac}", (found,))


def _refused(case: Case) -> Iterator[Cause]:
    if case.stage is not Stage.REFUSED or not (found := case.last(Refused)):
        return
    event = found[1]
    assert isinstance(event, Refused)
    problem = f"it asked for an address on {event.segment or 'an unknown network'} and was refused"
    remedy = "change that line if the machine is meant to boot, then: daskel apply"
    if event.why in _REFUSALS:
        remedy = _REFUSALS[event.why].format(who=case.who, mac=case.boot.mac)
    yield Cause("refused", f"{problem}: {event.reason}", remedy, (found,))


_ADD = "daskel client add NAME mac={mac}, or change that line"
_REFUSALS = {  # what to do; else the line that is named is to be changed
    Refusal.NO_BOOT_FILE: "daskel explain {who} shows which boot file each kind of firmware gets",
    Refusal.NOT_IN_SITE: _ADD,
    Refusal.NOT_LISTED: _ADD,
    Refusal.UNKNOWN_NETWORK: "name its relay agent or its interface in a segment",
    Refusal.NO_ADDRESS: "make the pool of its segment larger, or its lease shorter",
    Refusal.WRONG_NETWORK: "none is needed: it asks for a new address by itself",
    Refusal.BY_ANOTHER: "look at the DHCP server that refused it",
}


def _other_server(case: Case) -> Iterator[Cause]:
    """It took the address of a server that says nothing of booting."""
    found = case.last(OtherServer)
    if not found or case.files or case.stage not in (Stage.SEEN, Stage.ADDRESSED, Stage.REFUSED):
        return
    event = found[1]
    assert isinstance(event, OtherServer)
    problem = f"it took the address that another DHCP server, {event.server}, gave it"
    remedy = (
        "switch that server off on this wire (daskel survey --wire finds it), or let it give the "
        'addresses: dhcp = "proxy" in the segment'
    )
    yield Cause("other-server", problem, remedy, (found,))


def _in_use(case: Case) -> Iterator[Cause]:
    found = case.last(GivenBack)
    if case.stage is not Stage.SEEN or not found:
        return
    event = found[1]
    assert isinstance(event, GivenBack)
    if event.declined:
        problem = f"somebody else has its address {event.address}"
        remedy = f"find who answers at {event.address} (ip neighbour show {event.address})"
        yield Cause("address-in-use", problem, remedy, (found,))


def _no_answer(case: Case) -> Iterator[Cause]:
    """Of a capture: nobody answered its DHCP messages."""
    found = case.last(Unanswered)
    if not found or case.result in GOOD:
        return
    event = found[1]
    assert isinstance(event, Unanswered)
    again = f", asked {event.times} times" if event.times > 1 else ""
    cause, subject, remedy = _SILENT[event.what]
    did = "did not answer" if event.server else "answered"
    how = ("refused", ": nothing listens there") if event.closed else (did, "")
    whom = str(event.server) if event.server else "nobody"
    problem = f"{whom} {how[0]} {subject.format(event.asked)}{again}{how[1]}"
    yield Cause(cause, problem, remedy, (found,))


_OPEN = "open that port in the firewall between them, and see that the service runs there"
_SILENT = {
    Service.DHCP: (
        "dhcp-silent", "its search for an address (DHCP DISCOVER)",
        "start a DHCP server on this wire, or see that the relay agent passes it on; "
        "daskel survey --wire shows who answers",
    ),
    Service.REQUEST: (
        "request-silent", "its request for the address {} that it had been offered",
        "see that the server that made the offer still runs and can write its leases",
    ),
    Service.PXE: (
        "pxe-port-silent", "its question for a boot file on port 4011",
        "open UDP port 4011 to the boot server, or stop the DHCP server from sending option 60 "
        "(PXEClient) without a boot file",
    ),
    Service.TFTP: (
        "tftp-blocked", "its request for {} by TFTP (UDP port 69)",
        "open UDP port 69 and the ports above 1023 between them, and see that option 66 and the "
        "next server name the boot server",
    ),
    Service.HTTP: ("http-blocked", "its request for {} by HTTP", _OPEN),
    Service.NFS: (
        "nfs-blocked", "its connection to NFS, {}",
        "open that TCP port to the server, and see that the address in nfsroot= is the right one",
    ),
    Service.PORTMAP: (
        "portmap-blocked", "its question for NFS's port, {}",
        "open port 111 to the server, or use an initrd that needs no port mapper",
    ),
}  # fmt: skip


def _not_taken(case: Case) -> Iterator[Cause]:
    found = case.last(Seen)
    if case.stage is not Stage.SEEN or case.result != Result.STUCK or not found:
        return
    if case.last(OtherServer, GivenBack, Unanswered):
        return
    event = found[1]
    assert isinstance(event, Seen)
    tries = sum(1 for _ in case.boot.of(Seen))
    again = f" {tries} times" if tries > 1 else ""
    if event.offered is None:
        problem = f"it asked for an address{again} and has been offered none by Daskel"
        if event.firmware and not case.last(Refused):
            problem = "it asked, and took no address from the network's other DHCP server"
        remedy = "look at the DHCP server that gives the addresses on this network"
        yield Cause("no-offer", problem, remedy, (found,))
        return
    problem = f"it was offered {event.offered}{again}, and never asked for it"
    relay = f"through {event.relay}, " if event.relay else ""
    remedy = (
        f"the offer does not arrive ({relay}a firewall, a VLAN), or it takes the offer of another "
        "server that Daskel cannot hear: daskel survey --wire INTERFACE"
    )
    yield Cause("offer-not-taken", problem, remedy, (found,))


# --- with an address ---


def _missing(case: Case) -> Iterator[Cause]:
    """A file that it needs is not there. Nothing of the boot came after it."""
    for at, event in case.boot.of(FileMissing):
        if event.harmless or case.after(at, FileSent) or case.result in GOOD:
            continue
        problem = f"it asked for {event.path} over {event.over}, which it cannot have: "
        problem += event.reason
        remedy = "put it there (daskel files add), or write the right path into the site file"
        if event.near:
            near = ", ".join(event.near)
            remedy = f"there is {near}: perhaps that is meant; write it into the site file"
        elif event.why is Missed.NOT_YOURS:
            remedy = f"daskel files show {event.path} --as {case.who} tells what it would get"
        yield Cause("file-missing", problem, remedy, ((at, event),))
        return


_OVER_HTTP = "until its firmware is corrected it may get the file over HTTP"
_ABORTS = {  # cause, what it means, what to do
    Abort.OPTIONS: ("options-refused", "it does not accept the options of the transfer",
                    _OVER_HTTP),
    Abort.NO_ROOM: ("too-large", "the file does not fit into its memory",
                    "hand out a smaller initrd or kernel, or give the machine more memory"),
    Abort.SILENT: ("link-lost", "it stopped answering in the middle",
                   "look at its cable, its switch port, and whether it was switched off"),
    Abort.CLOSED: ("client-gone", "it broke the connection",
                   "it was probably switched off or reset; look at its screen"),
    Abort.NOT_ALLOWED: ("not-allowed", "it may not deliver that file",
                        "let it with [upload] in the site file, if it is meant to"),
    Abort.BY_SERVER: ("server-failed", "the server could not go on",
                      "look at the file and the disk that it is on"),
}  # fmt: skip
_BROKEN_OFF = (
    "aborted", "why cannot be told from what it sent", "look at the machine's screen for more",
)  # fmt: skip


def _aborted(case: Case) -> Iterator[Cause]:
    for at, event in case.boot.of(FileAborted):
        if case.after(at, FileSent) or case.result in GOOD:
            continue
        cause, meaning, remedy = _ABORTS.get(event.why, _BROKEN_OFF)
        problem = f"{event.path} over {event.over} broke off: {event.reason} ({meaning})"
        yield Cause(cause, problem, remedy, ((at, event),))
        return


def _size_only(case: Case) -> Iterator[Cause]:
    """It asked how large a file is, and did not fetch it."""
    if case.result in GOOD or case.result == Result.UNDER_WAY:
        return
    last = case.files[-1:]
    if not last or last[0].end is not End.SIZED:
        return
    asked, fetch = case.last(FileAsked), last[0]
    assert asked and fetch.size is not None
    problem = f"it asked how large {fetch.path} is ({show_size(fetch.size)}), and did not fetch it"
    remedy = "it is probably too large for this firmware, or not what it expects: " + _LOADER
    yield Cause("size-only", problem, remedy, (asked,))


_LOADER = "daskel explain shows which boot file its firmware gets, and why"


def _loops(case: Case) -> Iterator[Cause]:
    """The machine begins again and again."""
    boots = [case.boot, *case.before]
    near = [b for b in boots if case.boot.began - b.began < _LOOP_TIME]
    stages = (Stage.ADDRESSED, Stage.LOADER, Stage.MENU, Stage.KERNEL, Stage.INITRD, Stage.RUNNING)
    same = [b for b in near if b.stage in stages]
    if len(same) >= _LOOPS and len(same) == len(near):
        furthest = max((b.stage for b in same), key=stages.index)
        problem = (
            f"it has begun {counted(len(same), 'time')}, and came no further than {furthest.value}"
        )
        span = show_duration(int(same[0].began - same[-1].began))
        remedy = "watch its screen while it starts; what is said below is of the last time"
        yield Cause("starts-over", f"{problem}, within {span}", remedy)


def _no_boot_file(case: Case) -> Iterator[Cause]:
    """It has an address and asked for nothing."""
    addressed = case.last(Addressed)
    if case.stage is not Stage.ADDRESSED or case.result != Result.STUCK or not addressed:
        return
    if case.files or case.last(Unanswered, OtherServer):
        return
    event = addressed[1]
    assert isinstance(event, Addressed)
    if not event.firmware:
        problem = "it got an address, and is not firmware that wants to boot"
        remedy = "switch on booting from the network in its firmware's settings"
        yield Cause("no-netboot", problem, remedy, (addressed,))
        return
    if event.boot_file is None:
        problem = "it got an address, and no boot file"
        yield Cause("no-boot-file", problem, _LOADER, (addressed,))
        return
    http = event.boot_file.startswith("http")
    port = "TCP port 80" if http else "UDP port 69"
    beside = event.lease == 0
    problem = f"it got {event.address} and never asked for its boot file {event.boot_file}"
    remedy = (
        f"{port} of this server is not reached (firewall), or "
        + ("the answer on UDP port 4011 is not; " if beside else "")
        + f"its firmware does not take this kind of file; {_LOADER}"
    )
    yield Cause("boot-file-not-asked", problem, remedy, (addressed,))


def _loader_stops(case: Case) -> Iterator[Cause]:
    sent = case.last(FileSent)
    if case.stage is not Stage.LOADER or case.result != Result.STUCK or not sent:
        return
    if any(fetch.end is not End.SENT for fetch in case.files) or case.last(Unanswered):
        return
    event = sent[1]
    assert isinstance(event, FileSent)
    seen = next((e for _, e in case.boot.of(Seen) if e.architecture is not None), None)
    uefi = seen is not None and is_uefi(seen.architecture)
    problem = f"it loaded {event.path} and did not come back for its menu"
    remedy = "its firmware cannot run this file, or the loader finds no network card; " + _LOADER
    if uefi:
        remedy = "Secure Boot refuses a loader that is not signed: switch it off; or " + remedy
    yield Cause("loader-stops", problem, remedy, (sent,))


def _menu_stops(case: Case) -> Iterator[Cause]:
    sent = case.last(FileSent)
    if case.stage is not Stage.MENU or case.result != Result.STUCK or not sent:
        return
    if any(fetch.end is not End.SENT for fetch in case.files) or case.last(Unanswered):
        return
    problem = "it has its menu, and fetched no kernel"
    remedy = "somebody chose the local disk, an entry waits for its password, or its key is held"
    yield Cause("menu-stops", problem, remedy, (sent,))


def _kernel_stops(case: Case) -> Iterator[Cause]:
    """Kernel and initrd are there, and nothing was heard of them."""
    if case.stage not in (Stage.KERNEL, Stage.INITRD) or case.result != Result.STUCK:
        return
    if any(
        f.end is not End.SENT for f in case.files if f.kind != FileKind.CONFIGURATION.value
    ) and (case.last(FileMissing, FileAborted) or case.last(Unanswered)):
        return
    sent, loaded = case.last(FileSent), case.boot.loaded
    if sent is None:
        return
    wanted = loaded.initrd if loaded else ()
    fetched = {plain(fetch.path) for fetch in case.files if fetch.end is End.SENT}
    if missing := [path for path in wanted if path not in fetched]:
        problem = f"it fetched its kernel, and not {missing[0]}"
        remedy = "the boot loader ran out of memory, or the machine was reset; look at its screen"
        yield Cause("no-initrd", problem, remedy, (sent,))
        return
    problem = "it fetched kernel and initrd, and nothing was heard of the system since"
    remedy = (
        "the initrd has no driver for its network card, or the kernel does not start on this "
        'machine: see its screen (args = ["console=ttyS0"] for a serial line), and '
        "daskel root inspect"
    )
    yield Cause("kernel-silent", problem, remedy, (sent,))


def _mount_refused(case: Case) -> Iterator[Cause]:
    found = case.last(MountRefused)
    if not found or case.result in GOOD or case.stage in (Stage.ROOT, Stage.UP):
        return
    event, loaded = found[1], case.boot.loaded
    assert isinstance(event, MountRefused)
    problem = f"its root was refused: {event.path or 'NFS'}: {event.reason}"
    asked = f"; it was told {_nfsroot(loaded)}" if loaded and _nfsroot(loaded) else ""
    remedy = "daskel check names what is missing from a root; daskel root list shows what there is"
    if event.why is MountRefusal.VERSION:
        remedy = "the root is mounted with NFS version 3 over TCP: nfsroot=...,nfsvers=3,tcp"
    elif event.why is MountRefusal.PORT:
        remedy = (
            "mount it as root, without noresvport, and not through address translation; "
            'ports = "any" in the table of the root lets every program of its clients in'
        )
    yield Cause("mount-refused", problem + asked, remedy, (found,))


def _no_mount(case: Case) -> Iterator[Cause]:
    if case.stage is not Stage.RUNNING or case.result != Result.STUCK:
        return
    if case.last(MountRefused) or case.last(Unanswered):
        return
    found, loaded = case.last(Addressed, Seen), case.boot.loaded
    told = _nfsroot(loaded) if loaded else ""
    problem = "its system runs and has an address, and never asked for its root"
    problem += f"; it was told {told}" if told else "; no nfsroot= was handed out"
    remedy = (
        "the initrd has no NFS client, or tries another server or version: look at its screen; "
        "daskel root inspect finds what is missing from the initrd"
    )
    yield Cause("no-mount", problem, remedy, (found,) if found else ())


def _nfsroot(loaded: Loaded) -> str:
    words = [word for word in loaded.arguments.split() if word.startswith("nfsroot=")]
    return words[-1] if words else ""


# --- while it runs ---


def _root_trouble(case: Case) -> Iterator[Cause]:
    for what, cause, problem, remedy in (
        (Trouble.FULL, "slate-full", "its slate of the root {} is full: it cannot write any more",
         "daskel slate show {} tells what takes the room; size = ... in the root's table is the "
         "limit; daskel slate wipe {} begins anew"),
        (Trouble.STALE, "stale", "it holds files of the root {} that are not there any more",
         "start it again: the root was replaced while it ran (seal versions instead of changing "
         "the tree in place)"),
    ):  # fmt: skip
        found = [(at, e) for at, e in case.boot.of(RootTrouble) if e.what is what]
        if found:
            where = found[-1][1].root
            said = remedy.replace("{}", case.who)
            yield Cause(cause, problem.format(where), said, (found[-1],))


def _differs(case: Case) -> Iterator[Cause]:
    """What it runs is not what it was told."""
    up: Up | None = case.boot.newest(Up)
    loaded = case.boot.loaded
    if up is None or loaded is None:
        return
    told, runs = _words(loaded.arguments), _words(up.arguments)
    missing, more = sorted(told - runs), sorted(runs - told)
    if not missing and not more:
        return
    parts = [f"without {' '.join(missing)}"] if missing else []
    parts += [f"with {' '.join(more)}"] if more else []
    problem = f"it runs {' and '.join(parts)}, unlike what was handed out"
    remedy = "somebody changed the line on its screen, or its boot loader adds to it"
    at = next(at for at, event in case.boot.of(Up) if event is up)
    yield Cause("differs", problem, remedy, ((at, up),))


def _words(arguments: str) -> set[str]:
    """Without what boot loaders add by themselves."""
    return {word for word in arguments.split() if not word.startswith("BOOT_IMAGE=")}


def _again(case: Case) -> Iterator[Cause]:
    """Many packets of a file had to be sent again."""
    worst = max(
        (f for f in case.files if f.size), key=lambda f: f.resent / (f.size or 1), default=None
    )
    if worst is None or not worst.size or worst.resent < 20:
        return
    part = worst.resent / (worst.size / _PACKET)
    if part >= _MANY_AGAIN:
        problem = f"{worst.resent} packets of {worst.path} had to be sent again ({part:.0%})"
        remedy = "look at its cable and switch port, and whether the line is overloaded"
        found = next((a, e) for a, e in case.boot.of(FileSent) if e.path == worst.path and e.resent)
        yield Cause("packets-lost", problem, remedy, (found,))


def _slow(case: Case) -> Iterator[Cause]:
    for stage, seconds in case.boot.durations.items():
        others = [boot.durations[stage] for boot in case.beside if stage in boot.durations]
        if len(others) < 3:
            continue
        usual = median(others)
        if seconds > _SLOW * usual and seconds - usual > _SLOW_TIME:
            problem = (
                f"from {stage.value} to the next stage took {show_duration(round(seconds))}, "
                f"its neighbours {show_duration(round(usual))}"
            )
            remedy = "look at its cable, its switch port (10 Mbit/s, half duplex?) and its memory"
            yield Cause("slow", problem, remedy)
            return


_TABLE: tuple[Find, ...] = (
    _lobby, _refused, _other_server, _in_use, _no_answer, _not_taken,
    _mount_refused, _missing, _aborted, _size_only, _no_boot_file, _loader_stops, _menu_stops,
    _kernel_stops, _no_mount, _root_trouble, _loops, _differs, _again, _slow,
)  # fmt: skip
