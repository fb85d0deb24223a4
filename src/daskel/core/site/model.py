"""What a site file may say: one class for each kind of table, and the site as a whole."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from ipaddress import IPv4Address, IPv4Network
from types import MappingProxyType
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from daskel.core.site.positions import Origin, Path, Sources
from daskel.core.values import parse_duration, parse_mac, parse_size

HOST_NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?", re.IGNORECASE)
UNKNOWN = ("lobby", "refuse", "address-only")  # what a segment can do with them, besides a loadout


class Range(NamedTuple):
    """Addresses from `first` to `last`, both included."""

    first: IPv4Address
    last: IPv4Address

    def __contains__(self, address: object) -> bool:
        return isinstance(address, IPv4Address) and self.first <= address <= self.last

    @property
    def size(self) -> int:
        """How many addresses it has."""
        return int(self.last) - int(self.first) + 1

    def __str__(self) -> str:
        return f"{self.first} - {self.last}"


def _text(value: object, wanted: str) -> str:
    if not isinstance(value, str):
        raise ValueError(f"must be text in quotes; write {wanted}")
    return value.strip()


def _address(value: object) -> IPv4Address:
    text = _text(value, 'an address like "10.61.8.1"')
    try:
        return IPv4Address(text)
    except ValueError:
        raise ValueError("is not an IPv4 address; write four numbers like 10.61.8.1") from None


def _network(value: object) -> IPv4Network:
    text = _text(value, 'a network like "10.61.8.0/24"')
    try:
        return IPv4Network(text)
    except ValueError:
        pass
    try:
        meant = IPv4Network(text, strict=False)
    except ValueError:
        raise ValueError("is not a network; write one like 10.61.8.0/24") from None
    raise ValueError(f"is an address inside a network; did you mean {meant}?")


def parse_range(value: object) -> Range:
    """`"10.61.8.100 - 10.61.8.199"`, or one address. Raises ValueError with a sentence."""
    text = _text(value, 'a range like "10.61.8.100 - 10.61.8.199"')
    parts = [part.strip() for part in re.split(r"\s*(?:-|\.\.|\bto\b)\s*", text) if part.strip()]
    try:
        ends = [IPv4Address(part) for part in parts]
    except ValueError:
        ends = []
    if len(ends) not in (1, 2):
        raise ValueError('is not a range; write one like "10.61.8.100 - 10.61.8.199"')
    if ends[0] > ends[-1]:
        raise ValueError(f"ends before it begins; did you mean {ends[1]} - {ends[0]}?")
    return Range(ends[0], ends[-1])


def _mac(value: object) -> str:
    return parse_mac(_text(value, 'a MAC address like "02:61:08:00:00:01"'))


def _duration(value: object) -> int:
    return parse_duration(_text(value, 'a duration with its unit, like "8h"'))


def _size(value: object) -> int:
    return parse_size(_text(value, 'a size with its unit, like "2 GiB"'))


def _rate(value: object) -> int:
    text = _text(value, 'a size per second, like "40 MiB/s"')
    size, slash, second = text.partition("/")
    rate = parse_size(size) if slash and second.strip() == "s" else 0
    if rate < 1024:
        raise ValueError('is not a size per second; write one like "40 MiB/s", 1 KiB/s at least')
    return rate


def _listens(value: object) -> object:
    text = _text(value, 'an address and a port, like "127.0.0.1:9461"')
    address, _, port = text.rpartition(":")
    if not (port.isdigit() and 0 < int(port) < 65536):
        raise ValueError('has no port; write an address and a port, like "127.0.0.1:9461"')
    return _address(address), int(port)


def _names(value: object) -> object:
    return [value] if isinstance(value, str) else value


# Where spaces are part of one argument: templates, and what is between double quotes
_NO_SPACES = re.compile(r"\{\{.*?(?:\}\}|$)|\{%.*?(?:%\}|$)|\"[^\"]*\"")
_SRV = re.compile(r"_([A-Za-z0-9-]{1,15})\._(tcp|udp) ([0-9]{1,5})")


def _srv(value: object) -> str:
    text = _text(value, 'a service like "_broker._tcp 443"')
    if not _SRV.fullmatch(text):
        raise ValueError('is not a service with its port; write one like "_broker._tcp 443"')
    return text


def _list(value: object) -> object:
    return value if isinstance(value, list) else [value]


def _argument(value: object) -> str:
    text = _text(value, 'a kernel argument like "quiet"')
    if not text or not text.isprintable():
        raise ValueError("is empty or has a line break or control character in it")
    bare = _NO_SPACES.sub("", text)
    if '"' in bare:
        raise ValueError('has a double quote without another one; write two: key="a b"')
    if re.search(r"\s", bare):
        words = ", ".join(f'"{word}"' for word in text.split())
        key, _, value = text.partition("=")
        quoted = f"'{key}=\"{value}\"'" if value and '"' not in text else "'key=\"a b\"'"
        raise ValueError(
            f"has a space in it; write several arguments: {words}; or, for one with a space, "
            f"double quotes around its value: {quoted}"
        )
    return text


def _title(value: object) -> str:
    text = _text(value, "a title")
    if not text or not text.isprintable():
        raise ValueError("is empty or has a line break or control character in it")
    return text


def _password(value: object) -> str:
    text = _text(value, "the hash of a password")
    if not re.fullmatch(r"grub\.pbkdf2\.sha512\.\d+\.[0-9A-Fa-f]+\.[0-9A-Fa-f]+", text):
        raise ValueError(
            "is not a hash; write what grub-mkpasswd-pbkdf2 prints: grub.pbkdf2.sha512..."
        )
    return text


def _prefix(value: object) -> str:
    """A MAC address, or the beginning of one, as pairs with colons."""
    text = _text(value, 'a MAC address or its beginning, like "02:61:08"')
    digits = re.sub(r"[\s:.\-]", "", text).lower().rstrip("*")
    if not re.fullmatch(r"(?:[0-9a-f]{2}){1,6}", digits):
        raise ValueError(
            "is neither a MAC address nor the beginning of one; write pairs like 02:61:08"
        )
    return ":".join(digits[i : i + 2] for i in range(0, len(digits), 2))


def _option_value(value: object) -> object:
    items = value if isinstance(value, list) else [value]
    if not all(isinstance(item, (bool, int, str)) for item in items):
        raise ValueError("must be a text, a whole number, true, false, or a list of these")
    return value


Address = Annotated[IPv4Address, BeforeValidator(_address)]
Network = Annotated[IPv4Network, BeforeValidator(_network)]
AddressRange = Annotated[Range, BeforeValidator(parse_range)]
Mac = Annotated[str, BeforeValidator(_mac)]
Duration = Annotated[int, BeforeValidator(_duration)]  # seconds
Size = Annotated[int, BeforeValidator(_size)]  # bytes
Rate = Annotated[int, BeforeValidator(_rate)]  # bytes per second
SlateKind = Literal["none", "fresh", "keep"]
Names = Annotated[tuple[str, ...], BeforeValidator(_names)]
Title = Annotated[str, BeforeValidator(_title)]
MacPrefix = Annotated[str, BeforeValidator(_prefix)]
Argument = Annotated[str, BeforeValidator(_argument)]
OptionValue = bool | int | str | tuple[bool | int | str, ...]  # false: switched off
Options = Mapping[str, Annotated[OptionValue, BeforeValidator(_option_value)]]


def _boot_files(value: object) -> object:
    return {"default": value} if isinstance(value, str) else value


BootFiles = Annotated[Mapping[str, Title], BeforeValidator(_boot_files)]


OWN_FILES = {  # in a client's view of a root, never in the root itself
    "etc/hostname": "{{ client.name }}\n",
    "etc/hosts": "127.0.0.1 localhost\n127.0.1.1 {{ client.name }}\n::1 localhost\n"
    "{{ segment.server }} daskel\n",
    "etc/machine-id": "{{ client.machine_id }}\n",
    "etc/fstab": "# The root comes from the network; there is no disk to wait for.\n"
    "{{ root.export }} / nfs defaults 0 0\n",
}
FORGET = (  # what makes one machine out of a system that is to be many
    "etc/machine-id",
    "var/lib/dbus/machine-id",
    "etc/ssh/ssh_host_*_key*",
    "var/lib/systemd/random-seed",
    "etc/udev/rules.d/70-persistent-net.rules",
    "etc/adjtime",
    "var/lib/dhcp/*",
    "var/lib/NetworkManager/*",
    "var/log/**",
    "var/cache/apt/archives/*.deb",
    "tmp/*",
    "var/tmp/*",
    "root/.bash_history",
)


class Table(BaseModel):
    """Keys are written with dashes; unknown keys are errors."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        populate_by_name=True,
        alias_generator=lambda name: name.replace("_", "-"),
    )


Loader = Literal["bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm"]


class LayerTable(Table):
    """A table that is a layer: it can say arguments and options."""

    args: tuple[Argument, ...] = ()
    options: Options = {}
    boot_file: BootFiles = {}  # by the name of a [firmware] or an architecture; or `default`


class Https(Table):
    """Files in PEM form, relative to the site file; the key without a password."""

    certificate: str
    key: str


_AT_START: dict[str, Any] = {
    "restart": True
}  # a server takes over another value only when it starts again


def needs_restart(table: type[Table]) -> list[str]:
    """The keys whose values a server reads at its start alone."""
    fields = table.model_fields.items()
    return [key for key, field in fields if field.json_schema_extra == _AT_START]


class SiteTable(LayerTable):
    """What holds for the whole server."""

    name: str = "Daskel"
    files: str = Field("files", json_schema_extra=_AT_START)
    roots: str = Field("/srv/daskel/roots", json_schema_extra=_AT_START)
    slates: str = Field("/srv/daskel/slates", json_schema_extra=_AT_START)
    # what clients deliver, where an [upload] allows it
    uploads: str = Field("uploads", json_schema_extra=_AT_START)
    # whose NFS server
    nfs: Literal["daskel", "kernel"] = Field("daskel", json_schema_extra=_AT_START)
    tftp_window: int = Field(16, ge=1, le=128)  # blocks; more overruns the buffers of most firmware
    # whose the server is, once its ports are open; root's without
    account: str | None = Field(None, json_schema_extra=_AT_START)
    # the same files as over HTTP, also over HTTPS
    https: Https | None = Field(None, json_schema_extra=_AT_START)
    state: str = Field("/var/lib/daskel/state.db", json_schema_extra=_AT_START)
    keep_boots: Duration = 90 * 86400  # how long boots are remembered
    metrics: Annotated[tuple[IPv4Address, int] | None, BeforeValidator(_listens)] = None
    # the boot loaders that may be handed out; what is missing is built where its package is there
    loaders: tuple[Loader, ...] = ("bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm")


class Segment(LayerTable):
    """One network of clients."""

    network: Network
    server: Address = Field(json_schema_extra=_AT_START)
    dhcp: Literal["full", "proxy", "off"] = Field(json_schema_extra=_AT_START)
    interface: str | None = Field(None, json_schema_extra=_AT_START)
    # relay agents that clients may come through
    relays: tuple[Address, ...] = Field((), json_schema_extra=_AT_START)
    # the segment whose wire this one is on, too
    shares: str | None = Field(None, json_schema_extra=_AT_START)
    pool: tuple[AddressRange, ...] = ()
    router: Address | None = None
    name_servers: tuple[Address, ...] = ()
    domain: str | None = None
    lease: Duration = 8 * 3600
    bandwidth: Rate | None = None  # of all boot files together, over TFTP and HTTP
    enabled: bool = True  # false: written, and not served yet
    unknown: str = "address-only"  # or lobby, refuse, or the name of a loadout
    allow: tuple[MacPrefix, ...] = ()  # when given, no other machines that are not in the site
    refuse: tuple[MacPrefix, ...] = ()  # also machines of the site


class Option(Table):
    """An option of the administrator's own, or one inside another option."""

    code: Annotated[int, Field(ge=1, le=254)]
    type: Literal[
        "text", "address", "addresses", "u8", "u16", "u32", "boolean", "bytes", "domains", "list"
    ]
    inside: str | None = None  # the name of the option that carries it
    vendor: str | None = None  # only for clients whose vendor class begins with this
    srv: Annotated[str, BeforeValidator(_srv)] | None = None  # as a DNS record: `_name._tcp 443`

    @property
    def service(self) -> tuple[str, str, int] | None:
        """Service, protocol and port of the SRV record (RFC 2782) that says the same."""
        match = _SRV.fullmatch(self.srv or "")
        return (match[1], match[2], int(match[3])) if match else None


class FirmwareKind(Table):
    """A kind of machines, known by what their firmware sends; all that is given must fit."""

    architecture: Annotated[tuple[int | str, ...], BeforeValidator(_list)] = ()
    vendor_class: str | None = None  # option 60, a pattern with * and ?
    user_class: str | None = None  # option 77, the same


class Root(Table):
    """A root filesystem, and what clients may change of it."""

    path: str | None = None  # below the site's `roots`; the root's name when not given
    slate: SlateKind = "none"  # what a client may change: nothing, until it boots anew, for good
    size: Size | None = None  # of one client's slate
    own: Mapping[str, str] = OWN_FILES  # files that Daskel makes for each client: path and template
    ports: Literal["reserved", "any"] = "reserved"  # that calls of clients come from
    up: bool = False  # views get a service that tells when the system runs
    forget: tuple[str, ...] = FORGET  # what must not be in many machines, as patterns of paths


class Loadout(LayerTable):
    """What a client is loaded with, or that it starts from its own disk."""

    title: Title | None = None  # in a menu; its name when not given
    password: Annotated[str, BeforeValidator(_password)] | None = None
    kernel: str | None = None
    initrd: Names = ()
    root: str | None = None
    boot: Literal["local"] | None = None


class Choice(Table):
    """A menu on the client's screen."""

    entries: Annotated[tuple[str, ...], Field(min_length=1)]  # names of loadouts
    default: str | None = None  # the first entry when not given
    wait: Duration = 10
    title: Title | None = None
    hidden: bool = False  # until a key is pressed

    @property
    def chosen(self) -> str:
        """What boots when nobody chooses."""
        return self.default or self.entries[0]


class File(Table):
    """A computed file; its path is the table's name, and may name variables of the client.

    With `folder`, the path ends with /* and stands for every file below it: the client's own where
    there is one, else the one of the same name in that folder, which all share.
    """

    text: str | None = None
    template: str | None = None  # a file with the text, relative to the site file
    folder: str | None = None  # below `files`


class Upload(Table):
    """A folder that clients may put new files into (TFTP's write requests). Its path is the table's
    name, ends with /*, and may name variables of the client: then each has its own."""

    size: Size = 1 << 20  # of one file
    files: int = Field(100, ge=1)  # in one folder


class Group(LayerTable):
    """Clients that share settings."""

    segment: str | None = None
    boot: str | None = None
    slate: SlateKind | None = None  # the root's when not given
    firmware: str | None = None  # that they have; goes before what was seen


class Client(LayerTable):
    """One machine."""

    mac: Mac
    group: Names = ()
    segment: str | None = None
    boot: str | None = None
    slate: SlateKind | None = None
    firmware: str | None = None  # that it has; goes before what was seen
    address: Address | None = None
    uuid: str | None = None  # for templates
    serial: str | None = None  # for templates: boards that ask below their serial number


TABLES: dict[str, type[Table]] = {
    "segment": Segment,
    "option": Option,
    "firmware": FirmwareKind,
    "root": Root,
    "loadout": Loadout,
    "choice": Choice,
    "file": File,
    "upload": Upload,
    "group": Group,
    "client": Client,
}
_PLACES = {  # where a site has the tables of each kind
    "segment": "segments", "option": "options", "firmware": "firmware", "root": "roots",
    "loadout": "loadouts", "choice": "choices", "file": "files", "upload": "uploads",
    "group": "groups", "client": "clients",
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Site:
    """One site file, understood; it never changes. Tables are by name, in the order of the file.

    What is assigned for one boot is not in it (`layers.Assigned`), nor what is worked out from it
    (`remembered`).
    """

    settings: SiteTable
    segments: Mapping[str, Segment]
    options: Mapping[str, Option]
    firmware: Mapping[str, FirmwareKind]
    roots: Mapping[str, Root]
    loadouts: Mapping[str, Loadout]
    choices: Mapping[str, Choice]
    files: Mapping[str, File]
    uploads: Mapping[str, Upload]
    groups: Mapping[str, Group]
    clients: Mapping[str, Client]
    positions: Sources
    templates: Mapping[str, str]  # texts of template files, by the path in the site file
    unbuilt: frozenset[str] = frozenset()  # boot loaders that are not here, and cannot be built
    by_mac: Mapping[str, str] = field(init=False)  # MAC address to client name
    by_address: Mapping[IPv4Address, str] = field(init=False)  # fixed address to client name

    def __post_init__(self) -> None:
        found = list(self.clients.items())[::-1]  # of two that claim the same, the first has it
        by_mac = {client.mac: name for name, client in found}
        by_address = {client.address: name for name, client in found if client.address}
        object.__setattr__(self, "by_mac", by_mac)
        object.__setattr__(self, "by_address", by_address)
        for kept in fields(self):
            value = getattr(self, kept.name)
            if isinstance(value, dict):
                object.__setattr__(self, kept.name, MappingProxyType(value))

    def origin(self, *path: str | int) -> Origin:
        """Where a key of a table is written, or the nearest thing above it."""
        place: Path = path
        return self.positions.of(place)

    @property
    def served(self) -> dict[str, Segment]:
        """The segments that are switched on."""
        return {name: segment for name, segment in self.segments.items() if segment.enabled}

    def table(self, path: tuple[str, ...]) -> LayerTable:
        """The table of a layer: `("site",)`, or its kind and name."""
        if path == ("site",):
            return self.settings
        found = self.tables()[path[0]][path[1]]
        assert isinstance(found, LayerTable)
        return found

    def tables(self) -> Mapping[str, Mapping[str, Table]]:
        """All named tables, by their kind as in `TABLES`."""
        return {kind: getattr(self, _PLACES[kind]) for kind in TABLES}

    def with_tables(self, kind: str, tables: Mapping[str, Table]) -> Site:
        """This site with other tables of one kind."""
        changed: dict[str, Any] = {_PLACES[kind]: tables}
        return replace(self, **changed)

    def root_path(self, root: str) -> str:
        """The root's folder, relative to the site's `roots`."""
        return self.roots[root].path or root
