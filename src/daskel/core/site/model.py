"""The site as a whole: its tables by name, and where each is written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from ipaddress import IPv4Address
from types import MappingProxyType
from typing import Any

from daskel.core.site.positions import Origin, Path, Sources
from daskel.core.site.published import Published
from daskel.core.site.tables import (
    TABLES,
    Choice,
    Client,
    File,
    FirmwareKind,
    Group,
    LayerTable,
    Loadout,
    Option,
    Root,
    Segment,
    Server,
    SiteTable,
    Table,
    Upload,
)

_PLACES = {  # where a site has the tables of each kind
    "segment": "segments", "option": "options", "firmware": "firmware", "root": "roots",
    "loadout": "loadouts", "choice": "choices", "file": "files", "upload": "uploads",
    "server": "servers",
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
    servers: Mapping[str, Server]  # where there are several
    groups: Mapping[str, Group]
    clients: Mapping[str, Client]
    positions: Sources
    templates: Mapping[str, str]  # texts of template files, by the path in the site file
    unbuilt: frozenset[str] = frozenset()  # boot loaders that are not here, and cannot be built
    signed: frozenset[str] = frozenset()  # those whose chain for Secure Boot is here
    stubs: frozenset[str] = frozenset()  # those for whose machines images can be made without one
    published: Published = field(default_factory=dict)  # what roots boot with
    own_kernels: frozenset[str] = frozenset()  # loadouts that boot the kernel of their root
    ipv4: Mapping[str, Segment] = field(default_factory=dict)  # see `over_ipv6`
    tunnel: bool = False  # as it is inside of the tunnel: see `private`
    own: str | None = None  # whose addresses its segments have: see `several`
    elsewhere: frozenset[str] = frozenset()  # clients whose kept slates another server has
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
