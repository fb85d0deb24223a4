"""What `--json` prints, by command. The comments behind the keys are their reference."""

from __future__ import annotations

from typing import Any, NotRequired

from typing_extensions import TypedDict

from daskel.core.formats.shared import CauseFormat, FetchFormat, FindingFormat, Place

# keys that are words of Python
_For = TypedDict("_For", {"for": str})
_From = TypedDict("_From", {"from": str})
_FromPlace = TypedDict("_FromPlace", {"from": Place | None})

# --- look, begin ---


class InterfaceAddress(TypedDict):
    """An address of a network interface."""

    address: str  # with the network's length
    fixed: bool  # false: it came from DHCP


class InterfaceRow(TypedDict):
    """A network interface of this machine."""

    name: str
    mac: str | None
    link: bool
    addresses: list[InterfaceAddress]


class PortHolder(TypedDict):
    """A process of this machine."""

    process: int
    name: str


class PortRow(_For):
    """A port that Daskel needs, and what `for`."""

    port: int
    protocol: str  # udp or tcp
    free: bool
    by: PortHolder | None  # who holds it, as far as this user may see


class OfferRow(TypedDict):
    """What a DHCP server answered."""

    server: str
    mac: str
    asked_as: str  # the firmware that it was asked as
    address: str | None
    next_server: str | None
    boot_file: str | None
    options: dict[str, str]  # by number, in hexadecimal


class NeedRow(TypedDict):
    """What is missing here."""

    what: str
    kind: str  # program, folder, file system or account
    why: str
    debian: str | None  # the package that has it
    fedora: str | None
    always: bool  # false: only one command needs it


class PortFate(TypedDict):
    """What the firewall does to what clients send."""

    protocol: str
    port: int
    fate: str  # accepted, dropped, or: it depends


class FreeSpace(TypedDict):
    """Room on a disk."""

    folder: str
    free: int


class Survey(TypedDict):
    """What this machine and its networks are like."""

    interfaces: list[InterfaceRow]
    overlaps: list[str]
    free: list[str]  # private networks that overlap none of this machine's
    ports: list[PortRow]
    missing: list[NeedRow]
    install: str | None  # the command that brings what a package has
    firewall: list[PortFate] | None  # null: it cannot be seen
    space: list[FreeSpace]
    wire: str | None  # the interface on which DHCP servers were asked
    offers: list[OfferRow] | None  # null: nobody was asked


class NewSiteMade(TypedDict):
    """A site file that was written."""

    site: str
    good: bool


class KeyText(TypedDict):
    """A key of the site file."""

    path: str  # like segment.pool
    table: str
    name: str
    text: str
    kind: str  # what its value is, in words
    unit: str
    default: str | None
    required: bool
    example: str
    wrong: str
    said: str  # what `check` says of the wrong value
    since: str
    at_start: bool  # a running server takes it over only when it starts again


# --- roots, slates, files ---


class RootRow(TypedDict):
    """A root filesystem."""

    root: str
    used: int  # the version that clients get; 0: the working tree
    versions: list[int]
    there: bool  # its folder is
    size: int | None
    slate: str  # none, fresh or keep
    limit: int | None  # of one slate
    slates: int
    loadouts: list[str]


class VersionRow(TypedDict):
    """A sealed version of a root."""

    version: int
    used: bool
    sealed: float
    files: int
    size: int
    new: int  # bytes that it does not share with the version before
    note: str
    slates: list[str]  # the clients whose slates are on it


class RootShown(TypedDict):
    """One root, whole."""

    root: str
    tree: str  # the folder of its working tree
    versions: list[VersionRow]


class KernelRow(TypedDict):
    """A kernel in a root's /boot."""

    path: str
    release: str | None
    processor: str | None
    initrd: str | None


class RootMade(TypedDict):
    """A root that was built or brought in; what became of the site file where it was changed."""

    root: str
    tree: str
    made_of: str
    kernels: list[KernelRow]
    written: NotRequired[bool]
    files: NotRequired[list[str]]  # of the site
    said: NotRequired[str]
    findings: NotRequired[list[FindingFormat]]  # why the site file was not changed


class RootFiles(TypedDict):
    """What was copied below `files`."""

    root: str
    release: str | None
    files: list[str]


class RootInspected(TypedDict):
    """Whether it can be booted without a disk."""

    root: str
    version: int
    findings: list[FindingFormat]


class RootSealed(TypedDict):
    """A new version."""

    root: str
    version: int
    used: int
    new: int
    size: int
    files: int
    forgotten: list[str]  # what was left out


class RootUsed(TypedDict):
    """The version that clients get from now on."""

    root: str
    used: int
    before: int


class RootDropped(TypedDict):
    """A version that is gone."""

    root: str
    dropped: int


class PathChange(TypedDict):
    """A path that differs."""

    path: str
    what: str  # added, removed or changed


class PackageChange(TypedDict):
    """A package that differs."""

    name: str
    before: str | None
    after: str | None


class RootDifference(TypedDict):
    """What differs between two versions."""

    paths: list[PathChange]
    packages: list[PackageChange]


class SlateRow(TypedDict):
    """What one client has on top of a root."""

    client: str
    root: str
    version: int  # that it is on
    size: int
    files: int
    frozen: bool
    made: float
    used: float  # last
    known: bool  # client and root are in the site
    kind: str  # fresh or keep; "" when not known
    limit: int | None
    connected: bool


class SlateChange(TypedDict):
    """A path that a client changed."""

    path: str
    what: str
    size: int


class SlateWiped(TypedDict):
    """A slate that begins anew."""

    wiped: str  # whose
    root: str


class Conflict(TypedDict):
    """What both the client and the version changed."""

    path: str
    version: str  # what the version did to it
    taken: bool  # the version's is taken


class SlateMoved(TypedDict):
    """A slate on another version."""

    client: str
    version: int
    conflicts: list[Conflict]


class FileRow(_From):
    """A file that clients can fetch, and where it comes `from`."""

    path: str
    size: int | None  # null: it is computed
    what: str


class FileShown(FileRow):
    """A file as a client gets it."""

    text: str | None  # null: it is not text


class BootFileFound(TypedDict):
    """A kernel or an initrd that was recognised."""

    path: str
    what: str
    size: int
    release: NotRequired[str]
    processor: NotRequired[str]


class FilesAdded(TypedDict):
    """What was brought in."""

    folder: str
    files: int
    found: list[BootFileFound]


# --- assign ---


class ClientRow(TypedDict):
    """A client, as it counts."""

    name: str
    mac: str
    group: str
    segment: str | None
    address: str
    boot: str | None
    once: str | None  # what it boots next, and only then


class GroupRow(TypedDict):
    """A group."""

    name: str
    segment: str | None
    boot: str | None
    clients: int


class LoadoutRow(TypedDict):
    """A loadout."""

    name: str
    boots: str | None
    root: str | None
    clients: int  # that can get it


class ExportRow(TypedDict):
    """A client as a row of a spreadsheet."""

    name: str
    mac: str
    group: str
    address: str
    boot: str
    args: str


class Changed(TypedDict):
    """What became of a change of the site file."""

    written: bool
    files: NotRequired[list[str]]  # that changed
    said: NotRequired[str]
    findings: NotRequired[list[FindingFormat]]  # why nothing was written


class SightingRow(TypedDict):
    """A machine that waits in the lobby."""

    mac: str
    segment: str
    architecture: int | None  # its type, RFC 4578
    firmware: str | None
    vendor_class: str
    machine_id: str  # hexadecimal
    first: float
    last: float
    times: int
    relay: str | None


# --- be sure ---


class Checked(TypedDict):
    """All findings."""

    site: str
    good: bool  # the server would start with it
    findings: list[FindingFormat]


class ExplainedValue(_FromPlace):
    """A value that a client gets, and `from` which place."""

    name: str
    option: int | None  # its number in DHCP
    value: str


class ExplainedStep(TypedDict):
    """A message or a file of a boot."""

    title: str
    values: list[ExplainedValue]
    text: str | None


class Overridden(_FromPlace):
    """A value that another one replaced."""

    what: str
    value: str
    by: Place | None


class Explained(TypedDict):
    """What one client gets, step by step."""

    client: str
    mac: str
    segment: str
    firmware: str
    problem: str | None  # why it does not boot
    overridden: list[Overridden]
    steps: list[ExplainedStep]


class HandoffRow(_FromPlace):
    """An option to type in."""

    condition: str | None  # what the firmware sends; null: always
    option: int | None
    name: str
    type: str
    value: str
    hex: str


class HandoffPart(TypedDict):
    """Options for the same clients."""

    clients: list[str] | None  # null: every machine
    rows: list[HandoffRow]


class HandoffMachine(TypedDict):
    """What is to be typed in for one machine."""

    client: str
    mac: str
    address: str | None


class Handoff(TypedDict):
    """What must be typed into another DHCP server."""

    segment: str
    dhcp: str
    parts: list[HandoffPart]
    machines: list[HandoffMachine]


class Zone(TypedDict):
    """The same as DNS records (`--dns`)."""

    segment: str
    zone: list[str]


# --- try ---


class FetchedFile(TypedDict):
    """A file that a simulated client fetched, or read from its root."""

    what: str
    path: str
    bytes: int
    sha256: str


class RehearsedClient(TypedDict):
    """How far a simulated client came."""

    client: str
    mac: str
    firmware: str
    address: str | None
    stage: str
    good: bool
    problem: str | None
    finding: CauseFormat | None
    seconds: float
    asked_again: int
    command_line: str
    note: str | None
    loadout: str
    warnings: list[str]
    files: list[FetchedFile]


class Rehearsal(TypedDict):
    """Boots of simulated clients."""

    good: bool
    clients: list[RehearsedClient]


class Busy(TypedDict):
    """Shares of one processor that were used, and of the disk's time."""

    server: float
    nfs: float
    clients: float
    machine: float
    disk: float


class Spread(TypedDict):
    """Seconds."""

    median: float
    p95: float
    longest: float


class Storm(TypedDict):
    """Many clients at once (`--storm`)."""

    good: bool
    clients: int
    up: int
    within: int
    seconds: float
    bytes: int
    asked_again: int
    limit: str
    busy: Busy
    stages: dict[str, Spread]
    failed: list[RehearsedClient]


class Machine(TypedDict):
    """A virtual machine (`--machine`)."""

    client: str
    firmware: str
    good: bool
    result: str
    stage: str | None
    seconds: float | None
    files: list[FetchFormat]
    findings: list[CauseFormat]
    kept: list[str]  # files


class DemoClient(TypedDict):
    """A client of the demo site."""

    client: str
    mac: str
    firmware: str
    loadout: str
    address: str | None
    stage: str
    problem: str | None
    seconds: float
    command_line: str
    files: list[FetchedFile]


class Demo(TypedDict):
    """All of the demo."""

    good: bool
    clients: list[DemoClient]


# --- see, plan ---


class BootRow(TypedDict):
    """A past boot."""

    number: int
    client: str | None
    mac: str
    began: float
    segment: str
    firmware: str
    address: str | None
    loadout: str | None
    root: str | None
    files: int  # that were sent to their end
    bytes: int
    resent: int  # packets
    seconds: float
    stage: str
    result: str
    kernel: str | None  # the release that it told when it was up


class BootShown(TypedDict):
    """A past boot, whole; its events are described in [events](events.md)."""

    number: int
    mac: str
    client: str | None
    began: float
    last: float
    stage: str
    events: list[tuple[float, dict[str, Any]]]
    result: str
    firmware: str
    address: str | None
    root: str | None
    durations: dict[str, float]  # seconds in each stage
    files: list[FetchFormat]
    findings: list[CauseFormat]


class BootsPlotted(TypedDict):
    """A picture that was drawn."""

    file: str
    boots: int


class ReportDay(TypedDict):
    """A day on which something booted."""

    day: str
    boots: int  # that are over
    good: int
    median: float | None
    slowest: float | None
    slowest_client: str | None


class ReportFailure(TypedDict):
    """Why boots failed."""

    cause: str
    problem: str  # of the newest
    times: int
    clients: list[str]


class ReportMachine(TypedDict):
    """A client's week."""

    client: str
    boots: int
    failed: int
    median: float | None
    before: float | None  # the week before, where there are enough boots of both
    slower: bool  # 1.3 times and more
    fails_often: bool  # twice and more, and a quarter of its boots


class WeekReport(TypedDict):
    """A week of boots."""

    monday: str
    days: list[ReportDay]
    failures: list[ReportFailure]
    machines: list[ReportMachine]


class Diagnosed(TypedDict):
    """A boot, and why it came no further."""

    client: str | None
    mac: str
    result: str | None
    findings: list[CauseFormat]
    boot: NotRequired[int]
    began: NotRequired[float]
    stage: NotRequired[str]
    firmware: NotRequired[str | None]
    address: NotRequired[str | None]
    cannot_see: NotRequired[list[str]]  # what a capture does not show


class ForecastClient(TypedDict):
    """When one client has its root."""

    client: str
    firmware: str
    loadout: str
    bytes: int
    seconds: float
    stages: dict[str, float]  # when each ends, from power-on


class ForecastFormat(TypedDict):
    """How long clients take."""

    clients: list[ForecastClient]
    within: int
    link: float  # bytes per second
    limits: dict[str, str]  # by stage
    assumed: list[str]


class WokenClient(TypedDict):
    """A machine that was asked to come."""

    client: str
    mac: str
    to: str  # the address that its magic packet went to
    asked: list[float]
    came: float | None  # seconds from the first packet until it was heard


class Woken(TypedDict):
    """Who came."""

    good: bool
    seen: bool  # a server runs, which sees who comes
    pause: float  # seconds between two machines
    clients: list[WokenClient]


class StoreHealth(TypedDict):
    """A store, or a copy of it."""

    file: str
    rows: dict[str, int]  # by table
    problems: list[str]


class StoreChecked(TypedDict):
    """The store and its copies."""

    whole: bool
    stores: list[StoreHealth]


_Restored = TypedDict("_Restored", {"from": NotRequired[str]})


class StoreRestored(_Restored):
    """What was put in the place of a damaged store, and `from` which copy."""

    restored: str | None  # null: it is whole
    damaged: NotRequired[str]  # where the damaged one is kept
