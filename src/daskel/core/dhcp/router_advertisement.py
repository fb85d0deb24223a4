"""Router advertisements of a machine that is no router (RFC 4861 4.1, 4.2).

Network ROMs of BIOS machines ask for IPv6 routers before they ask for their boot file, and wait
16 s when nobody answers. The answer says: nothing here to use, no address to be had, go on. Where
the site says so, it says which network this is, and how machines come to their addresses.
"""

from __future__ import annotations

from ipaddress import IPv6Network
from typing import NamedTuple

SOLICITATION, ADVERTISEMENT = 133, 134  # types of ICMPv6 messages
_BY_DHCP, _REST_BY_DHCP = 0x80, 0x40  # flags M and O
_ON_LINK, _OWN_ADDRESSES = 0x80, 0x40  # flags L and A of a network
_PREFIX, _PREFIX_WORDS = 3, 4  # the option's type, and its length in eight bytes
_SECONDS = (86400).to_bytes(4, "big")  # that a network, and addresses in it, are good for
# Hop limit unspecified, no flags, a lifetime of 0 (not a default router), both timers unspecified;
# the kernel fills in the checksum.
NO_ROUTER = bytes((ADVERTISEMENT, 0)) + bytes(14)


def is_solicitation(message: bytes) -> bool:
    """Whether an ICMPv6 message asks for routers (RFC 4861 4.1)."""
    return len(message) >= 8 and message[0] == SOLICITATION and message[1] == 0


ASKS = bytes((SOLICITATION,)) + bytes(7)  # a router solicitation (RFC 4861 4.1)


class Network(NamedTuple):
    """One that a router tells of."""

    network: IPv6Network
    slaac: bool  # machines make addresses of their own in it


def networks_in(message: bytes) -> tuple[bool, bool, tuple[Network, ...]] | None:
    """Whether its sender routes, whether addresses are given by DHCPv6, and networks, of a router
    advertisement; None for any other ICMPv6 message."""
    if len(message) < 16 or message[0] != ADVERTISEMENT or message[1] != 0:
        return None
    found, at = [], 16
    while at + 8 <= len(message) and message[at + 1]:
        kind, length = message[at], message[at + 1] * 8
        if (
            kind == _PREFIX
            and length == 32
            and at + length <= len(message)
            and message[at + 2] <= 128
        ):
            prefix = message[at + 16 : at + 32], message[at + 2]
            network = IPv6Network(prefix, strict=False)
            found.append(Network(network, bool(message[at + 3] & _OWN_ADDRESSES)))
        at += length
    return any(message[6:8]), bool(message[5] & _BY_DHCP), tuple(found)


def network_here(network: IPv6Network, *, slaac: bool) -> bytes:
    """The same with a network (RFC 4861 4.6.2): machines make their addresses (`slaac`), or are
    given them by DHCPv6."""
    flags = _REST_BY_DHCP if slaac else _BY_DHCP | _REST_BY_DHCP
    own = _ON_LINK | (_OWN_ADDRESSES if slaac else 0)
    head = NO_ROUTER[:5] + bytes((flags,)) + NO_ROUTER[6:]
    prefix = bytes((_PREFIX, _PREFIX_WORDS, network.prefixlen, own))
    return head + prefix + _SECONDS * 2 + bytes(4) + network.network_address.packed
