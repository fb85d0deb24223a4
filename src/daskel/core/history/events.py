"""What happened (events), and how far a boot has come because of it (stages).

Logs, views and diagnoses are all made from these events.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address, IPv6Address

from daskel.core.dhcp.needs import Need

Address = IPv4Address | IPv6Address


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


class Refusal(Enum):
    """Why a machine got no address, or no boot file."""

    UNKNOWN_NETWORK = "unknown network"
    LISTED = "listed"  # on the list `refuse` of its segment
    NOT_LISTED = "not listed"  # not on the list `allow`
    NOT_IN_SITE = "not in the site"
    NO_ADDRESS = "no address"  # none is free for it
    WRONG_NETWORK = "wrong network"  # it remembers an address of another one
    NO_BOOT_FILE = "no boot file"  # none for its firmware
    BY_ANOTHER = "by another server"
    SLATE_AWAY = "slate away"  # on another server, which does not run
    SLATE_MOVES = "slate moves"  # it is being copied to another server
    NO_STORE = "no store"  # what it would be given cannot be kept
    UNTOLD = "untold"  # an event of an older version


class Missed(Enum):
    """Why a file that was asked for was not sent."""

    ABSENT = "absent"
    NOT_ALLOWED = "not allowed"  # to the machine that asks, or to anybody
    NOT_YOURS = "another client's"
    UNTOLD = "untold"


class Abort(Enum):
    """Why a transfer ended before its file was whole."""

    OPTIONS = "options"  # the client accepts no such options (TFTP error 8, before any block)
    NO_ROOM = "no room"  # TFTP error 3
    BY_CLIENT = "by the client"  # it said so, and nothing more that can be relied on
    SILENT = "silent"  # no more answers
    CLOSED = "closed"  # its port or its connection
    NOT_ALLOWED = "not allowed"  # a delivery that no rule lets it make
    BY_SERVER = "by the server"
    NO_SIZE = "no size"  # the server did not tell it, and firmware needs it
    UNTOLD = "untold"


class MountRefusal(Enum):
    """Why a root could not be mounted."""

    ABSENT = "absent"
    NOT_ALLOWED = "not allowed"
    VERSION = "version"  # of NFS or MOUNT
    CREDENTIALS = "credentials"
    SLATE = "slate"  # which cannot be opened
    PORT = "port"  # that any program of the client may use
    OTHER = "other"
    UNTOLD = "untold"


class Trouble(Enum):
    """What a running client meets with its root."""

    FULL = "full"  # its slate
    STALE = "stale"  # a file or export that is not there any more


class Service(Enum):
    """What a client asks, as far as a silence is told apart."""

    DHCP = "dhcp"
    REQUEST = "request"  # DHCP, for the address that it was offered
    PXE = "pxe"  # port 4011
    TFTP = "tftp"
    HTTP = "http"
    NFS = "nfs"
    PORTMAP = "portmap"


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
    offered: Address | None = None  # the address that it is offered
    system: bool = False  # it is an operating system that asks
    ipv6: bool = False  # by DHCPv6
    over: str = ""  # MOP or RPL, of a machine that asks in raw Ethernet frames
    asks: str = ""  # for what, in words, of such a machine


@dataclass(frozen=True, slots=True)
class Waits(Event):
    """A machine that is not in the site shows on its screen that it waits in the lobby."""

    segment: str


@dataclass(frozen=True, slots=True)
class Addressed(Event):
    """A machine got an address, from Daskel or another server."""

    segment: str
    address: Address
    lease: int  # seconds
    boot_file: str | None  # empty: there may be one, which was not heard
    renewed: bool
    firmware: bool = False  # it was the firmware that asked
    by: Address | None = None  # another DHCP server, which was heard


@dataclass(frozen=True, slots=True)
class Refused(Event):
    """A DHCP request that got no address, a NAK, or no boot file, and why."""

    segment: str
    reason: str  # for people
    why: Refusal = Refusal.UNTOLD


@dataclass(frozen=True, slots=True)
class OtherServer(Event):
    """Another DHCP server speaks where Daskel is to be the only one."""

    segment: str
    server: Address
    how: str  # "offers 10.61.8.7", or "gave its address to this machine"


@dataclass(frozen=True, slots=True)
class GivenBack(Event):
    """An address that was released, or declined because somebody else has it."""

    segment: str
    address: Address
    declined: bool


@dataclass(frozen=True, slots=True)
class Contested(Event):
    """Another machine has the address that is this one's: it is not taken for it."""

    segment: str
    address: IPv4Address
    by: str  # MAC address of the machine that has it


@dataclass(frozen=True, slots=True)
class FileAsked(Event):
    """A file that is there was asked for: what follows is that it is sent, or breaks off."""

    path: str
    kind: FileKind
    size: int  # bytes
    over: str  # tftp, http or multicast


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
    """A file went to its end."""

    path: str
    kind: FileKind
    size: int  # bytes
    seconds: float
    over: str  # tftp, http or multicast
    resent: int = 0  # packets


@dataclass(frozen=True, slots=True)
class SentToAll(Event):
    """A file was sent to a multicast group."""

    path: str
    size: int  # bytes of the file
    sent: int  # bytes that were sent of it, what several missed once more
    receivers: int  # at the same time
    passes: int
    seconds: float


@dataclass(frozen=True, slots=True)
class FileMissing(Event):
    """A file that was asked for and not sent: it is not there, or nobody may have it."""

    path: str
    over: str
    reason: str  # for people
    harmless: bool = False  # who asks goes on without it
    why: Missed = Missed.UNTOLD
    near: tuple[str, ...] = ()  # files with nearly that name
    code: int | None = None  # the error of TFTP, or the status of HTTP


@dataclass(frozen=True, slots=True)
class FileAborted(Event):
    """A transfer ended before its file was whole."""

    path: str
    over: str
    reason: str  # for people
    why: Abort = Abort.UNTOLD
    code: int | None = None  # the client's error of TFTP


@dataclass(frozen=True, slots=True)
class FileReceived(Event):
    """A client delivered a file."""

    path: str
    size: int  # bytes
    seconds: float


@dataclass(frozen=True, slots=True)
class Mounted(Event):
    """A client mounted its root."""

    root: str
    how: str = "read-only"  # which version, and what the client may change


class ImageStep(Enum):
    """How far an initrd is that mounts its root from an image."""

    FETCHING = "fetching"  # into memory
    MOUNTED = "mounted"
    FAILED = "failed"
    TUNNEL = "tunnel"  # is up; a private root comes through it
    RECONNECTED = "reconnected"  # the connection of its block device was lost, and is there again


class ImageFailure(Enum):
    """Why it could not; the values are what the initrd says."""

    SERVER = "server"  # does not answer
    ABSENT = "absent"  # what it asked for
    DIGEST = "digest"  # is another one than it was told
    MEMORY = "memory"  # is too small
    MODULES = "modules"  # the kernel cannot do what is needed
    MOUNT = "mount"  # the image, or what is kept, cannot be mounted
    NETWORK = "network"  # no card, or no address
    KEY = "key"  # none that fits, or no place for one
    TUNNEL = "tunnel"  # nothing comes through it
    ARGUMENTS = "arguments"  # of the kernel: they do not say what to mount
    INTERNAL = "internal"  # anything else


@dataclass(frozen=True, slots=True)
class ImageTold(Event):
    """The initrd that mounts a root from an image tells how far it is."""

    step: ImageStep
    failure: ImageFailure | None = None
    text: str = ""  # for people
    size: int = 0  # bytes of the image
    seconds: float = 0.0  # that it took, or that the connection was lost


@dataclass(frozen=True, slots=True)
class MountRefused(Event):
    """A client could not mount what it asked for."""

    path: str
    reason: str  # for people
    why: MountRefusal = MountRefusal.UNTOLD
    code: int | None = None  # the status of MOUNT


@dataclass(frozen=True, slots=True)
class RootTrouble(Event):
    """NFS had to answer a client that runs with an error that its programs see."""

    what: Trouble
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

    what: Service
    asked: str  # the path, or what else it was about
    server: Address | None
    times: int
    closed: bool = False  # it was refused: nothing listens there


@dataclass(frozen=True, slots=True)
class Unfit(Event):
    """Only seen in a capture: no reply has what the firmware needs."""

    need: Need
    server: Address | None  # one that answered


@dataclass(frozen=True, slots=True)
class FileUntold(Event):
    """Only of a capture: a file was asked for, and how that ended is not in it. `proved`: what
    followed shows that the client got the file."""

    path: str
    kind: FileKind
    over: str
    proved: bool = False


@dataclass(frozen=True, slots=True)
class RawAsked(Event):
    """Only seen in a capture: a machine asks for a system in raw Ethernet frames, without IP."""

    protocol: str  # MOP or RPL
    asked: str  # for people: a file's name, or "a system"
    loaded: bool = False  # another machine sent it one, to its end
    trouble: RawTrouble | None = None
    times: int = 1  # requests; loads, where it asks again at once
    by: str = ""  # the MAC address of who answered
    seconds: float = 0.0  # from a load to the next request, or the end of the capture
    block: int = 0  # that was not acknowledged, or not sent
    size: int = 0  # bytes of that block


@dataclass(frozen=True, slots=True)
class ProcessEnded(Event):
    """One of the server's processes ended; it is started again after `seconds`."""

    what: str  # for people
    seconds: float


@dataclass(frozen=True, slots=True)
class LeftOut(Event):
    """Events of a kind that were not written one by one: there were too many."""

    kind: str  # the name of its class
    count: int


@dataclass(frozen=True, slots=True)
class Malformed(Event):
    """Malformed datagrams or calls: how many since the last such event."""

    service: str
    count: int
    example: str


OVER_RAW = ("MOP", "RPL")  # what machines ask by in raw Ethernet frames
DETAILS = (FileAsked, FileSized, Told)  # what only matters together with what follows it


class RawTrouble(Enum):
    """Why a machine that asked in raw Ethernet frames does not run."""

    SILENT = "silent"
    FRAMING = "framing"
    TOO_LARGE = "too large"
    NOT_ACKNOWLEDGED = "not acknowledged"
    NOT_SENT = "not sent"
    AGAIN = "again"


class FileKind(Enum):
    """What a file is to the boot of the one who asks."""

    LOADER = "loader"
    CONFIGURATION = "configuration"
    KERNEL = "kernel"
    INITRD = "initrd"
    UNIFIED = "unified image"  # of kernel, initrds and command line, which firmware starts
    IMAGE = "image"  # of a root
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
    address: Address | None = None

    def __str__(self) -> str:
        return self.name or self.mac or str(self.address or "somebody")
