"""What `--json` prints of this machine and of the site. The comments behind the keys are their
reference."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from daskel.core.formats.shared import FindingFormat, Place

_For = TypedDict("_For", {"for": str})  # a word of Python
_FromPlace = TypedDict("_FromPlace", {"from": Place | None})  # a word of Python


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


class NetworkTold(TypedDict):
    """An IPv6 network that a router tells of."""

    network: str
    slaac: bool  # machines make addresses of their own in it


class RouterRow(TypedDict):
    """Who sent a router advertisement."""

    address: str
    routes: bool  # false: it tells of networks, and is not a router
    by_dhcp: bool  # addresses are given by DHCPv6
    networks: list[NetworkTold]


class SixOffer(TypedDict):
    """What a DHCPv6 server answered."""

    server: str
    asked_as: str
    address: str | None
    boot_file: str | None


class OverIpv6(TypedDict):
    """Who answers on a wire over IPv6."""

    routers: list[RouterRow]
    offers: list[SixOffer]


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


class ConsoleRow(TypedDict):
    """A machine that says in raw Ethernet frames (MOP) what it is."""

    mac: str
    device: str
    functions: list[str]
    more: list[str]  # version, address, and items that nobody knows, for people


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
    ipv6: OverIpv6 | None  # null: nobody was asked, or nobody can be
    consoles: list[ConsoleRow] | None  # null: nobody was asked


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


class KeyShown(TypedDict):
    """The site's own key."""

    name: str  # in its certificate
    sha256: str  # of the certificate
    until: str
    certificate: str  # a file
    key: str  # a file
    clients: dict[str, int]  # that trust it, by where they have it: mok, db


class NoKey(TypedDict):
    """The site has none."""

    name: None


class Enrolment(TypedDict):
    """How machines come to trust the site's key."""

    certificate: str  # a file in DER form
    steps: dict[str, list[str]]  # by where: mok, db; the first one says for whom it is


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
    server: str | None  # of several
    parts: list[HandoffPart]
    machines: list[HandoffMachine]


class Zone(TypedDict):
    """The same as DNS records (`--dns`)."""

    segment: str
    zone: list[str]
