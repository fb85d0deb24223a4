"""What happened (events), and how far a boot has come because of it (stages).

Logs, views and diagnoses are all made from these events.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address

from daskel.core.boot.files import FileKind, Loaded
from daskel.core.boot.identity import Who


class Stage(Enum):
    """In the order of a boot."""

    SEEN = "seen"
    ADDRESSED = "addressed"
    LOADER = "loader"
    MENU = "menu"
    KERNEL = "kernel"
    INITRD = "initrd"
    RUNNING = "running kernel"
    ROOT = "root"
    UP = "up"
    LOCAL = "local disk"
    LOBBY = "lobby"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened to, or because of, `who`."""

    who: Who


@dataclass(frozen=True, slots=True)
class Seen(Event):
    """A machine asked for an address. `firmware` in words when it wants to boot."""

    segment: str
    firmware: str | None
    vendor_class: str
    architecture: int | None = None
    machine_id: str = ""  # hexadecimal, option 97; empty when it has none
    relay: str = ""  # the relay agent that passed it on, with what it says of the port
    offered: IPv4Address | None = None  # the address that it is offered


@dataclass(frozen=True, slots=True)
class Waits(Event):
    """A machine that is not in the site shows on its screen that it waits in the lobby."""

    segment: str


@dataclass(frozen=True, slots=True)
class Addressed(Event):
    segment: str
    address: IPv4Address
    lease: int  # seconds
    boot_file: str | None
    renewed: bool
    firmware: bool = False  # it was the firmware that asked
    by: IPv4Address | None = None  # another DHCP server, which was heard


@dataclass(frozen=True, slots=True)
class Refused(Event):
    """A DHCP request that got no address, a NAK, or no boot file, and why."""

    segment: str
    reason: str


@dataclass(frozen=True, slots=True)
class OtherServer(Event):
    """Another DHCP server speaks where Daskel is to be the only one."""

    segment: str
    server: IPv4Address
    how: str  # "offers 10.61.8.7", or "gave its address to this machine"


@dataclass(frozen=True, slots=True)
class GivenBack(Event):
    """An address that was released, or declined because somebody else has it."""

    segment: str
    address: IPv4Address
    declined: bool


@dataclass(frozen=True, slots=True)
class FileAsked(Event):
    """A file that is there was asked for: what follows is that it is sent, or breaks off."""

    path: str
    kind: FileKind
    size: int  # bytes
    over: str  # tftp or http


@dataclass(frozen=True, slots=True)
class FileSized(Event):
    """A file that was asked for its size alone; firmware does so, and then fetches it."""

    path: str
    over: str


@dataclass(frozen=True, slots=True)
class Told(Event):
    """The loadouts of a configuration that was handed out, the one that boots by itself first."""

    loadouts: tuple[Loaded, ...]


@dataclass(frozen=True, slots=True)
class FileSent(Event):
    path: str
    kind: FileKind
    size: int  # bytes
    seconds: float
    over: str  # tftp or http
    resent: int = 0  # packets


@dataclass(frozen=True, slots=True)
class FileMissing(Event):
    """A file that was asked for and not sent: it is not there, or nobody may have it."""

    path: str
    over: str
    reason: str
    harmless: bool = False  # who asks goes on without it


@dataclass(frozen=True, slots=True)
class FileAborted(Event):
    path: str
    over: str
    reason: str


@dataclass(frozen=True, slots=True)
class FileReceived(Event):
    """A client delivered a file."""

    path: str
    size: int  # bytes
    seconds: float


@dataclass(frozen=True, slots=True)
class Mounted(Event):
    root: str
    how: str = "read-only"  # which version, and what the client may change


@dataclass(frozen=True, slots=True)
class MountRefused(Event):
    path: str
    reason: str


@dataclass(frozen=True, slots=True)
class RootTrouble(Event):
    """NFS had to answer a client that runs with an error that its programs see."""

    what: str  # `full`: its slate; `stale`: a file or export that is not there any more
    root: str


@dataclass(frozen=True, slots=True)
class Up(Event):
    """The client itself tells that its system runs, and with what."""

    uptime: float  # seconds since its kernel started
    kernel: str  # release
    arguments: str  # /proc/cmdline


@dataclass(frozen=True, slots=True)
class Unanswered(Event):
    """Only seen in a capture: nobody answered what a client asked, however often."""

    what: str  # dhcp, pxe, tftp, http, nfs or portmap
    asked: str  # the path, or what else it was about
    server: IPv4Address | None
    times: int
    closed: bool = False  # it was refused: nothing listens there


@dataclass(frozen=True, slots=True)
class Malformed(Event):
    """Datagrams or calls that are no messages: how many since the last such event."""

    service: str
    count: int
    example: str


DETAILS = (FileAsked, FileSized, Told)  # what only matters together with what follows it
_BY_KIND = {
    FileKind.LOADER: Stage.LOADER,
    FileKind.CONFIGURATION: Stage.MENU,
    FileKind.KERNEL: Stage.KERNEL,
    FileKind.INITRD: Stage.INITRD,
}
_ORDER = list(Stage)


def stage_after(stage: Stage | None, event: Event) -> Stage | None:
    """How far a boot has come after `event`. A firmware's new DISCOVER begins the next boot.

    The system's own DHCP, after its initrd was loaded, shows that its kernel runs.
    """
    reached: Stage | None = None
    if isinstance(event, Seen):
        if event.firmware or stage is None:
            return Stage.SEEN
        reached = Stage.RUNNING if stage in (Stage.KERNEL, Stage.INITRD) else None
    elif isinstance(event, Addressed):
        reached = Stage.ADDRESSED
        if event.firmware and event.boot_file is None:
            reached = Stage.LOCAL if stage in (None, Stage.SEEN) else None
    elif isinstance(event, FileSent):
        reached = _BY_KIND.get(event.kind)
    elif isinstance(event, Waits):
        return Stage.LOBBY
    elif isinstance(event, Mounted):
        reached = Stage.ROOT
    elif isinstance(event, Up):
        reached = Stage.UP
    elif isinstance(event, OtherServer):
        return Stage.ADDRESSED if stage is Stage.LOCAL else stage
    elif isinstance(event, (Refused, MountRefused)):
        return Stage.REFUSED if stage in (None, Stage.SEEN, Stage.LOCAL) else stage
    if reached is None or stage in (Stage.REFUSED, Stage.LOBBY, Stage.LOCAL):
        return reached or stage
    return reached if stage is None or _ORDER.index(reached) > _ORDER.index(stage) else stage
