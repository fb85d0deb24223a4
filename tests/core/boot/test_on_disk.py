"""What a start would know of the leases that were told, whatever was written, failed, or was lost."""

from __future__ import annotations

from ipaddress import IPv4Address

from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.boot.on_disk import OnDisk

SECONDS = 80.0
ADDRESS = IPv4Address("10.61.8.100")
STATES = [LeaseState.BOUND] * 4 + [LeaseState.RELEASED, LeaseState.DECLINED, LeaseState.ELSEWHERE]
LEASES = st.builds(
    Lease, st.just(ADDRESS), st.sampled_from(["tideroom", "readroom"]),
    st.sampled_from(["02:61:08:00:00:01", "02:61:08:00:00:02"]), st.sampled_from(STATES),
    st.just(0.0), st.sampled_from([None, 7]),
)  # fmt: skip
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("wants"), LEASES),
        st.tuples(st.sampled_from(["lasts"]), st.floats(0, 12)),
        st.tuples(st.sampled_from(["writes", "fails", "starts"]), st.none()),
    ),
    max_size=60,
)


@given(STEPS)
def test_what_was_told_is_on_disk(steps: list[tuple[str, object]]) -> None:
    """A lease is told when it is covered, or when its write is done; the disk is one queue."""
    disk: dict[IPv4Address, Lease] = {}
    now, known, waiting = 0.0, OnDisk(), list[tuple[Lease, list[Lease]]]()

    def told(lease: Lease) -> None:
        held = disk[lease.address]
        assert (held.segment, held.mac, held.state) == (lease.segment, lease.mac, lease.state)
        assert held.architecture == lease.architecture
        assert lease.expires <= held.expires <= lease.expires + SECONDS / 8 + 1e-6

    for what, value in steps:
        if isinstance(value, float):
            now += value
        elif isinstance(value, Lease):
            lease = value._replace(expires=now + SECONDS)
            if known.covers(lease):
                told(lease)
            else:
                waiting.append((lease, known.rows([lease], now)))
        elif what == "starts":
            known, waiting = OnDisk(list(disk.values())), []
        elif waiting:
            lease, rows = waiting.pop(0)
            if what == "writes":
                disk |= {row.address: row for row in rows}
                known.written(rows)
                if lease.state is LeaseState.BOUND:
                    told(lease)


def test_a_renewed_lease_is_written_once_in_an_eighth_of_its_time() -> None:
    known = OnDisk()
    lease = Lease(ADDRESS, "tideroom", "02:61:08:00:00:01", LeaseState.BOUND, SECONDS)
    rows = known.rows([lease._replace(expires=1.0), lease], 0.0)
    assert rows == [lease._replace(expires=90.0)]
    assert not known.covers(lease), "it is not written yet"
    known.written(rows)
    for more, covered in ((0.0, True), (10.0, True), (10.1, False)):
        assert known.covers(lease._replace(expires=SECONDS + more)) is covered
    others = Lease(ADDRESS + 1, "readroom", "02:61:08:00:00:02", LeaseState.RELEASED, 91.0, 7, 1)
    for field, other in others._asdict().items():
        assert not known.covers(lease._replace(**{field: other})), field
    known.rows([lease._replace(state=LeaseState.RELEASED)], 0.0)
    assert not known.covers(lease), "something else is about to be written"
