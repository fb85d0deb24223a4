"""What happened (events), and how far a boot has come because of it (stages).

Logs, views and diagnoses are all made from these events.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address


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


class FileKind(Enum):
    """What a file is to the boot of the one who asks."""

    LOADER = "loader"
    CONFIGURATION = "configuration"
    KERNEL = "kernel"
    INITRD = "initrd"
    WAITING = "waiting screen"
    OTHER = "file"


@dataclass(frozen=True, slots=True)
class Loaded:
    """What a client is told to load: the loadout's name, paths, and the whole command line."""

    loadout: str
    kernel: str | None
    initrd: tuple[str, ...]
    arguments: str
    root: str | None


@dataclass(frozen=True, slots=True)
class Who:
    """As much as is known of somebody who asks; `name` only for clients of the site."""

    name: str | None = None
    mac: str | None = None
    address: IPv4Address | None = None

    def __str__(self) -> str:
        return self.name or self.mac or str(self.address or "somebody")
