"""What the store holds of leases, so that a lease need not be written each time it is renewed.

On disk a lease lasts an eighth longer than the machine was told. What it asks again within that
time is on disk already. A lease counts as written once its write has succeeded, and no longer
when anything else is to be written in its place.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from daskel.core.boot.address import Lease, LeaseState

_LONGER = 8  # a part of the time that is left


class OnDisk:
    """Leases that are on disk, by address. `leases`: what is there at the start."""

    def __init__(self, leases: Collection[Lease] = ()) -> None:
        self._asked = {int(lease.address): lease for lease in leases}  # to be written, the last
        self._written = dict(self._asked)

    def covers(self, lease: Lease) -> bool:
        """Whether a start with what is on disk would know of this lease: nothing else was written
        there since, or is about to be."""
        number = int(lease.address)
        held = self._written.get(number)
        return (
            held is not None
            and held is self._asked[number]
            and lease.state is LeaseState.BOUND is held.state
            and lease.expires <= held.expires
            and lease.mac == held.mac
            and lease.segment == held.segment
            and lease.architecture == held.architecture
            and lease.iaid == held.iaid
        )

    def left(self, lease: Lease, now: float) -> float:
        """Seconds for which the machine has this address by what is on disk, whatever was to be
        written since; 0 where it is not the machine's."""
        held = self._written.get(int(lease.address))
        if held is None or held.state is not LeaseState.BOUND:
            return 0.0
        own = held.mac == lease.mac and held.segment == lease.segment and held.iaid == lease.iaid
        return max(held.expires - now, 0.0) if own else 0.0

    def rows(self, leases: Sequence[Lease], now: float) -> list[Lease]:
        """What is to be written for them, the last of each address; `now` in seconds since 1970.
        Nothing covers any of these addresses until `written`."""
        rows = {int(lease.address): lease for lease in leases}
        for number, lease in rows.items():
            if lease.state is LeaseState.BOUND and lease.expires > now:
                longer = lease.expires + (lease.expires - now) / _LONGER
                rows[number] = lease._replace(expires=longer)
        self._asked.update(rows)
        return list(rows.values())

    def learn(self, lease: Lease) -> None:
        """Another server has written it."""
        number = int(lease.address)
        if self._asked.get(number) is self._written.get(number):  # else it is written here just now
            self._asked[number] = self._written[number] = lease

    def written(self, rows: Sequence[Lease]) -> None:
        """These, from `rows`, are on disk."""
        self._written.update((int(row.address), row) for row in rows)
