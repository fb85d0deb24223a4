"""Nobody takes all places: a model of who is in, and what may never happen."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from daskel.core.places import Places

_moves = st.lists(
    st.tuples(
        st.sampled_from(["enter", "busy", "rest", "leave"]),
        st.integers(0, 30), st.integers(0, 4), st.sampled_from(["tideroom", "library"]),
        st.booleans(),
    ),
    max_size=80,
)  # fmt: skip


@given(_moves)
def test_limits_hold_whatever_happens(moves: list[tuple[str, int, int, str, bool]]) -> None:
    places: Places[int] = Places(8, 3, 2)
    inside: dict[int, tuple[int, str, bool]] = {}
    resting: set[int] = set()
    for what, key, peer, segment, known in moves:
        if what == "enter" and key not in inside:
            let_in, leaves = places.enter(key, str(peer), segment, known=known)
            if leaves is not None:
                assert let_in and leaves in inside
                assert leaves in resting or (known and not inside[leaves][2])
                assert known or not inside[leaves][2] or inside[leaves][0] == peer
                places.leave(leaves)
                del inside[leaves]
                resting.discard(leaves)
            if let_in:
                inside[key] = peer, segment, known
                resting.add(key)
        elif what != "enter":
            getattr(places, what)(key)
            if key in inside:
                resting.add(key) if what == "rest" else resting.discard(key)
            if what == "leave":
                inside.pop(key, None)
        assert len(places) == len(inside) <= 8
        for where in ("tideroom", "library"):
            assert sum(s == where for _, s, _ in inside.values()) <= 4
        of_peers = Counter((p, s) for p, s, _ in inside.values())
        assert all(count <= 3 for count in of_peers.values())
        assert (places.resting() is None) is not bool(resting)


def test_who_gives_way() -> None:
    places: Places[str] = Places(3, 3)
    for key in ("old", "busy", "young"):
        assert places.enter(key, key, "tideroom", known=False) == (True, None)
    places.busy("busy")
    assert places.enter("one", "one", "tideroom", known=False) == (True, "old")
    places.leave("old")
    assert places.enter("two", "two", "tideroom", known=True) == (True, "young")
    places.leave("young")
    assert places.enter("three", "three", "tideroom", known=True) == (True, "one")
    places.leave("one")
    places.busy("two"), places.busy("three")
    assert places.enter("stranger", "x", "tideroom", known=False) == (False, None)
    assert places.enter("four", "four", "tideroom", known=True) == (True, "busy")
