"""What is in effect for one client: the layers put together, each value with its origin.

From weak to strong: site, segment, groups in the order named, loadout, client.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from types import MappingProxyType
from typing import Any, Generic, TypeVar, cast

from daskel.core.site.key_types import Delivery, Fetch, LoaderKind, OptionValue, SecureBoot
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import boots, of_path
from daskel.core.site.positions import Origin
from daskel.core.site.remembered import remembered
from daskel.core.site.tables import Choice, Client, Group, LayerTable, Loadout

Value = TypeVar("Value")
# Keys of every layer that have one value
_WAYS = [
    name.replace("_", "-")
    for name in LayerTable.model_fields
    if name not in ("args", "options", "boot_file")
]
FOR_ONE_BOOT = Origin("assign --once", 0, 0)


@dataclass(frozen=True, slots=True)
class Assigned:
    """Loadouts or choices assigned for one boot, by client, and what clients' slates were made on.
    Whoever keeps them changes them here; nobody else does."""

    waiting: Mapping[str, str]
    running: Mapping[str, str]  # used up by the boot that runs
    # by root and client: the version that a slate stays on; not of slates that every boot wipes
    slates: Mapping[tuple[str, str], int] = field(default_factory=dict)


NOT_ASSIGNED = Assigned(MappingProxyType({}), MappingProxyType({}))


@dataclass(frozen=True, slots=True)
class Sourced(Generic[Value]):
    """A value and the place that it comes from."""

    value: Value
    origin: Origin


@dataclass(frozen=True, slots=True)
class Overridden:
    """Something that a weaker layer says and a stronger one takes back."""

    what: str  # "argument quiet", "option ntp-servers", "boot"
    value: str
    origin: Origin
    by: Origin


@dataclass(frozen=True, slots=True)
class Layer:
    """What one table says of arguments and options."""

    arguments: Sequence[Sourced[str]]
    options: Mapping[str, Sourced[OptionValue]]
    boot_files: Mapping[str, Sourced[str]]
    ways: Mapping[str, Sourced[str]]  # keys whose value in the strongest layer counts

    @property
    def says_anything(self) -> bool:
        """Most clients have nothing of their own."""
        return bool(self.arguments or self.options or self.boot_files or self.ways)


@dataclass(frozen=True, slots=True)
class Merged:
    """Several layers put together."""

    arguments: tuple[Sourced[str], ...] = ()
    options: Mapping[str, Sourced[OptionValue]] = field(default_factory=dict)
    boot_files: tuple[Mapping[str, Sourced[str]], ...] = ()  # strongest layer first
    overridden: tuple[Overridden, ...] = ()
    ways: Mapping[str, Sourced[str]] = field(default_factory=dict)

    def with_layer(self, layer: Layer) -> Merged:
        """And a stronger one."""
        overridden: list[Overridden] = []
        arguments = merge([self.arguments, layer.arguments], overridden)
        options = merge_options([self.options, layer.options], overridden)
        files = (layer.boot_files, *self.boot_files) if layer.boot_files else self.boot_files
        overridden += [
            Overridden(key, self.ways[key].value, self.ways[key].origin, by.origin)
            for key, by in layer.ways.items()
            if key in self.ways
        ]
        ways = {**self.ways, **layer.ways}
        return Merged(arguments, options, files, (*self.overridden, *overridden), ways)


@dataclass(frozen=True, slots=True)
class Effective:
    """Everything that the site file says about one client."""

    name: str
    client: Client
    mac: Sourced[str]
    segment: Sourced[str] | None  # the segment's name; None when nothing names one
    address: Sourced[IPv4Address] | None  # fixed; None for one from the pool
    firmware: Sourced[str] | None  # that it has, by the site file
    boot: Sourced[str] | None  # the name of a loadout or a choice
    choice: Choice | None
    loadout_name: str | None  # what boots when nobody chooses
    loadout: Loadout | None
    delivery: Sourced[Delivery] | None  # how the loadout's root comes; None without one
    private: Sourced[bool] | None  # whether it comes through the tunnel alone; None without one
    arguments: tuple[Sourced[str], ...]  # templates not yet filled in
    options: Mapping[str, Sourced[OptionValue]]  # those that are switched on
    boot_files: tuple[Mapping[str, Sourced[str]], ...]  # by kind of firmware; strongest layer first
    overridden: tuple[Overridden, ...]
    ways: Mapping[str, Sourced[str]]  # `fetch` and what else has one value, where a layer has it

    @property
    def fetches(self) -> Fetch:
        """What its boot loader fetches kernels over, where it came by TFTP."""
        return cast(Fetch, self.ways["fetch"].value) if "fetch" in self.ways else "http"

    @property
    def secure_boot(self) -> SecureBoot:
        """What its firmware is started with."""
        said = self.ways.get("secure-boot")
        return cast(SecureBoot, said.value) if said else "auto"

    @property
    def loader(self) -> LoaderKind:
        """What starts its kernel, where it has UEFI."""
        said = self.ways.get("loader")
        return cast(LoaderKind, said.value) if said else "grub"

    @property
    def way(self) -> Delivery:
        """How its root comes."""
        return self.delivery.value if self.delivery else "files"

    @property
    def is_private(self) -> bool:
        """Its root comes through the tunnel alone."""
        return self.private is not None and self.private.value

    @property
    def in_raw_frames(self) -> bool:
        """It asks without IP."""
        return self.loadout is not None and self.loadout.in_raw_frames

    @property
    def entries(self) -> tuple[str, ...]:
        """The names of all loadouts that it can boot."""
        if self.choice:
            return self.choice.entries
        return (self.loadout_name,) if self.loadout_name else ()


Groups = Sequence[tuple[str, Group]]


@remembered
def effective(
    site: Site, name: str, on: str | None = None, entry: str | None = None, once: str | None = None
) -> Effective:
    """Put the layers of one client together. Raises KeyError when the site has no such client.

    `on` is the segment that it turned up on, whatever segment it was given: the layer of the former
    counts then, and a fixed address only if it belongs there. `entry` is the loadout that was
    chosen from a menu, instead of the default; `once` what is assigned for one boot."""
    client = site.clients[name]
    groups = [(g, site.groups[g]) for g in client.group if g in site.groups]
    overridden: list[Overridden] = []
    segment = _strongest(site, name, client, groups, "segment", overridden)
    address = _address(site, name, client)
    if on is not None and (segment is None or segment.value != on):
        segment = Sourced(on, site.origin("segment", on))
        inside = address is not None and address.value in site.segments[on].network
        address = address if inside else None
    boot = _strongest(site, name, client, groups, "boot", overridden)
    if once in site.loadouts or once in site.choices:
        for_good, boot = boot, Sourced(str(once), FOR_ONE_BOOT)
        if for_good:
            old = Overridden("boot", for_good.value, for_good.origin, FOR_ONE_BOOT)
            overridden.append(old)
    mac = Sourced(client.mac, site.origin("client", name, "mac"))
    paths = [("group", group) for group, _ in groups] + [("client", name)]
    firmware = _strongest(site, name, client, groups, "firmware", overridden)
    whole = _Whole(name, client, mac, segment, address, firmware, boot, paths, overridden)
    return whole.put_together(site, entry)


def stranger(site: Site, mac: str, segment: str, entry: str | None = None) -> Effective:
    """The same for a machine that is not in the site: of site and segment alone."""
    unknown, origin = site.segments[segment].unknown, site.origin("segment", segment, "unknown")
    boot = Sourced(unknown, origin) if unknown in site.loadouts else None
    here = Sourced(segment, site.origin("segment", segment))
    name, client = mac.replace(":", "-"), Client(mac=mac)
    whole = _Whole(name, client, Sourced(mac, here.origin), here, None, None, boot, [], [])
    return whole.put_together(site, entry)


@dataclass(frozen=True, slots=True)
class _Whole:
    """What is known of a machine before its layers are put together."""

    name: str
    client: Client
    mac: Sourced[str]
    segment: Sourced[str] | None
    address: Sourced[IPv4Address] | None
    firmware: Sourced[str] | None
    boot: Sourced[str] | None
    layers: Sequence[tuple[str, str]]  # groups and client, from weak to strong
    overridden: list[Overridden]

    def put_together(self, site: Site, entry: str | None) -> Effective:
        choice = site.choices.get(self.boot.value) if self.boot else None
        chosen = entry or (choice.chosen if choice else self.boot.value if self.boot else None)
        loadout = site.loadouts.get(chosen) if chosen else None
        delivery: Sourced[Delivery] | None
        delivery = self._said(site, chosen or "", loadout, "delivery") if loadout else None
        private = self._said(site, chosen or "", loadout, "private") if loadout else None
        otherwise = delivery and (
            delivery.value != "files" or site.ipv4 or (private and private.value)
        )
        if loadout and delivery and otherwise and chosen in site.own_kernels:
            made = of_path(site, loadout.kernel)
            update = boots(loadout.root or "", made and made[1], site, chosen, by_image=True)
            loadout = loadout.model_copy(update=update)
        below, *own = self._put_together(site, chosen)
        for layer in own:
            below = below.with_layer(layer)
        self.overridden.extend(below.overridden)
        return Effective(
            name=self.name,
            client=self.client,
            mac=self.mac,
            segment=self.segment,
            address=self.address,
            firmware=self.firmware,
            boot=self.boot,
            choice=choice,
            loadout_name=chosen if loadout else None,
            loadout=loadout,
            delivery=delivery,
            private=private,
            arguments=below.arguments,
            options=below.options,
            boot_files=below.boot_files,
            overridden=tuple(self.overridden),
            ways=below.ways,
        )

    def _put_together(self, site: Site, loadout: str | None) -> tuple[Merged, *tuple[Layer, ...]]:
        """The layers that it has in common with others, and its own where that says anything."""
        paths = tuple(self._paths(site, loadout))
        common = tuple(path for path in paths if path[0] != "client")
        own = (_layer(site, path) for path in paths if path[0] == "client")
        return (_merged(site, common), *(layer for layer in own if layer.says_anything))

    def _said(self, site: Site, name: str, loadout: Loadout, key: str) -> Sourced[Any] | None:
        """How the root comes: the client's own, else the loadout's, its strongest group's, the
        root's."""
        rules = site.roots.get(loadout.root or "")
        if rules is None:
            return None
        groups = [path for path in reversed(self.layers) if path[0] == "group"]
        said = [("client", self.name, self.client), ("loadout", name, loadout)]
        said += [("group", group, site.groups[group]) for _, group in groups]
        for kind, table, layer in said:
            value = getattr(layer, key)
            if value is not None:
                return Sourced(value, site.origin(kind, table, key))
        return Sourced(getattr(rules, key), site.origin("root", loadout.root or "", key))

    def _paths(self, site: Site, loadout: str | None) -> Iterable[tuple[str, ...]]:
        """The tables that are layers, from weak to strong; the loadout is below the client."""
        yield ("site",)
        if self.segment and self.segment.value in site.segments:
            yield ("segment", self.segment.value)
        yield from (path for path in self.layers if path[0] == "group")
        if loadout in site.loadouts:
            yield ("loadout", str(loadout))
        yield from (path for path in self.layers if path[0] == "client")


def _address(site: Site, name: str, client: Client) -> Sourced[IPv4Address] | None:
    if client.address is None:
        return None
    return Sourced(client.address, site.origin("client", name, "address"))


def unheard(site: Site, found: Effective) -> str | None:
    """The segment of a client that asks in raw Ethernet frames, where nobody listens for these."""
    segment = site.segments.get(found.segment.value) if found.segment else None
    quiet = found.in_raw_frames and segment is not None and not segment.raw
    return found.segment.value if quiet and found.segment else None


def segment_name(site: Site, client: Client) -> str | None:
    """The segment that a client was given, without the rest of its layers."""
    groups = [site.groups[name] for name in client.group if name in site.groups]
    given = [client.segment, *(group.segment for group in reversed(groups))]
    return next((name for name in given if name is not None), None)


def _strongest(
    site: Site, name: str, client: Client, groups: Groups, key: str, overridden: list[Overridden]
) -> Sourced[str] | None:
    """The value of the client, else of the last group that has one."""
    own: str | None = getattr(client, key)
    values = _of_groups(site, tuple(g for g, _ in groups), key)
    if own is not None:
        values = (Sourced(own, site.origin("client", name, key)), *values)
    overridden += [Overridden(key, v.value, v.origin, values[0].origin) for v in values[1:]]
    return values[0] if values else None


@remembered
def _of_groups(site: Site, groups: tuple[str, ...], key: str) -> tuple[Sourced[str], ...]:
    """What groups say, the last one first; the same for all clients of the same groups."""
    said = ((group, getattr(site.groups[group], key)) for group in reversed(groups))
    return tuple(
        Sourced(value, site.origin("group", group, key))
        for group, value in said
        if value is not None
    )


@remembered
def _merged(site: Site, paths: tuple[tuple[str, ...], ...]) -> Merged:
    """Tables put together, from weak to strong; those of many clients are the same."""
    found = Merged()
    for path in paths:
        found = found.with_layer(_layer(site, path))
    return found


@remembered
def _layer(site: Site, path: tuple[str, ...]) -> Layer:
    """One table as a layer; most are layers of many clients."""
    table = site.table(path)
    arguments = [Sourced(a, site.origin(*path, "args", i)) for i, a in enumerate(table.args)]
    options = {k: Sourced(v, site.origin(*path, "options", k)) for k, v in table.options.items()}
    written = table.boot_file.items()
    boot_files = {k: Sourced(v, site.origin(*path, "boot-file", k)) for k, v in written}
    said = ((key, getattr(table, key.replace("-", "_"))) for key in _WAYS)
    ways = {key: Sourced(v, site.origin(*path, key)) for key, v in said if v is not None}
    return Layer(arguments, options, boot_files, ways)


def layer_tables(site: Site) -> Iterator[tuple[tuple[str, ...], LayerTable]]:
    """Every table that is a layer, and its path."""
    yield ("site",), site.settings
    yield from ((("segment", name), table) for name, table in site.segments.items())
    yield from ((("group", name), table) for name, table in site.groups.items())
    yield from ((("loadout", name), table) for name, table in site.loadouts.items())
    yield from ((("client", name), table) for name, table in site.clients.items())


def key_of(argument: str) -> str:
    """The part of a kernel argument before its first `=`."""
    return argument.split("=", 1)[0]


def merge(
    layers: Iterable[Sequence[Sourced[str]]], overridden: list[Overridden]
) -> tuple[Sourced[str], ...]:
    """Arguments add up; `key=value` replaces that key of weaker layers, `-key` removes it.

    A key that is repeated within one layer stays repeated (console=).
    """
    merged: list[Sourced[str]] = []
    for layer in layers:
        by = {key_of(argument.value.removeprefix("-")): argument.origin for argument in layer}
        for old in merged:
            if (stronger := by.get(key_of(old.value))) is not None:
                overridden.append(Overridden("argument", old.value, old.origin, stronger))
        merged = [old for old in merged if key_of(old.value) not in by]
        merged += [argument for argument in layer if not argument.value.startswith("-")]
    return tuple(merged)


def merge_options(
    layers: Iterable[Mapping[str, Sourced[OptionValue]]], overridden: list[Overridden]
) -> Mapping[str, Sourced[OptionValue]]:
    """Options replace by name; `false` switches one off."""
    merged: dict[str, Sourced[OptionValue]] = {}
    for layer in layers:
        for name, value in layer.items():
            if (old := merged.pop(name, None)) is not None:
                shown = Overridden(f"option {name}", str(old.value), old.origin, value.origin)
                overridden.append(shown)
            if value.value is not False:
                merged[name] = value
    return merged


def deliveries(site: Site, root: str) -> frozenset[Delivery]:
    """How a root comes to the clients that boot it, and to those that may be added."""
    rules = site.roots.get(root)
    found = {rules.delivery} if rules else set()
    for name in site.clients:
        whole = effective(site, name)
        ways = (effective(site, name, None, entry) for entry in whole.entries)
        found |= {w.way for w in ways if w.loadout and w.loadout.root == root}
    return frozenset(found)
