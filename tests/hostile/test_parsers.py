"""Whatever comes, a parser reads it or says in its own words why not."""

from __future__ import annotations

import os
import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.hostile.conftest import Figure
from tests.hostile.parsers import PARSERS, try_out

ROUNDS = int(os.environ.get("HOSTILE", "1"))
SLOW = {"captures", "site file", "archives"}


@pytest.mark.parametrize("name", PARSERS)
def test_good_messages_that_are_cut_doubled_and_scribbled_upon(name: str, figure: Figure) -> None:
    parser, chance = PARSERS[name], random.Random(61)
    for seed in parser.seeds:
        parser.read(seed) if name not in ("paths", "archives") else try_out(parser, seed)
    for _ in range((60 if name in SLOW else 1000) * ROUNDS):
        data = bytearray(chance.choice(parser.seeds))
        for _ in range(chance.randrange(1, 6)):
            at = chance.randrange(len(data) + 1)
            how = chance.randrange(5)
            if how == 0:
                data[at : at + 1] = chance.randbytes(1)
            elif how == 1:
                del data[at : at + chance.randrange(1, 40)]
            elif how == 2:
                data[at:at] = data[: chance.randrange(len(data) + 1)]
            elif how == 3:
                data[at : at + 4] = chance.choice((b"\xff" * 4, bytes(4), b"\x7f\xff\xff\xff"))
            else:
                data[at:at] = chance.randbytes(chance.randrange(60))
            data = data[: 1 << 20] or bytearray(b"\0")
        try_out(parser, bytes(data))
    count = (60 if name in SLOW else 1000) * ROUNDS
    figure(f"damaged messages: {name}", count, "read, or refused in its own words")


@pytest.mark.parametrize("name", PARSERS)
def test_any_bytes(name: str) -> None:
    parser = PARSERS[name]

    @settings(
        max_examples=(20 if name in SLOW else 200) * ROUNDS,
        suppress_health_check=list(HealthCheck), deadline=None, database=None,
    )  # fmt: skip
    @given(st.binary(max_size=600))
    def reads(data: bytes) -> None:
        try_out(parser, data)

    reads()
