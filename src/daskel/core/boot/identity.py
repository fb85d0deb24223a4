"""Who asks: a MAC address or an address becomes a client of the site, or somebody unknown."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.site.model import Site


@dataclass(frozen=True, slots=True)
class Who:
    """As much as is known of somebody who asks; `name` only for clients of the site."""

    name: str | None = None
    mac: str | None = None
    address: IPv4Address | None = None

    def __str__(self) -> str:
        return self.name or self.mac or str(self.address or "somebody")


def by_mac(site: Site, mac: str, address: IPv4Address | None = None) -> Who:
    return Who(site.by_mac.get(mac), mac, address)


def by_address(site: Site, leases: Leases, address: IPv4Address, now: float) -> Who:
    """The machine that has the lease of `address`, else the client whose fixed address it is."""
    mac = leases.machine_at(address, now)
    if mac:
        return by_mac(site, mac, address)
    name = site.by_address.get(address)
    return Who(name, site.clients[name].mac, address) if name else Who(address=address)
