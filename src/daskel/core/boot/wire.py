"""How the services are reached: their ports, and the practice wire on this machine's loopback."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.site.model import Segment, Site


@dataclass(frozen=True)
class Ports:
    """Where Daskel's services listen; other than the standard ones only when practising."""

    dhcp: int = 67
    tftp: int = 69
    http: int = 80
    nfs: int = 2049

    @classmethod
    def from_base(cls, base: int) -> Ports:
        """The standard ports, moved up by `base`, so that no privilege is needed."""
        return cls(cls.dhcp + base, cls.tftp + base, cls.http + base, cls.nfs + base)


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

    def segment_of(self, site: Site, bound: str) -> tuple[str, Segment]:
        """The segment whose server address a socket is bound to."""
        return next((n, s) for n, s in site.served.items() if self.outside(s.server) == bound)

    def inside(self, segment: Segment, address: str) -> IPv4Address:
        """The site's address of a peer that reached the segment's server address."""
        found = IPv4Address(address)
        if not self.loopback:
            return found
        return IPv4Address(int(segment.server) & 0xFF000000 | int(found) & 0xFFFFFF)
