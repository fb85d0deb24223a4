"""TFTP packets, option negotiation, and whole transfers over a wire that loses and doubles."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.reader import MalformedError
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
from daskel.core.tftp.transfer import LAST_RETRIES, Block, Output, State, Transfer, granted

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
    ({"windowsize": "4", "multicast": ""}, {}),
    ({"tsize": "0", "blksize": "512"}, {"tsize": "1000", "blksize": "512"}),
]


@pytest.mark.parametrize(("asked", "expected"), GRANTED)
def test_granted_options(asked: dict[str, str], expected: dict[str, str]) -> None:
    assert granted(Request(Opcode.READ, b"a", "octet", asked), 1000, 1468) == expected


class Receiver:
    """A client in memory: what it received, and what it answers."""

    def __init__(self, content: bytes) -> None:
        self.content, self.received, self.block = content, bytearray(), 0

    def answer(self, output: Output) -> TftpPacket | None:
        if isinstance(output, Options):
            return Ack(0)
        if isinstance(output, Error):
            return None
        if output.number & 0xFFFF == (self.block + 1) & 0xFFFF:
            self.block += 1
            self.received += self.content[output.offset : output.offset + output.length]
        return Ack(output.number & 0xFFFF)


def run(transfer: Transfer, receiver: Receiver, fates: list[str]) -> int:
    """Exchange packets until the end; each fate says what happens to the next one."""
    now, sent, outputs, fate = 0.0, 0, transfer.start(0.0), iter(fates)
    for _ in range(2_000_000):
        if transfer.state in (State.DONE, State.FAILED):
            return sent
        if not outputs:
            now = transfer.deadline
            outputs = transfer.tick(now)
        waiting, outputs = outputs, []
        for output in waiting:
            sent += 1
            happens = next(fate, "arrives")
            if happens == "lost":
                continue
            reply = receiver.answer(output)
            for _ in range(2 if happens == "doubled" else 1):
                if reply and happens != "answer lost":
                    outputs += transfer.receive(reply, now)
    raise AssertionError("no end")


FATES = st.lists(st.sampled_from(["arrives", "lost", "doubled", "answer lost"]), max_size=40)


@given(st.binary(max_size=200), st.sampled_from([8, 16, 64]), FATES)
def test_every_file_arrives_whole(content: bytes, block: int, fates: list[str]) -> None:
    in_a_row = 0
    for index, fate in enumerate(fates):  # no more losses in a row than a transfer bears
        in_a_row = in_a_row + 1 if "lost" in fate else 0
        if in_a_row >= LAST_RETRIES:
            fates[index], in_a_row = "arrives", 0
    receiver = Receiver(content)
    transfer = Transfer(len(content), {"blksize": str(block)})
    run(transfer, receiver, fates)
    assert transfer.state is State.DONE
    assert bytes(receiver.received) == content


def test_doubled_acknowledgements_double_nothing() -> None:
    content = bytes(100)
    receiver = Receiver(content)
    sent = run(Transfer(len(content), {"blksize": "8"}), receiver, ["doubled"] * 50)
    assert sent == 1 + 13


def test_block_numbers_begin_again() -> None:
    size = 8 * 65536 * 2 + 3  # 131,073 blocks
    content = bytes(range(256)) * (size // 256 + 1)
    receiver = Receiver(content[:size])
    transfer = Transfer(size, {"blksize": "8"})
    run(transfer, receiver, [])
    assert transfer.state is State.DONE and transfer.acknowledged == 131_073
    assert bytes(receiver.received) == content[:size]


def test_silence_ends_a_transfer() -> None:
    transfer = Transfer(1000)
    assert transfer.start(0.0) == [Block(1, 0, 512)]
    waits = []
    while transfer.state is State.SENDING:
        waits.append(transfer.deadline)
        last = transfer.tick(transfer.deadline)
    assert last == [Error(ErrorCode.UNDEFINED, "the client went silent")]
    assert waits == [1, 3, 7, 15, 23, 31]


def test_a_last_block_that_nobody_acknowledges() -> None:
    """A boot loader starts its kernel with the last acknowledgement still in the network card."""
    transfer = Transfer(10)
    transfer.start(0.0)
    sendings = 1
    while transfer.state is State.SENDING:
        sendings += len(transfer.tick(transfer.deadline))
    assert (transfer.state, sendings, transfer.failure) == (State.DONE, 3, "")
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
    (Error(8, "size only"), State.FAILED, "the client ended it: size only", []),
    (Data(1, b"x"), State.FAILED, "something else", [ErrorCode.ILLEGAL]),
    (Ack(7), State.OFFERING, "", []),
]


@pytest.mark.parametrize(("packet", "state", "failure", "errors"), ENDED)
def test_odd_answers(
    packet: TftpPacket, state: State, failure: str, errors: list[ErrorCode]
) -> None:
    transfer = Transfer(10, {"tsize": "10"})
    transfer.start(0.0)
    outputs = transfer.receive(packet, 0.1)
    assert transfer.state is state and failure in transfer.failure
    assert [output.code for output in outputs if isinstance(output, Error)] == errors
