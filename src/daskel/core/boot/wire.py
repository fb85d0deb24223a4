"""How the services are reached: their ports, and the practice wire on this machine's loopback."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv6Address, ip_address
from typing import cast

_LESS = 9000


def host(address: IPv4Address | IPv6Address) -> str:
    """An address as it stands in front of a port or a path (RFC 3986 3.2.2)."""
    return str(address) if address.version == 4 else f"[{address}]"


@dataclass(frozen=True)
class Ports:
    """Where Daskel's services listen; other than the standard ones only when practising."""

    dhcp: int = 67
    tftp: int = 69
    http: int = 80
    nfs: int = 2049
    pxe: int = 4011
    portmap: int = 111
    https: int = 443
    nbd: int = 10809
    multicast: int = 10808
    mop: int = 10807  # frames in datagrams, only when practising
    rpl: int = 10806

    @classmethod
    def from_base(cls, base: int) -> Ports:
        """The standard ports, moved up by `base`, so that no privilege is needed; those that are
        high ones, by less."""
        high = (port - _LESS for port in (cls.nbd, cls.multicast, cls.mop, cls.rpl))
        ports = (cls.dhcp, cls.tftp, cls.http, cls.nfs, cls.pxe, cls.portmap, cls.https, *high)
        return cls(*(port + base for port in ports))


@dataclass(frozen=True)
class Wire:
    """Where sockets are bound. On the loopback wire 10.61.8.21 is reached as 127.61.8.21, on
    ports that need no privilege; what is said in the messages stays the same."""

    ports: Ports = field(default_factory=Ports)
    loopback: bool = False

    def outside(self, address: IPv4Address) -> str:
        """The address to bind or send to for an address of the site."""
        found = IPv4Address(127 << 24 | int(address) & 0xFFFFFF) if self.loopback else address
        return str(found)

    def inside(self, server: IPv4Address, address: str) -> IPv4Address:
        """The site's address of a peer that reached a server address of the site."""
        if server.version != 4:
            return cast(IPv4Address, ip_address(address.partition("%")[0]))  # see `over_ipv6`
        found = IPv4Address(address)
        if not self.loopback:
            return found
        return IPv4Address(int(server) & 0xFF000000 | int(found) & 0xFFFFFF)
