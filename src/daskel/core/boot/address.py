"""Which address a machine gets. Keyed by MAC address and segment, whatever client identifier.

A machine's firmware, boot loader and operating system present different client identifiers
(RFC 4361 tells them not to); the MAC address is what stays the same through a boot.
"""

from __future__ import annotations

from collections.abc import Collection, Container, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple
from zlib import crc32

from daskel.core.boot.turns import owner
from daskel.core.site.model import Site
from daskel.core.site.tables import Segment

OFFER_TIME = 60.0  # seconds that an offered address waits for its REQUEST
DECLINE_TIME = 3600.0  # seconds that an address is put aside after a DECLINE


class LeaseState(Enum):
    """What a lease stands for."""

    OFFERED = "offered"  # in memory only
    BOUND = "bound"
    RELEASED = "released"
    ELSEWHERE = "elsewhere"  # another DHCP server gave it
    DECLINED = "declined"


_LENT = (LeaseState.OFFERED, LeaseState.DECLINED)


class Lease(NamedTuple):
    """One address and the machine that has it, had it, or said that it is taken."""

    address: IPv4Address
    segment: str
    mac: str
    state: LeaseState
    expires: float  # seconds since 1970
    architecture: int | None = None  # as last seen from its firmware
    iaid: int | None = None  # of an IPv6 address: a machine may ask for several (RFC 8415 12)

    def holds(self, now: float) -> bool:
        """Whether nobody else may have the address at `now` (seconds since 1970). One that was
        given back can be promised for longer, where other servers do not know of that yet."""
        return now < self.expires


class Leases:
    """All leases of one server, found by address and by machine. One lease per address."""

    def __init__(self, leases: Collection[Lease] = ()) -> None:
        self._by_address: dict[int, Lease] = {}  # a number is looked up faster than an address
        self._by_machine: dict[tuple[str, str, int | None], Lease] = {}
        self._associations: dict[tuple[str, str], set[int]] = {}  # of IPv6, by machine
        for lease in leases:
            self.put(lease)

    def put(self, lease: Lease) -> None:
        """Remember a lease, in place of the machine's former one and of the address's."""
        number = int(lease.address)
        before = self._by_address.get(number)
        if before and (
            before.mac != lease.mac
            or before.iaid != lease.iaid
            or lease.state is LeaseState.DECLINED
        ):
            self._forget(before)
        self._by_address[number] = lease
        if lease.state is not LeaseState.DECLINED:
            self._by_machine[(lease.segment, lease.mac, lease.iaid)] = lease
            if lease.iaid is not None:
                machine = lease.segment, lease.mac
                self._associations.setdefault(machine, set()).add(lease.iaid)

    def _forget(self, lease: Lease) -> None:
        """A machine has this lease no more; one that it has of another address stays."""
        machine = lease.segment, lease.mac, lease.iaid
        has = self._by_machine.get(machine)
        if has and has.address == lease.address:
            del self._by_machine[machine]
            if lease.iaid is not None:
                left = self._associations[lease.segment, lease.mac]
                left.discard(lease.iaid)
                if not left:
                    del self._associations[lease.segment, lease.mac]

    def at(self, address: IPv4Address | IPv6Address) -> Lease | None:
        """The lease of an address, whatever its state."""
        return self._by_address.get(int(address))

    def of(self, segment: str, mac: str, iaid: int | None = None) -> Lease | None:
        """The lease that a machine has, or had last, on a segment; of its IPv6 addresses, the one
        with this identifier."""
        return self._by_machine.get((segment, mac, iaid))

    def associations(self, segment: str, mac: str, now: float) -> list[Lease]:
        """The leases of IPv6 that a machine has at `now`."""
        known = self._associations.get((segment, mac), ())
        found = (self._by_machine[segment, mac, iaid] for iaid in known)
        return [le for le in found if le.state is not LeaseState.RELEASED and le.holds(now)]

    def machine_at(self, address: IPv4Address | IPv6Address, now: float) -> str | None:
        """The MAC address of the machine that has `address` now."""
        lease = self.at(address)
        has = (LeaseState.BOUND, LeaseState.ELSEWHERE)
        return lease.mac if lease and lease.state in has and lease.holds(now) else None

    def all(self) -> list[Lease]:
        """One for each address."""
        return list(self._by_address.values())

    def held(self, now: float) -> list[Lease]:
        """Those of machines that have their address now."""
        has = (LeaseState.BOUND, LeaseState.ELSEWHERE)
        return [le for le in self._by_machine.values() if le.state in has and le.holds(now)]

    def architecture_of(self, mac: str) -> int | None:
        """The architecture type that a machine's firmware sent last, on any segment."""
        found = [lease for lease in self._by_machine.values() if lease.mac == mac]
        known = [lease for lease in found if lease.architecture is not None]
        return max(known, key=lambda lease: lease.expires).architecture if known else None

    def architectures(self) -> dict[str, int]:
        """The same for every machine."""
        newest = sorted(self._by_machine.values(), key=lambda lease: lease.expires)
        return {le.mac: le.architecture for le in newest if le.architecture is not None}

    def aside(self, now: float) -> list[Lease]:
        """Addresses that are not given out for a while, since somebody else has them."""
        found = self._by_address.values()
        return [le for le in found if le.state is LeaseState.DECLINED and le.holds(now)]

    def held_by_others(
        self, segment: str, known: Container[str], now: float, version: int = 4
    ) -> int:
        """How many addresses machines have, or are offered, that are not among the `known` MAC
        addresses. What the wire showed to be taken is nobody's share."""
        return sum(
            1
            for lease in self._by_address.values()
            if lease.segment == segment
            and lease.address.version == version
            and lease.mac not in known
            and lease.state is not LeaseState.DECLINED
            and lease.holds(now)
        )

    def free_for(self, address: IPv4Address, mac: str, now: float, iaid: int | None = None) -> bool:
        """No other machine holds it, and nobody said that it is taken."""
        lease = self.at(address)
        if lease is None or not lease.holds(now):
            return True
        own = lease.mac == mac and lease.iaid == iaid
        return own and lease.state is not LeaseState.DECLINED


@dataclass(frozen=True, slots=True)
class Addresses:
    """A segment's rules: its network and pool, and the fixed addresses that are not for others."""

    name: str
    segment: Segment
    fixed: Collection[IPv4Address]
    servers: Sequence[str] = ()  # of several: each begins with addresses of its own
    own: str | None = None

    def allowed(self, address: IPv4Address, fixed: IPv4Address | None) -> bool:
        """`address` may be given to a machine whose own fixed address is `fixed`."""
        if fixed is not None:
            return address == fixed
        return address not in self.fixed and any(address in part for part in self.segment.pool)

    def begins_with(self, address: IPv4Address) -> bool:
        """Other servers give this address only when they have no other: what one offers, another
        need not have heard of yet."""
        return self.own is None or owner(address.packed, self.servers) == self.own


def rules_of(site: Site) -> dict[str, Addresses]:
    """Those of all segments, by name."""
    fixed, servers = site.by_address.keys(), tuple(site.servers)
    return {
        name: Addresses(name, segment, fixed, servers, site.own)
        for name, segment in site.segments.items()
    }


def choose(  # noqa: PLR0913 - all that it follows from
    rules: Addresses,
    leases: Leases,
    mac: str,
    fixed: IPv4Address | None,
    wanted: IPv4Address | None,
    now: float,
    known: Container[str] | None = None,
    iaid: int | None = None,
) -> IPv4Address | None:
    """The address to offer (RFC 2131 4.3.1): its fixed one, its present or former one, its wanted,
    else a place in the pool that follows from its MAC address; never used ones come first.

    None when no address is left. For a machine of the site there is one: `known` are the MAC
    addresses of its like, and what others were offered or said to be taken is asked for again.
    """
    if fixed is not None:
        return fixed if leases.free_for(fixed, mac, now, iaid) else None
    former = leases.of(rules.name, mac, iaid)
    for address in (former.address if former else None, wanted):
        if address and rules.allowed(address, None) and leases.free_for(address, mac, now, iaid):
            return address
    expired: Lease | None = None
    free: IPv4Address | None = None  # another server begins with it
    lent: Lease | None = None  # it would hold, and is nobody's that has it
    for address in _pool_from(rules.segment, crc32(mac.encode())):
        if address in rules.fixed:
            continue
        lease = leases.at(address)
        if lease is None:
            if rules.begins_with(address):
                return address
            free = free or address
        elif not lease.holds(now):
            expired = _better(rules, expired, lease)
        elif known is not None and lease.mac not in known and lease.state in _LENT:
            lent = lease if lent is None or lease.expires < lent.expires else lent
    if expired and (free is None or rules.begins_with(expired.address)):
        return expired.address
    return free or (lent.address if lent else None)


def _better(rules: Addresses, one: Lease | None, other: Lease) -> Lease:
    """Which of two that have ended: one that this server begins with, the older one of two."""
    if one is None:
        return other
    mine, its = rules.begins_with(one.address), rules.begins_with(other.address)
    return other if (its, -other.expires) > (mine, -one.expires) else one


def usual(segment: Segment, mac: str, *, firmware: bool) -> IPv4Address | None:
    """The address of a pool that a machine's firmware is given where nothing speaks against it; or
    its system beside that. None without a pool."""
    size = sum(part.size for part in segment.pool)
    start = crc32(mac.encode()) + (0 if firmware else size // 2)
    return next(_pool_from(segment, start), None)


def _pool_from(segment: Segment, start: int) -> Iterator[IPv4Address]:
    """Every address of the pool once, from a place that `start` chooses."""
    size = sum(part.size for part in segment.pool)
    for step in range(size):
        place = (start + step) % size
        for part in segment.pool:
            if place < part.size:
                yield part.first + place
                break
            place -= part.size


def offered(lease: Lease, now: float) -> Lease:
    """The lease that stands for an offer: for a minute, until it is taken."""
    return lease._replace(state=LeaseState.OFFERED, expires=now + OFFER_TIME)
