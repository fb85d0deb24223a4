"""One transmission, with receivers that lose blocks, come late, hear or say nothing."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.multicast.datagrams import BLOCK, END, Report, parse, write_head
from daskel.core.multicast.transmission import (
    COLLECT,
    GATHER,
    Answer,
    Phase,
    Range,
    Receiver,
    Transmission,
    missing_of,
    ranges,
)
from daskel.core.reader import MalformedError


@dataclass
class Machine:
    """Has what was not lost on the way to it, and asks when a pass is over."""

    name: str
    blocks: int
    loss: float = 0.0
    comes: float = 0.0
    missing: int = field(init=False)
    alone: int = 0  # blocks that it got by itself
    asked: Receiver | None = None

    def __post_init__(self) -> None:
        self._chance = random.Random(self.name)
        self.missing = (1 << self.blocks) - 1

    def hear(self, found: list[Range]) -> None:
        if self.asked is None or self.asked.answer is not Answer.LISTEN:
            return
        for first, behind in found:
            if self.loss:
                for number in range(first, behind):
                    if self._chance.random() >= self.loss:
                        self.missing &= ~(1 << number)
            else:
                self.missing &= ~(((1 << (behind - first)) - 1) << first)

    def ask(self, cast: Transmission, now: float) -> None:
        self.asked = cast.asks(self.name, self.missing, now)

    def look(self) -> None:
        if self.asked and self.asked.answer is Answer.REST:
            self.alone += self.missing.bit_count()
            self.missing, self.asked = 0, None


def run(cast: Transmission, machines: list[Machine]) -> None:
    """Until all have it."""
    now, coming = 0.0, sorted(machines, key=lambda machine: machine.comes)
    while coming or any(machine.missing for machine in machines):
        assert now < 1000
        while coming and coming[0].comes <= now:
            coming.pop(0).ask(cast, now)
        found = cast.due(now, 64)
        for machine in machines:
            machine.hear(found)
        if found and cast.phase is Phase.COLLECTING:
            for machine in [m for m in machines if m.asked]:
                machine.ask(cast, now)
        for machine in machines:
            machine.look()
        if cast.phase is Phase.OVER:
            assert not coming, "nobody comes after the end here"
            continue
        now = max(now + 1e-4, min(cast.deadline, now + 0.05)) if not found else now


@pytest.mark.parametrize(
    ("machines", "loss", "most"), [(8, 0.01, 1.1), (8, 0.0, 1.0), (2, 0.2, 1.4), (40, 0.02, 1.6)]
)
def test_little_more_than_once(machines: int, loss: float, most: float) -> None:
    """What is sent to all, and what each gets alone, in files."""
    blocks = 4000
    cast = Transmission(blocks, BLOCK)
    room = [Machine(f"tide-{n}", blocks, loss) for n in range(machines)]
    run(cast, room)
    whole = (cast.sent + sum(machine.alone for machine in room)) / blocks
    assert 1.0 <= whole <= most and cast.phase is Phase.OVER and cast.most == machines


def test_one_alone_gets_it_by_itself() -> None:
    cast, one = Transmission(5000, BLOCK), Machine("tide-1", 5000)
    run(cast, [one])
    assert (cast.sent, cast.passes, one.alone) == (0, 0, 5000)


def test_who_comes_late_takes_the_rest() -> None:
    """Two that came late miss the same: it is sent again to both."""
    cast = Transmission(20_000, BLOCK, limit=20_000_000.0)
    room = [Machine("tide-1", 20_000), Machine("tide-2", 20_000)]
    late = [Machine("late-1", 20_000, comes=2.5), Machine("late-2", 20_000, comes=2.6)]
    run(cast, room + late)
    assert cast.passes == 2 and cast.sent < 1.5 * 20_000
    assert [machine.alone for machine in room] == [0, 0] and 0 < late[1].alone < 3000


def test_who_hears_or_says_nothing_is_not_waited_for() -> None:
    cast, now = Transmission(100, BLOCK), 0.0
    silent, deaf, good = (Machine(name, 100) for name in ("silent", "deaf", "good"))
    for machine in (silent, deaf, good):
        machine.ask(cast, now)
        assert machine.asked and machine.asked.answer is None
    assert cast.due(GATHER / 2, 64) == [], "others may come"
    assert cast.due(GATHER, 64) == [(0, 64)] and cast.due(GATHER + 1, 64) == [(64, 100)]
    deaf.ask(cast, GATHER + 1)
    assert deaf.asked and deaf.asked.answer is Answer.REST, "multicast does not reach it"
    good.missing = 1
    good.ask(cast, GATHER + 1.1)
    assert cast.due(GATHER + 1.2, 64) == [] and cast.phase is Phase.COLLECTING
    cast.due(GATHER + 1 + COLLECT, 64)
    assert cast.phase is Phase.OVER and good.asked and good.asked.answer is Answer.REST


def test_one_that_goes_holds_nobody() -> None:
    cast = Transmission(100, BLOCK)
    cast.asks("tide-1", 7, 0.0)
    gone = cast.asks("tide-2", 7, 0.0)
    cast.leave("tide-2")
    assert gone.answer is None and cast.receivers == ["tide-1"]
    one = cast.asks("tide-1", 7, 1.0)
    cast.due(GATHER, 64)
    assert one.answer is Answer.REST and cast.phase is Phase.OVER


def test_nobody_listens_for_ever() -> None:
    """Two that always miss something, and always another: five passes at most."""
    cast, now = Transmission(100, BLOCK), 0.0
    found = [cast.asks(name, (1 << 100) - 1, now) for name in ("a", "b")]
    for turn in range(20):
        if cast.phase is Phase.OVER:
            break
        while cast.phase is not Phase.COLLECTING:
            now += 10
            cast.due(now, 64)
        found = [cast.asks(name, (1 << (90 - turn)) - 1, now) for name in ("a", "b")]
        cast.due(now, 64)
    assert [one.answer for one in found] == [Answer.REST] * 2 and cast.passes == 5


def test_the_pace_goes_by_most_receivers() -> None:
    cast = Transmission(1 << 20, BLOCK, limit=50_000_000.0)
    for number in range(5):
        cast.asks(f"tide-{number}", 1, 0.0)
    began = cast.rate
    for step in range(1, 20):
        cast.report("tide-0", Report(1, 10, 90, 0), step * 1.0)  # one that hears nearly nothing
        for number in range(1, 5):
            cast.report(f"tide-{number}", Report(1, 100, 0, 0), step * 1.0 + number / 10)
    assert cast.rate == 50_000_000.0 > began, "the slowest holds nobody"
    for step in range(20, 40):
        for number in range(5):
            cast.report(f"tide-{number}", Report(1, 80, 20, 0), step * 1.0)
    assert cast.rate < began
    cast.report("stranger", Report(1, 0, 100, 0), 99.0)


def test_the_pace_goes_by_what_is_taken_before_anything_is_lost() -> None:
    """Three that take 5 MB/s each, from a large memory that never overflows."""
    cast, taken = Transmission(200_000, 1000, limit=1e9), 0.0
    names = ("a", "b", "c")
    for name in names:
        cast.asks(name, (1 << 200_000) - 1, 0.0)
    now, told, most = GATHER, GATHER, 0.0
    while now < GATHER + 20:
        cast.due(now, 44)
        now += 0.001
        taken = min(taken + 5.0, cast.sent)
        if now - told > 0.25:
            told = now
            for name in names:
                cast.report(name, Report(1, 1250, 0, int(taken)), now)
            most = max(most, cast.sent - taken)
    assert most < 20_000 and 3e6 < cast.sent * 1000 / 20 < 7e6, (most, cast.sent)


def test_it_keeps_its_pace() -> None:
    """Bytes a second, also where it was kept waiting for a while."""
    cast = Transmission(1 << 16, 1000, limit=1_000_000.0)
    for name in ("a", "b"):
        cast.asks(name, (1 << (1 << 16)) - 1, 0.0)
    now, sent = GATHER, 0
    while now < GATHER + 10:
        sent += sum(behind - first for first, behind in cast.due(now, 44))
        now = cast.deadline if sent % 1000 else now + 0.3
    assert 8_000 < sent < 10_100


@given(st.sets(st.integers(0, 300)), st.integers(1, 40))
def test_only_what_is_missing_is_sent(missing: set[int], most: int) -> None:
    bits = sum(1 << number for number in missing)
    assert [n for first, behind in ranges(bits) for n in range(first, behind)] == sorted(missing)
    cast = Transmission(301, 1000)
    for name in ("a", "b"):
        cast.asks(name, bits, 0.0)
    now, found = GATHER, list[int]()
    while missing and cast.phase in (Phase.GATHERING, Phase.SENDING):
        piece = [n for first, behind in cast.due(now, most) for n in range(first, behind)]
        assert len(piece) <= most
        found += piece
        now += 0.1
    assert found == sorted(missing)


def test_what_a_receiver_has() -> None:
    assert missing_of(b"", 10) == 0b11_1111_1111
    assert missing_of(b"\x05\x00", 10) == 0b11_1111_1010
    assert missing_of(b"\xff\xff", 10) == 0, "bits behind the last block mean nothing"


def test_datagrams() -> None:
    data = bytearray(16 + BLOCK)
    write_head(memoryview(data), 0x1A2B3C4D, 7, (1 << 32) + 9)
    assert parse(bytes(data)) == (0x1A2B3C4D, 7, 9, bytes(BLOCK)) and len(data) + 28 == 1500
    write_head(memoryview(data), 1, END, 0)
    assert parse(bytes(data))[1] == END
    report = Report(0x1A2B3C4D, 900, 100, 1000)
    assert Report.parse(report.serialise()) == report
    for bad in (b"", b"DSKL", b"X" * 16, report.serialise()[:-1], report.serialise() + b"x"):
        with pytest.raises(MalformedError):
            Report.parse(bad)
    for bad in (b"", b"DSKR" + bytes(12), bytes(15)):
        with pytest.raises(MalformedError):
            parse(bad)
