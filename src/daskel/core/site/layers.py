"""What is in effect for one client: the layers put together, each value with its origin.

From weak to strong: site, segment, groups in the order named, loadout, client.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Generic, TypeVar

from daskel.core.site.model import Client, Group, Loadout, Site
from daskel.core.site.positions import Origin

Value = TypeVar("Value")


@dataclass(frozen=True, slots=True)
class Sourced(Generic[Value]):
    """A value and the place that it comes from."""

    value: Value
    origin: Origin


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


def effective(site: Site, name: str, on: str | None = None) -> Effective:
    """Put the layers of one client together. Raises KeyError when the site has no such client.

    `on` is the segment that it turned up on, whatever segment it was given: that one's layer
    counts then, and a fixed address only if it belongs there.
    """
    client = site.clients[name]
    groups = [(g, site.groups[g]) for g in client.group if g in site.groups]
    segment = _strongest(site, name, client, groups, "segment")
    address = _address(site, name, client)
    if on is not None and (segment is None or segment.value != on):
        segment = Sourced(on, site.origin("segment", on))
        inside = address is not None and address.value in site.segments[on].network
        address = address if inside else None
    boot = _strongest(site, name, client, groups, "boot")
    return Effective(
        name=name,
        client=client,
        mac=Sourced(client.mac, site.origin("client", name, "mac")),
        segment=segment,
        address=address,
        boot=boot,
        loadout=site.loadouts.get(boot.value) if boot else None,
        arguments=merge(_layers(site, name, client, groups, segment, boot)),
    )


def _address(site: Site, name: str, client: Client) -> Sourced[IPv4Address] | None:
    if client.address is None:
        return None
    return Sourced(client.address, site.origin("client", name, "address"))


def _strongest(
    site: Site, name: str, client: Client, groups: Sequence[tuple[str, Group]], key: str
) -> Sourced[str] | None:
    own: str | None = getattr(client, key)
    if own is not None:
        return Sourced(own, site.origin("client", name, key))
    for group_name, group in reversed(groups):
        value: str | None = getattr(group, key)
        if value is not None:
            return Sourced(value, site.origin("group", group_name, key))
    return None


def _layers(
    site: Site,
    name: str,
    client: Client,
    groups: Sequence[tuple[str, Group]],
    segment: Sourced[str] | None,
    boot: Sourced[str] | None,
) -> Iterable[list[Sourced[str]]]:
    """The kernel arguments of each layer, from weak to strong."""
    layers: list[tuple[tuple[str, ...], Sequence[str]]] = [(("site",), site.settings.args)]
    if segment and segment.value in site.segments:
        layers.append((("segment", segment.value), site.segments[segment.value].args))
    layers += [(("group", group_name), group.args) for group_name, group in groups]
    if boot and boot.value in site.loadouts:
        layers.append((("loadout", boot.value), site.loadouts[boot.value].args))
    layers.append((("client", name), client.args))
    for path, args in layers:
        yield [Sourced(a, site.origin(*path, "args", i)) for i, a in enumerate(args)]


def key_of(argument: str) -> str:
    return argument.split("=", 1)[0]


def merge(layers: Iterable[list[Sourced[str]]]) -> tuple[Sourced[str], ...]:
    """Arguments add up; `key=value` replaces that key of weaker layers, `-key` removes it.

    A key that is repeated within one layer stays repeated (console=).
    """
    merged: list[Sourced[str]] = []
    for layer in layers:
        keys = {key_of(argument.value.removeprefix("-")) for argument in layer}
        merged = [old for old in merged if key_of(old.value) not in keys]
        merged += [argument for argument in layer if not argument.value.startswith("-")]
    return tuple(merged)
