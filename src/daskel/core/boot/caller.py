"""Who reached the server from an address: what its lease says, and what the wire says, together.

A lease tells who was given an address; the neighbour table of this machine's kernel (ARP, RFC 826)
tells who has it. Whoever is on the same wire can send DHCP messages in any machine's name, and can
take any address: only where both agree is somebody that machine.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.identity import by_mac
from daskel.core.history.events import Contested, Who
from daskel.core.site.model import Site

REMEMBERED = 86400  # seconds that an address which another server gave is taken for the client's
_MOST_CLAIMS = 4096


@dataclass(frozen=True, slots=True)
class Caller:
    """`who` is nobody of the site when the wire contradicts: then `contested` says so. `lease`: the
    address is this machine's, as another DHCP server gave it; to be kept."""

    who: Who
    contested: Contested | None = None
    lease: Lease | None = None


class Claims:
    """What REQUESTs to other DHCP servers said, until the wire has confirmed it. Of very many, the
    latest."""

    def __init__(self) -> None:
        self._by_address: dict[tuple[str, IPv4Address], Lease] = {}

    def put(self, lease: Lease) -> None:
        """A machine asked another server for this address."""
        self._by_address.pop((lease.segment, lease.address), None)
        if len(self._by_address) >= _MOST_CLAIMS:
            del self._by_address[next(iter(self._by_address))]
        self._by_address[lease.segment, lease.address] = lease

    def take(self, segment: str, address: IPv4Address) -> Lease | None:
        """The claim to an address, which is then settled."""
        return self._by_address.pop((segment, address), None)


def verified(
    site: Site, leases: Leases, claims: Claims, segment: str, address: IPv4Address,
    hardware: str | None, now: float,
) -> Caller:  # fmt: skip
    """On a wire of this machine, where `hardware` has the address; None when its kernel does not
    know."""
    if hardware is None:
        return Caller(Who(address=address))
    if site.segments[segment].dhcp == "full":
        return _given(site, leases, segment, address, hardware)
    return _given_elsewhere(site, leases, claims, segment, address, hardware, now)


def verified_over_ipv6(
    site: Site, leases: Leases, segment: str, address: IPv4Address, hardware: str | None,
    now: float,
) -> Caller:  # fmt: skip
    """The same over IPv6, where machines may have addresses of their own making: the machine that
    the kernel has found the address at, but for one that is leased to another."""
    if hardware is None:
        return Caller(Who(address=address))
    owner = leases.machine_at(address, now)
    if owner in (None, hardware):
        return Caller(by_mac(site, hardware, address))
    contested = Contested(by_mac(site, str(owner), address), segment, address, hardware)
    return Caller(Who(None, hardware, address), contested)


def _given(site: Site, leases: Leases, segment: str, address: IPv4Address, hardware: str) -> Caller:
    """A lease that has expired, or was given back, counts until the address is somebody else's:
    systems that mount their root at the start do not always renew, and some give it back."""
    lease = leases.at(address)
    fixed = site.by_address.get(address)
    owner = lease.mac if lease and lease.state is LeaseState.BOUND else None
    if lease and lease.state is LeaseState.RELEASED and lease.mac == hardware:
        owner = hardware
    owner = owner or (str(site.clients[fixed].mac) if fixed else None)
    if owner == hardware:
        return Caller(by_mac(site, hardware, address))
    nobody = Who(None, hardware, address)
    if owner is None:
        return Caller(nobody)
    return Caller(nobody, Contested(by_mac(site, owner, address), segment, address, hardware))


def _given_elsewhere(
    site: Site, leases: Leases, claims: Claims, segment: str, address: IPv4Address, hardware: str,
    now: float,
) -> Caller:  # fmt: skip
    who = by_mac(site, hardware, address)
    claim, contested = claims.take(segment, address), None
    if claim and claim.mac != hardware:
        claimant = by_mac(site, claim.mac, address)
        claim, contested = None, Contested(claimant, segment, address, hardware)
    held = leases.at(address)
    if claim is None and held and held.mac == hardware and held.holds(now):
        return Caller(who, contested)
    if who.name is None and claim is None:
        return Caller(who, contested)  # of no use to anybody: not kept
    before = leases.of(segment, hardware)
    architecture = before.architecture if before else None
    until = now + REMEMBERED
    lease = Lease(address, segment, hardware, LeaseState.ELSEWHERE, until, architecture)
    if claim and claim.architecture is not None:
        lease = lease._replace(architecture=claim.architecture)
    return Caller(who, contested, lease)
