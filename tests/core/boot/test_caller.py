"""Who reached the server: somebody is a machine only where its lease and the wire agree."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.caller import Claims, verified
from daskel.core.history.events import Who
from tests.conftest import DEMO, site_from

ONE, TWO, LIB, RIVAL = (
    "02:61:08:00:00:01", "02:61:08:00:00:02", "02:61:09:00:00:01", "02:61:ff:00:00:01",
)  # fmt: skip
FIXED, POOL, THERE = (IPv4Address(a) for a in ("10.61.8.21", "10.61.8.150", "10.61.9.77"))
BOUND, ELSEWHERE = LeaseState.BOUND, LeaseState.ELSEWHERE
# The address, what the lease of it says (and until when), what the wire says; who that is, and
# whose it is when that is contested.
FULL: list[tuple[IPv4Address, tuple[str, float] | None, str | None, str | None, str | None]] = [
    (FIXED, (ONE, 10.0), ONE, "tide-01", None),
    (FIXED, (ONE, 1.0), ONE, "tide-01", None),  # expired, and nobody else's
    (FIXED, None, ONE, "tide-01", None),  # fixed in the site file
    (FIXED, (ONE, 10.0), RIVAL, None, "tide-01"),
    (FIXED, None, RIVAL, None, "tide-01"),
    (FIXED, (ONE, 10.0), TWO, None, "tide-01"),
    (FIXED, (ONE, 10.0), None, None, None),  # the kernel does not know who has it
    (POOL, (TWO, 10.0), TWO, "tide-02", None),
    (POOL, (TWO, 1.0), TWO, "tide-02", None),
    (POOL, (TWO, 10.0), RIVAL, None, "tide-02"),
    (POOL, None, TWO, None, None),  # an address that it was never given
    (POOL, (RIVAL, 10.0), RIVAL, None, None),
]


@pytest.mark.parametrize(("address", "lease", "hardware", "name", "contested"), FULL)
def test_where_daskel_gives_the_addresses(
    address: IPv4Address, lease: tuple[str, float] | None, hardware: str | None,
    name: str | None, contested: str | None,
) -> None:  # fmt: skip
    site, leases = site_from(DEMO), Leases()
    if lease:
        leases.put(Lease(address, "tideroom", lease[0], BOUND, lease[1], None))
    found = verified(site, leases, Claims(), "tideroom", address, hardware, 5.0)
    assert found.who.name == name and found.lease is None
    assert (found.contested.who.name if found.contested else None) == contested
    if found.contested:
        assert found.contested.by == hardware and found.who.name is None


def test_an_address_that_was_given_back_is_nobodys_but_its_machines() -> None:
    site, leases = site_from(DEMO), Leases()
    leases.put(Lease(POOL, "tideroom", TWO, LeaseState.RELEASED, 1.0, None))
    for hardware, name in ((TWO, "tide-02"), (RIVAL, None)):
        found = verified(site, leases, Claims(), "tideroom", POOL, hardware, 5.0)
        assert (found.who.name, found.contested) == (name, None)


def test_a_request_that_was_heard_counts_when_the_wire_confirms_it() -> None:
    site, leases, claims = site_from(DEMO), Leases(), Claims()

    def ask(hardware: str) -> Who:
        found = verified(site, leases, claims, "library", THERE, hardware, 5.0)
        if found.lease:
            leases.put(found.lease)
        if found.contested:
            said.append((str(found.contested.who.name), found.contested.by))
        return found.who

    said: list[tuple[str, str]] = []
    claims.put(Lease(THERE, "library", LIB, ELSEWHERE, 9e9, 7))
    assert ask(RIVAL).name is None and said == [("lib-01", RIVAL)]
    assert leases.at(THERE) is None and ask(RIVAL).name is None and len(said) == 1
    claims.put(Lease(THERE, "library", LIB, ELSEWHERE, 9e9, 7))
    assert ask(LIB).name == "lib-01" and leases.architecture_of(LIB) == 7
    claims.put(Lease(THERE, "library", RIVAL, ELSEWHERE, 9e9, None))
    assert ask(LIB).name == "lib-01", "nobody cuts it off"
    assert leases.machine_at(THERE, 6.0) == LIB
    assert ask(TWO).name == "tide-02" and leases.machine_at(THERE, 6.0) == TWO, "the wire decides"


def test_claims_are_few() -> None:
    claims = Claims()
    for number in range(10_000):
        claims.put(Lease(IPv4Address(number), "library", RIVAL, ELSEWHERE, 9e9, None))
    assert claims.take("library", IPv4Address(0)) is None
    assert claims.take("library", IPv4Address(9_999))
    assert len(claims._by_address) < 5_000
