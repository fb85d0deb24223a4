"""MOP: what a VAX's ROM sent and took, loads that lose messages, and bytes of any kind."""

from __future__ import annotations

import random
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.memory_image import MemoryImage
from daskel.core.mop.load import Load, State
from daskel.core.mop.messages import (
    LARGEST_BLOCK,
    Code,
    Frame,
    Framing,
    Protocol,
    RequestLoad,
    RequestProgram,
    Standard,
    SystemId,
    parse,
    parse_frame,
    request_id,
    request_load,
    request_program,
    serialise_frame,
    volunteer,
)
from daskel.core.reader import MalformedError
from daskel.system.captures import read_frames

HERE = Path(__file__).parents[1] / "capture/others"
VAX = bytes.fromhex("08002b610831")


def frames(name: str) -> list[Frame]:
    found = (parse_frame(data) for _, data in read_frames(HERE / f"{name}.pcap"))
    return [frame for frame in found if frame]


@pytest.mark.parametrize(
    ("name", "asked", "framing"),
    [
        ("mop-vax-byname", '"TIDEBOARD-1"', Framing.SNAP),
        ("mop-vax-eth8k", "a system", Framing.ETHERNET),
    ],
)
def test_the_same_load_as_a_rom_took(name: str, asked: str, framing: Framing) -> None:
    """What another server sent it, block by block, is what ours would have sent."""
    found = [frame for frame in frames(name) if frame.protocol is Protocol.LOAD]
    asks = [parse(f.message) for f in found if f.message[0] == Code.REQUEST_PROGRAM]
    assert all(isinstance(one, RequestProgram) and one.asked == asked for one in asks)
    last = next(n for n, f in enumerate(found) if f.message[0] == Code.LOAD) - 1
    assert found[last].framing is framing and found[last - 1].message == volunteer()
    loads = [f.message for f in found if f.message[0] == Code.LOAD]
    image = b"".join(message[6:] for message in loads)
    end = next(f.message for f in found if f.message[0] == Code.PARAMETERS)
    address, transfer = (int.from_bytes(m, "little") for m in (loads[0][2:6], end[-4:]))
    load = Load(MemoryImage([(len(image), address)], LARGEST_BLOCK), transfer)
    load.begin(0.0)
    sent = [load.message(due(load, image))]
    for frame in found[last + 1 :]:
        told = parse(frame.message)
        if isinstance(told, RequestLoad) and load.acknowledged(told, 0.0):
            sent.append(load.message(due(load, image)))
    assert sent == [*loads, end] and load.state is State.DONE
    for frame in found:
        assert parse_frame(serialise_frame(frame)) == frame


def due(load: Load, *images: bytes) -> bytes:
    """The bytes of the block that is due."""
    block = load.wanted
    return images[block.image][block.offset :][: block.length] if block else b""


def test_what_a_rom_says_it_is() -> None:
    told = [parse(frame.message) for frame in frames("mop-vax-console")]
    (first, *_) = ids = [one for one in told if isinstance(one, SystemId)]
    assert first.device == "DELQA or DESQA" or any(one.device == "DELQA or DESQA" for one in ids)
    assert any("boot" in one.functions for one in ids)
    assert ids[-1].more == ("version 3.1.0", "address 08:00:2b:61:08:31", "item 25h: 11")
    assert {one.receipt for one in ids} >= {0, 0x1234}


class Client:
    """Takes each block once, on a wire that loses messages of both directions."""

    def __init__(self, loss: float, seed: int) -> None:
        self.got, self.wants, self._loss, self._chance = b"", 0, loss, random.Random(seed)
        self.transfer: int | None = None
        self.addresses: list[int] = []

    def _lost(self) -> bool:
        return self._chance.random() < self._loss

    def hears(self, message: bytes) -> RequestLoad | None:
        if self._lost():
            return None
        if message[1] == self.wants & 0xFF:
            if message[0] == Code.LOAD:
                self.addresses.append(int.from_bytes(message[2:6], "little"))
                self.got += message[6:]
            else:
                self.transfer = int.from_bytes(message[-4:], "little")
            self.wants += 1
        answer = request_load(self.wants)
        told = parse(answer)
        assert isinstance(told, RequestLoad)
        return None if self._lost() else told


@pytest.mark.parametrize("size", [1, 1024, 1025, 300 * 1024])
@pytest.mark.parametrize("loss", [0.0, 0.02, 0.1])
def test_a_load_comes_whole(size: int, loss: float) -> None:
    """Also more blocks than a message's number has values."""
    image, client = random.Random(size).randbytes(size), Client(loss, size)
    more = b"a disk" * size
    load = Load(MemoryImage([(size, 0x5200), (len(more), 0x900000)], LARGEST_BLOCK), 0x5204)
    now, send = 0.0, True
    load.begin(now)
    while load.state in (State.LOADING, State.ENDING):
        told = client.hears(load.message(due(load, image, more))) if send else None
        now += 0.01 if told else 0.25
        send = load.acknowledged(told, now) if told else load.tick(now)
    assert (client.got, client.transfer) == (image + more, 0x5204)
    wanted = [*range(0x5200, 0x5200 + size, 1024), *range(0x900000, 0x900000 + len(more), 1024)]
    assert client.addresses == wanted and load.done == len(image + more)
    assert load.state is State.DONE or loss  # its last acknowledgement may be lost for ever
    assert bool(load.repeated) == bool(loss) or size <= 1025


def test_who_says_nothing_is_given_up() -> None:
    load, now, sent = Load(MemoryImage([(5000, 0)], LARGEST_BLOCK), 0), 0.0, 0
    load.begin(now)
    while load.state is not State.GIVEN_UP:
        sent += load.tick(now)
        now += 0.1
    assert 60 < now < 75 and 5 < sent < 20
    assert not load.acknowledged(RequestLoad(1), now)


def test_a_fault_that_the_client_tells_is_mended() -> None:
    load = Load(MemoryImage([(5000, 0)], LARGEST_BLOCK), 0)
    load.begin(0.0)
    assert load.acknowledged(RequestLoad(1), 1.0) and load.number == 1
    assert not load.acknowledged(RequestLoad(1), 1.0), "the same once more"
    assert load.acknowledged(RequestLoad(1, error=1), 1.0) and load.number == 1
    assert not load.acknowledged(RequestLoad(7), 1.0) and load.repeated == 1


@given(st.lists(st.integers(0, 4000), max_size=5), st.integers(1, 1500))
def test_images_in_blocks(sizes: list[int], block: int) -> None:
    memory = MemoryImage([(size, n << 20) for n, size in enumerate(sizes)], block)
    blocks = [memory.at(number) for number in range(memory.blocks)]
    for n, size in enumerate(sizes):
        own = [one for one in blocks if one.image == n]
        assert [b for one in own for b in range(one.offset, one.offset + one.length)] == list(
            range(size)
        )
        assert all(one.address == (n << 20) + one.offset for one in own)
    done = [memory.before(number) for number in range(memory.blocks + 1)]
    assert [b - a for a, b in pairwise(done)] == [one.length for one in blocks]
    assert (done[0], done[-1]) == (0, sum(sizes))
    with pytest.raises(IndexError):
        memory.at(memory.blocks)


@pytest.mark.parametrize(
    ("message", "asked", "broken"),
    [
        (request_program("WWNG2"), '"WWNG2"', b""),
        (request_program(""), "a system", b""),
        (bytes((8, 0x25, 1, 2, 0xFF, 0)), "the standard system", b""),
        (bytes((8, 0x25, 1, 2, 0xFE, 0)), "the standard maintenance", b""),
        (bytes((8, 0x25, 1, 2, 0x90, 0)), "a system", b""),
        (bytes((8, 0x25, 1, 2, 0)), "a system", b""),
        (
            bytes((8, 0x25, 1, 2, 0, 0, 100, 0, 1, 0x25, 1, 0, 9, 3)),
            "a system",
            bytes((1, 0, 9, 3)),
        ),
    ],
)
def test_what_is_asked_for(message: bytes, asked: str, broken: bytes) -> None:
    told = parse(message)
    assert isinstance(told, RequestProgram) and (told.asked, told.broken) == (asked, broken)
    if "standard" in asked:
        assert isinstance(told.software, Standard)


@pytest.mark.parametrize(
    "message",
    [b"\x08", b"\x0a", b"\x07\0", bytes((8, 0x25, 1, 2, 5, 65)), bytes((8, 0x25, 1, 2, 1, 7, 0))],
)
def test_what_is_no_message(message: bytes) -> None:
    with pytest.raises(MalformedError):
        parse(message)


@given(st.binary(max_size=80), st.sampled_from(list(Framing)), st.sampled_from(list(Protocol)))
def test_bytes_of_any_kind(data: bytes, framing: Framing, protocol: Protocol) -> None:
    for whole in (
        data,
        bytes(12) + b"\x60\x01" + data,
        bytes(12) + b"\0\x20\xaa\xaa\x03\x08\0\x2b" + data,
    ):
        try:
            frame = parse_frame(whole)
            if frame:
                parse(frame.message)
        except MalformedError:
            pass
    if data:
        frame = Frame(VAX, VAX[::-1], protocol, framing, data)
        assert parse_frame(serialise_frame(frame)) == frame


def test_requests_of_ours_are_read_by_ourselves() -> None:
    assert request_id(0x1234) == bytes.fromhex("05003412")
    assert parse(request_load(300)) == RequestLoad(300 & 0xFF)
    assert parse(b"\x55") is None and parse_frame(bytes(60)) is None
