"""Who answers, of several servers."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.turns import Turns, owner

NAMES = ("east", "north", "south", "west")
MACS = [bytes((2, 0x61, 8, 0, n >> 8, n & 255)) for n in range(2000)]
MAC = next(mac for mac in MACS if owner(mac, ("north", "south")) == "south")
XID = b"\1\2\3\4"


def test_each_has_its_share() -> None:
    shares = Counter(owner(mac, NAMES) for mac in MACS)
    assert all(400 < shares[name] < 600 for name in NAMES), shares


@given(mac=st.binary(min_size=6, max_size=6), dead=st.sampled_from(NAMES))
def test_only_the_machines_of_a_dead_one_move(mac: bytes, dead: str) -> None:
    left = [name for name in NAMES if name != dead]
    before, after = owner(mac, NAMES), owner(mac, left)
    assert before in (after, dead)
    assert owner(mac, left[::-1]) == after


# When a question of the other server's machine is heard (seconds), and which of them are answered
HEARD: dict[str, tuple[list[float], list[bool]]] = {
    "at once": ([0.0], [False]),
    "again soon": ([0.0, 0.5], [False, False]),
    "for a second": ([0.0, 0.5, 1.0, 4.0], [False, False, True, True]),
    "much later it is another boot": ([0.0, 40.0, 41.0], [False, False, True]),
}


@pytest.mark.parametrize("case", HEARD)
def test_who_is_not_the_owner_steps_in_when_nobody_answers(case: str) -> None:
    turns = Turns("north")
    turns.use(["south"])
    times, answered = HEARD[case]
    assert [turns.is_mine(MAC, XID, 100 + at) for at in times] == answered
    assert not turns.is_mine(MAC, b"\4\3\2\1", 150), "another question"


def test_what_another_server_answers_is_left_to_it() -> None:
    turns = Turns("north")
    turns.use(["north", "south"])
    assert not turns.is_mine(MAC, XID, 0)
    turns.answered(MAC, XID, 0.5)
    assert not turns.is_mine(MAC, XID, 2)
    turns.use(["north"])
    assert turns.is_mine(MAC, XID, 3), "it is dead"


def test_a_flood_is_forgotten() -> None:
    turns = Turns("north")
    turns.use(["south"])
    for number in range(30_000):
        turns.is_mine(MAC, number.to_bytes(4, "big"), 0)
    assert len(turns._heard) == 10_000
