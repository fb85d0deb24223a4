"""What is in effect for one client: the layers put together, each value with its origin.

From weak to strong: site, segment, groups in the order named, loadout, client.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Generic, TypeVar

from daskel.core.site.model import Client, Group, Loadout, OptionValue, Site
from daskel.core.site.positions import Origin

Value = TypeVar("Value")


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


@dataclass(frozen=True, slots=True)
class Effective:
    """Everything that the site file says about one client."""

    name: str
    client: Client
    mac: Sourced[str]
    segment: Sourced[str] | None  # the segment's name; None when nothing names one
    address: Sourced[IPv4Address] | None  # fixed; None for one from the pool
    boot: Sourced[str] | None  # the loadout's name
    loadout: Loadout | None
    arguments: tuple[Sourced[str], ...]  # templates not yet filled in
    options: Mapping[str, Sourced[OptionValue]]  # those that are switched on
    overridden: tuple[Overridden, ...]


Groups = Sequence[tuple[str, Group]]


def effective(site: Site, name: str, on: str | None = None) -> Effective:
    """Put the layers of one client together. Raises KeyError when the site has no such client.

    `on` is the segment that it turned up on, whatever segment it was given: that one's layer
    counts then, and a fixed address only if it belongs there.
    """
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
    layers = list(_layers(site, name, groups, segment, boot))
    return Effective(
        name=name,
        client=client,
        mac=Sourced(client.mac, site.origin("client", name, "mac")),
        segment=segment,
        address=address,
        boot=boot,
        loadout=site.loadouts.get(boot.value) if boot else None,
        arguments=merge([layer.arguments for layer in layers], overridden),
        options=merge_options([layer.options for layer in layers], overridden),
        overridden=tuple(overridden),
    )


def segment_options(site: Site, segment: str) -> Mapping[str, Sourced[OptionValue]]:
    """The options of machines that are not in the site: of site and segment."""
    layers = [_layer(site, ("site",)), _layer(site, ("segment", segment))]
    return merge_options([layer.options for layer in layers], [])


def _address(site: Site, name: str, client: Client) -> Sourced[IPv4Address] | None:
    if client.address is None:
        return None
    return Sourced(client.address, site.origin("client", name, "address"))


def _strongest(
    site: Site, name: str, client: Client, groups: Groups, key: str, overridden: list[Overridden]
) -> Sourced[str] | None:
    """The value of the client, else of the last group that has one."""
    tables = [(("client", name), client), *((("group", g), group) for g, group in reversed(groups))]
    values: list[Sourced[str]] = []
    for path, table in tables:
        value: str | None = getattr(table, key)
        if value is not None:
            values.append(Sourced(value, site.origin(*path, key)))
    overridden += [Overridden(key, v.value, v.origin, values[0].origin) for v in values[1:]]
    return values[0] if values else None


def _layers(
    site: Site,
    name: str,
    groups: Groups,
    segment: Sourced[str] | None,
    boot: Sourced[str] | None,
) -> Iterable[Layer]:
    yield _layer(site, ("site",))
    if segment and segment.value in site.segments:
        yield _layer(site, ("segment", segment.value))
    for group, _ in groups:
        yield _layer(site, ("group", group))
    if boot and boot.value in site.loadouts:
        yield _layer(site, ("loadout", boot.value))
    yield _layer(site, ("client", name))


def _layer(site: Site, path: tuple[str, ...]) -> Layer:
    table = site.table(path)
    arguments = [Sourced(a, site.origin(*path, "args", i)) for i, a in enumerate(table.args)]
    options = {k: Sourced(v, site.origin(*path, "options", k)) for k, v in table.options.items()}
    return Layer(arguments, options)


def key_of(argument: str) -> str:
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
