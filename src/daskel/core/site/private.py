"""The same site inside of the tunnel: a site of its own, so that whatever is computed for machines
is computed for them by the same code. A root that is private for anybody is there alone."""

from __future__ import annotations

from dataclasses import replace
from hashlib import blake2s
from ipaddress import IPv4Address, IPv6Address
from typing import cast

from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.remembered import remembered
from daskel.core.site.tables import Segment

INSIDE = "tunnel"  # its only segment
_PLAIN = Segment.model_validate({  # which gets the tunnel's network
    "network": "10.61.8.0/24", "server": "10.61.8.1", "dhcp": "off",
})  # fmt: skip


@remembered
def private_roots(site: Site) -> frozenset[str]:
    """The roots that nobody gets in clear: those that are private for somebody."""
    found = {name for name, root in site.roots.items() if root.private}
    found |= {one.root for one in site.loadouts.values() if one.private and one.root}
    said = [group.private for group in site.groups.values()]
    said += [client.private for client in site.clients.values()]
    if any(said):
        for name in site.clients:
            for entry in effective(site, name).entries:
                whole = effective(site, name, None, entry)
                if whole.is_private and whole.loadout and whole.loadout.root:
                    found.add(whole.loadout.root)
    return frozenset(found & site.roots.keys())


@remembered
def private_clients(site: Site) -> frozenset[str]:
    """The clients that may boot a private root."""
    private = private_roots(site)
    return frozenset(
        name for name in site.clients
        if any(site.loadouts[entry].root in private for entry in effective(site, name).entries)
    ) if private else frozenset()  # fmt: skip


def inner_address(site: Site, mac: str) -> IPv6Address:
    """The address of a machine inside of the tunnel: never the server's, the first one."""
    assert site.settings.private
    network = site.settings.private.network
    number = int.from_bytes(blake2s(mac.encode(), digest_size=16).digest(), "big")
    return network[2 + number % (network.num_addresses - 2)]


@remembered
def inside(site: Site) -> Site:
    """Its clients with their addresses there; without segments where the site has no tunnel."""
    rules = site.settings.private
    if rules is None:
        return replace(site, segments={}, tunnel=True)
    here = {"network": rules.network, "server": rules.network[1]}
    clients = {
        name: client.model_copy(update={
            "address": cast(IPv4Address, inner_address(site, client.mac)), "segment": INSIDE,
        })
        for name, client in site.clients.items()
    }  # fmt: skip
    segments = {INSIDE: _PLAIN.model_copy(update=here)}
    return replace(site, segments=segments, clients=clients, tunnel=True)
