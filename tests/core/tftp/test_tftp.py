"""TFTP packets, option negotiation, and whole transfers over a wire that loses and doubles."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.reader import MalformedError
from daskel.core.tftp.ending import Ending
from daskel.core.tftp.packet import (
    Ack,
    Data,
    Error,
    ErrorCode,
    Opcode,
    Options,
    Request,
    TftpPacket,
    parse,
)
from daskel.core.tftp.recovery import STEPS, Acked, Recovery
from daskel.core.tftp.round_trip import RoundTrip
from daskel.core.tftp.transfer import Blocks, Output, State, Transfer, granted

PACKETS = [
    (
        Request(Opcode.READ, b"loader/bios.img", "octet"),
        "00016c6f616465722f62696f732e696d67006f6374657400",
    ),
    (Request(Opcode.READ, b"a", "octet", {"tsize": "0", "blksize": "1468"}), None),
    (Request(Opcode.WRITE, b"a", "octet"), None),
    (Data(1, b"abc"), "00030001616263"),
    (Data(65535, b""), None),
    (Ack(513), "00040201"),
    (Error(1, "no such file"), None),
    (Options({"blksize": "1432", "tsize": "14"}), None),
]


@pytest.mark.parametrize(("packet", "data"), PACKETS)
def test_packets_both_ways(packet: TftpPacket, data: str | None) -> None:
    assert parse(packet.serialise()) == packet
    assert data is None or packet.serialise().hex() == data


def test_requests_as_old_firmware_writes_them() -> None:
    odd = parse(b"\0\1FILE\0OCTET\0BLKSIZE\x001432\0blksize\x008\0")
    assert odd == Request(Opcode.READ, b"FILE", "octet", {"blksize": "1432"})
    assert parse(b"\0\1a\0octet\0\0") == Request(Opcode.READ, b"a", "octet")


@given(st.binary(max_size=80))
def test_any_bytes_are_a_packet_or_malformed(data: bytes) -> None:
    for opcode in range(8):
        try:
            parse(opcode.to_bytes(2, "big") + data)
        except MalformedError:
            continue


GRANTED = [
    ({}, {}),
    ({"blksize": "1432"}, {"blksize": "1432"}),
    ({"blksize": "65464"}, {"blksize": "1468"}),  # what fits the path
    ({"blksize": "7"}, {}),
    ({"blksize": "many"}, {}),
    ({"blksize": "²"}, {}),
    ({"tsize": "0"}, {"tsize": "1000"}),
    ({"timeout": "3"}, {"timeout": "3"}),
    ({"timeout": "0"}, {}),
    ({"timeout": "256"}, {}),
    ({"timeout": "31"}, {}),
    ({"windowsize": "4", "multicast": ""}, {"windowsize": "4"}),
    ({"windowsize": "64"}, {"windowsize": "16"}),
    ({"windowsize": "0"}, {}),
    ({"tsize": "0", "blksize": "512"}, {"tsize": "1000", "blksize": "512"}),
]


@pytest.mark.parametrize(("asked", "expected"), GRANTED)
def test_granted_options(asked: dict[str, str], expected: dict[str, str]) -> None:
    assert granted(Request(Opcode.READ, b"a", "octet", asked), 1000, 1468, 16) == expected


class Receiver:
    """A client in memory (RFC 7440 section 4): what it received, and what it answers. An eager one
    acknowledges whatever comes."""

    def __init__(self, content: bytes, block: int, window: int = 1, *, eager: bool = False) -> None:
        self.content, self.size, self.window, self.eager = content, block, window, eager
        self.received, self.block, self.unanswered = bytearray(), 0, 0

    def answer(self, output: Output, number: int = 0) -> TftpPacket | None:
        if isinstance(output, Options):
            return Ack(0)
        if isinstance(output, Error):
            return None
        if number & 0xFFFF == (self.block + 1) & 0xFFFF:
            at = (number - 1) * self.size
            self.received += self.content[at : at + self.size]
            self.block += 1
            self.unanswered += 1
            last = self.block * self.size > len(self.content)
            if self.unanswered < self.window and not last and not self.eager:
                return None
        self.unanswered = 0
        return Ack(self.block & 0xFFFF)


def run(transfer: Transfer, receiver: Receiver, fates: list[str]) -> int:
    """Exchange packets until the end; each fate says what happens to the next datagram."""
    now, sent, outputs, fate = 0.0, 0, transfer.start(0.0), iter(fates)
    for _ in range(2_000_000):
        if transfer.state in (State.DONE, State.FAILED):
            return sent
        if not outputs:
            now = transfer.deadline
            outputs = transfer.tick(now)
        waiting, outputs, answers = outputs, [], []
        for output in waiting:
            numbers = (
                range(output.first, output.first + output.amount)
                if isinstance(output, Blocks)
                else [0]
            )
            for number in numbers:
                sent += 1
                happens = next(fate, "arrives")
                reply = None if happens == "lost" else receiver.answer(output, number)
                if reply and happens != "answer lost":
                    answers += [reply] * (2 if happens == "doubled" else 1)
        now += 0.001  # a round trip
        for reply in answers:
            outputs += transfer.receive(reply, now)
    raise AssertionError("no end")


FATES = st.lists(st.sampled_from(["arrives", "lost", "doubled", "answer lost"]), max_size=40)


@given(
    st.binary(max_size=200),
    st.sampled_from([8, 16, 64]),
    st.sampled_from([1, 2, 4, 16]),
    st.booleans(),
    FATES,
)
def test_every_file_arrives_whole(
    content: bytes, block: int, window: int, eager: bool, fates: list[str]
) -> None:
    in_a_row = 0
    for index, fate in enumerate(fates):  # no more losses in a row than a transfer bears
        in_a_row = in_a_row + 1 if "lost" in fate else 0
        if in_a_row >= 3:
            fates[index], in_a_row = "arrives", 0
    receiver = Receiver(content, block, window, eager=eager)
    transfer = Transfer(len(content), {"blksize": str(block), "windowsize": str(window)})
    run(transfer, receiver, fates)
    assert transfer.state is State.DONE
    assert bytes(receiver.received) == content


LOST = [  # window, which datagrams are lost, how many are sent in all, timeouts
    (1, [], 1 + 13, 0),
    (1, [5], 1 + 14, 1),
    (4, [], 1 + 13, 0),
    (4, [2], 1 + 13 + 3, 0),  # a gap is seen by the client: the rest of the window again, at once
    (4, [4], 1 + 13 + 4, 1),  # the end of a window: nobody sees it before its time
    (16, [3], 1 + 13 + 11, 0),
]


@pytest.mark.parametrize(("window", "lost", "expected", "timeouts"), LOST)
def test_what_is_lost_is_sent_again_from_there(
    window: int, lost: list[int], expected: int, timeouts: int
) -> None:
    content = bytes(100)
    fates = ["lost" if n in lost else "arrives" for n in range(20)]
    transfer = Transfer(100, {"blksize": "8", "windowsize": str(window)})
    receiver = Receiver(content, 8, window)
    sent = run(transfer, receiver, fates)
    assert bytes(receiver.received) == content
    assert (sent, transfer.timeouts) == (expected, timeouts)


@given(
    st.integers(1, 20), st.integers(0, 20_000),
    st.lists(st.tuples(st.sampled_from(["all", "some", "old", "odd", "silence"]), st.integers(0, 9)),
             max_size=60),
)  # fmt: skip
def test_the_short_way_is_the_same(window: int, size: int, steps: list[tuple[str, int]]) -> None:
    """Of two transfers that hear the same, one goes the short way wherever that says it can."""
    options = {"blksize": "100", "windowsize": str(window)}
    general, short = Transfer(size, dict(options)), Transfer(size, dict(options))
    now = 1.0
    for one in (general, short):
        one.start(now)
        one.receive(Ack(0), now)
    for kind, amount in steps:
        now += 0.003 * amount
        before = short.sent
        if kind == "silence":
            now += 3
            assert general.tick(now) == short.tick(now)
            continue
        block = {"all": short.sent, "some": max(short.sent - amount, 0), "odd": 7000 + amount,
                 "old": max(short.acknowledged - amount, 0)}[kind] & 0xFFFF  # fmt: skip
        sending = general.state is State.SENDING
        blocks = general.acknowledge(block, now) if sending else None
        end = short.next_window(block, now)
        if end:
            assert blocks is not None and (blocks.first, blocks.amount) == (
                before + 1,
                end - before,
            )
        else:
            assert blocks == (short.acknowledge(block, now) if sending else None)
        assert _inside(general) == _inside(short)


def _inside(transfer: Transfer) -> dict[str, object]:
    """All of its state, with that of its parts."""
    own = {name: getattr(transfer, name) for name in Transfer.__slots__}
    for part in ("trip", "recovery"):
        held = own.pop(part)
        own |= {f"{part}.{name}": getattr(held, name) for name in type(held).__slots__}
    return own


def test_doubled_acknowledgements_double_nothing() -> None:
    content = bytes(100)
    for window in (1, 4):
        transfer = Transfer(len(content), {"blksize": "8", "windowsize": str(window)})
        sent = run(transfer, Receiver(content, 8, window), ["doubled"] * 50)
        assert sent == 1 + 13


def test_a_client_that_acknowledges_every_block_starts_no_storm() -> None:
    content = bytes(8000)
    transfer = Transfer(8000, {"blksize": "8", "windowsize": "16"})
    sent = run(transfer, Receiver(content, 8, 16, eager=True), [])
    assert transfer.state is State.DONE and sent < 3000


def test_what_came_twice_is_not_sent_twice_from_then_on() -> None:
    """A client that pauses: its answer is late, and it acknowledges what it had already."""
    transfer = Transfer(8000, {"blksize": "8", "windowsize": "4"})
    transfer.start(0.0)
    transfer.receive(Ack(0), 0.001)
    for block in range(4, 41, 4):
        transfer.receive(Ack(block), 0.001 + block / 4000)
    late = transfer.deadline
    transfer.tick(late)
    assert transfer.receive(Ack(44), late + 0.01) == [Blocks(45, 4, 352, 32)]
    for number in range(1, 5):
        assert transfer.receive(Ack(44), late + 0.01 * (1 + number)) == []
    assert transfer.resent == 4
    again = transfer.receive(Ack(44), late + 0.06)  # that is one more: block 45 was lost
    assert again == [Blocks(45, 4, 352, 32)] and transfer.timeouts == 1


def test_the_wait_follows_the_round_trip() -> None:
    transfer = Transfer(8000, {"blksize": "8"})
    transfer.start(0.0)
    transfer.receive(Ack(0), 0.1)
    for block in range(1, 50):
        transfer.receive(Ack(block), 0.1 + block * 0.1)
    assert 0.1 <= transfer.deadline - 5.0 < 0.2
    transfer.tick(transfer.deadline)
    assert transfer.resent == transfer.timeouts == 1
    sent = transfer.deadline
    transfer.receive(Ack(50), sent)  # of what was sent twice: it teaches nothing
    assert transfer.deadline - sent == pytest.approx(2 * 0.1, rel=0.5)


def test_what_waits_for_its_turn_is_neither_late_nor_slow() -> None:
    transfer = Transfer(8000, {"blksize": "8"})
    transfer.start(0.0)
    transfer.receive(Ack(0), 0.1)
    transfer.later(5.0)  # it leaves then
    assert transfer.tick(5.1) == [] and transfer.tick(5.2) == []
    transfer.receive(Ack(1), 5.2)
    assert transfer.deadline - 5.2 < 0.5, "the wait was none of the client's"


def test_block_numbers_begin_again() -> None:
    size = 8 * 65536 * 2 + 3  # 131,073 blocks
    content = bytes(range(256)) * (size // 256 + 1)
    receiver = Receiver(content[:size], 8, 16)
    transfer = Transfer(size, {"blksize": "8", "windowsize": "16"})
    run(transfer, receiver, [])
    assert transfer.state is State.DONE and transfer.acknowledged == 131_073
    assert bytes(receiver.received) == content[:size]


SILENT = [  # whether anything came back before, the timeout asked for; the seconds of patience
    (False, None, 10), (True, None, 31), (False, "3", 10), (True, "3", 31), (True, "20", 60),
    (False, "20", 60),
]  # fmt: skip


@pytest.mark.parametrize(("answered", "timeout", "patience"), SILENT)
def test_silence_ends_a_transfer(answered: bool, timeout: str | None, patience: float) -> None:
    transfer = Transfer(2000, {} if timeout is None else {"timeout": timeout})
    transfer.start(0.0)
    if answered:
        transfer.receive(Ack(0 if timeout else 1), 0.0)
    while transfer.state in (State.OFFERING, State.SENDING):
        last, at = transfer.tick(transfer.deadline), transfer.deadline
    assert last == [Error(ErrorCode.UNDEFINED, "the client went silent")]
    assert patience <= at <= patience + float(timeout or 2)


def test_what_is_not_acknowledged_is_sent_at_first_after_a_second() -> None:
    transfer = Transfer(1000)
    assert transfer.start(0.0) == [Blocks(1, 1, 0, 512)]
    transfer.receive(Ack(0), 0.0)
    waits: list[float] = []
    while transfer.state is State.SENDING:
        waits.append(transfer.deadline)
        last = transfer.tick(transfer.deadline)
    assert last == [Error(ErrorCode.UNDEFINED, "the client went silent")]
    assert waits[:4] == [1, 3, 5, 7]


def test_a_last_block_that_nobody_acknowledges() -> None:
    """A boot loader starts its kernel with the last acknowledgement still in the network card."""
    transfer = Transfer(10)
    transfer.start(0.0)
    sendings = 1
    while transfer.state is State.SENDING:
        sendings += len(transfer.tick(transfer.deadline))
    assert (transfer.state, sendings, transfer.failure) == (State.DONE, 4, None)
    for acknowledged, state in ((0, State.FAILED), (1, State.DONE)):
        transfer = Transfer(1000)
        transfer.start(0.0)
        for block in range(acknowledged):
            transfer.receive(Ack(block + 1), 0.0)
        transfer.gone()
        assert transfer.state is state


def test_the_client_chooses_the_timeout() -> None:
    transfer = Transfer(10, {"timeout": "3"})
    transfer.start(0.0)
    transfer.tick(3.0)
    assert transfer.deadline == 6.0


ENDED = [
    (Error(8, "size only"), State.FAILED, Ending.BY_CLIENT, 8, []),
    (Data(1, b"x"), State.FAILED, Ending.MISTAKE, None, [ErrorCode.ILLEGAL]),
    (Ack(7), State.OFFERING, None, None, []),
]


@pytest.mark.parametrize(("packet", "state", "ending", "code", "errors"), ENDED)
def test_odd_answers(
    packet: TftpPacket,
    state: State,
    ending: Ending | None,
    code: int | None,
    errors: list[ErrorCode],
) -> None:
    transfer = Transfer(10, {"tsize": "10"})
    transfer.start(0.0)
    outputs = transfer.receive(packet, 0.1)
    failure = transfer.failure
    assert transfer.state is state
    assert (failure and failure.ending, failure and failure.code) == (ending, code)
    assert [output.code for output in outputs if isinstance(output, Error)] == errors


def test_a_transfer_that_is_over_says_no_more() -> None:
    for packet in (Ack(0), Ack(1), Data(1, b"x"), Error(0, "x")):
        transfer = Transfer(10)
        transfer.start(0.0)
        assert transfer.receive(Ack(1), 0.1) == [] and transfer.state is State.DONE
        assert transfer.receive(packet, 0.2) == [] and transfer.state is State.DONE
    transfer = Transfer(10)
    transfer.start(0.0)
    transfer.gone()
    assert transfer.state is State.DONE, "all was sent"
    assert transfer.tick(99.0) == []


ESTIMATES = [  # seconds that answers took, and the wait after them (RFC 6298 section 2)
    ([0.1], 0.1 + 4 * 0.05),
    ([0.1, 0.1], 0.1 + 4 * 0.0375),
    ([0.001], 0.02),  # the shortest
    ([1.0], 2.0),  # the longest
]


@pytest.mark.parametrize(("took", "wait"), ESTIMATES)
def test_the_estimate_of_a_round_trip(took: list[float], wait: float) -> None:
    trip = RoundTrip()
    for seconds in took:
        trip.learn(seconds, 1)
    assert trip.wait == pytest.approx(wait)
    trip.back_off()
    assert trip.wait == pytest.approx(min(2 * wait, 2.0))


def test_recovery_lists_every_case() -> None:
    assert set(STEPS) == {(resent, acked) for resent in (False, True) for acked in Acked}
    recovery = Recovery()
    recovery.nothing_came(4, 8)
    assert recovery.resent
    assert [recovery.excuses(5) for _ in range(5)] == [True] * 4 + [False], "one for each block"
    assert not recovery.excuses(9)
