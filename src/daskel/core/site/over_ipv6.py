"""The same site as machines see it that come over IPv6: a site of its own, so that whatever is
computed for machines is computed for them by the same code.

Its addresses and networks are IPv6's, in fields that are IPv4's elsewhere; the type checker takes
them for the latter. Both kinds have the same operations; where an address becomes text beside a
port, it is put in brackets (`wire.host`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv6Network
from typing import cast

from daskel.core.site.key_types import SLAAC, Range
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin, Path, Sources
from daskel.core.site.remembered import remembered
from daskel.core.site.tables import Segment

_WRITTEN_AS = {
    "network": "network6", "server": "server6", "pool": "pool6", "relays": "relays6",
    "address": "address6",
}  # fmt: skip
_SLAAC_FROM, _SLAAC_TO = 0x1_0000, 0x1_FFFF  # in a network whose machines make their addresses
_LEFT_OUT = {  # what a segment says of IPv4 alone
    "router": None, "name_servers": (), "multicast": None, "wake_through": None, "raw": False,
}  # fmt: skip


@dataclass(frozen=True)
class _Written:
    """Where the keys stand that a site over IPv6 is made of."""

    sources: Sources

    def of(self, path: Path, *, key: bool = False) -> Origin:
        """As `Sources.of`."""
        renamed = _WRITTEN_AS.get(str(path[2])) if len(path) > 2 else None
        if renamed and path[0] in ("segment", "client"):
            path = (*path[:2], renamed, *path[3:])
        return self.sources.of(path, key=key)

    def tables(self) -> list[tuple[str, int]]:
        """As `Sources.tables`."""
        return self.sources.tables()


@remembered
def over_ipv6(site: Site) -> Site:
    """The segments that have an IPv6 network, with its addresses in the place of IPv4's; clients
    with their fixed IPv6 address, or none. `ipv4` has these segments as they were: some initrds
    know nothing else."""
    segments = {n: _segment(s) for n, s in site.segments.items() if s.network6 and s.server6}
    if not segments:  # as with most sites: nobody comes
        return replace(site, segments={})
    clients = {
        name: client.model_copy(update={"address": client.address6})
        if client.address or client.address6
        else client
        for name, client in site.clients.items()
    }
    written = cast(Sources, _Written(site.positions))
    before = {name: site.segments[name] for name in segments}
    return replace(site, segments=segments, clients=clients, positions=written, ipv4=before)


def _segment(segment: Segment) -> Segment:
    assert segment.network6
    pool = segment.pool6 or ()
    ranges = (slaac_range(segment.network6),) if pool == SLAAC else pool
    update = {
        **_LEFT_OUT, "network": segment.network6, "server": segment.server6, "pool": ranges,
        "relays": segment.relays6, "dhcp": "off" if segment.pool6 is None else "full",
    }  # fmt: skip
    return segment.model_copy(update=update)


def slaac_range(network: IPv6Network) -> Range:
    """What firmware is given an address of, where machines make their own."""
    last = min(_SLAAC_TO, network.num_addresses - 2)
    ends = network[min(_SLAAC_FROM, last)], network[last]
    return Range(*(cast(IPv4Address, end) for end in ends))
