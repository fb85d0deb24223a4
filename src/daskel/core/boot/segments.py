"""Which segment a DHCP message belongs to: by the relay agent that passed it on, else by the wire
that it came in on (RFC 2131 4.3.1; RFC 3527 link selection)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.dhcp.packet import NOWHERE, Packet
from daskel.core.dhcp.relay import LINK_SELECTION, address_inside
from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site
from daskel.core.site.tables import Segment

_LOCAL = IPv4Address("239.192.0.0")  # RFC 2365 6.2


@dataclass(frozen=True, slots=True)
class Where:
    """The segments that the sender can be on, the likeliest first; `problem` when it is on none."""

    segments: tuple[str, ...]
    problem: str = ""


def find_segment(site: Site, packet: Packet, wire: Sequence[str]) -> Where:
    """Where the sender of `packet` is; `wire` are the segments of the interface that it came by."""
    if packet.giaddr != NOWHERE:
        return _relayed(site, packet)
    if packet.ciaddr != NOWHERE:  # a client with an address may also be routed to the server
        inside = [name for name in site.served if packet.ciaddr in site.segments[name].network]
        if inside:
            return Where(tuple(inside[:1]))
    if wire:
        return Where(tuple(wire))
    return Where((), "it came without a relay agent on an interface that no segment has")


def _relayed(site: Site, packet: Packet) -> Where:
    relay = packet.giaddr
    link = address_inside(packet, LINK_SELECTION) or relay
    found = [name for name, segment in site.served.items() if link in segment.network]
    if not found:
        return Where((), f"relay agent {relay} asks for {link}, which is in no segment's network")
    if relay not in site.segments[found[0]].relays:  # a client can write any address there
        origin = site.origin("segment", found[0], "relays")
        return Where((), f"relay agent {relay} is not among the relays of {found[0]} ({origin})")
    return Where(sharing(site, found[0]))


def sharing(site: Site, name: str) -> tuple[str, ...]:
    """A segment, and those that share its wire with it."""
    first = site.segments[name].shares or name
    others = [other for other, segment in site.served.items() if segment.shares == first]
    together = [first, *others] if first in site.served else others
    return (name, *(other for other in together if other != name))


def of_peer(site: Site, server: IPv4Address, peer: IPv4Address) -> str:
    """The segment of one who reached `server` from the address `peer`: the network that it is in,
    else the first segment with that server address."""
    served = site.served.items()
    inside = [n for n, s in served if s.server == server and peer in s.network]
    return inside[0] if inside else next(n for n, s in served if s.server == server)


def servers(site: Site) -> list[IPv4Address]:
    """The addresses of this machine that clients reach, each once; without those of IPv6, which are
    those of the site `over_ipv6`."""
    return list(dict.fromkeys(segment.server for segment in site.served.values()))


def multicast_group(segment: Segment) -> IPv4Address | None:
    """The group that files are sent to there; None where they are not, as behind a relay agent.
    Where the site file names none, one of those that no router passes on out of an organisation
    (RFC 2365 6.2), by the network's address."""
    if behind_relays(segment):
        return None
    if segment.multicast is not True:
        return segment.multicast or None
    return _LOCAL + (int(segment.network.network_address) >> 8 & 0xFFFF)


def behind_relays(segment: Segment) -> bool:
    """It has no interface of this machine: its clients come through relay agents alone."""
    return bool(segment.relays) and segment.server not in segment.network


def best(site: Site, candidates: Sequence[str], mac: str, wanted: IPv4Address | None) -> list[str]:
    """The candidates in the order in which to try them: the segment that the site file gives the
    machine, that of the address it asks for, then as they come."""
    name = site.by_mac.get(mac)
    given = segment_name(site, site.clients[name]) if name else None

    def rank(candidate: str) -> tuple[bool, bool]:
        asked = wanted is not None and wanted in site.segments[candidate].network
        return candidate != given, not asked

    return sorted(candidates, key=rank)
