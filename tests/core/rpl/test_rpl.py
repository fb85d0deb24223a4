"""RPL: frames that another program's dissector reads without a fault, loads with losses, any bytes."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.memory_image import MemoryImage
from daskel.core.reader import MalformedError
from daskel.core.rpl.load import Load, State
from daskel.core.rpl.messages import (
    LARGEST_BLOCK,
    FileData,
    Find,
    Flags,
    SendFile,
    file_data,
    find,
    found,
    parse,
    parse_frame,
    send_file,
    serialise_frame,
)
from daskel.system.captures import read_frames

OTHERS = Path(__file__).parents[1] / "capture/others"
CLIENT, SERVER = bytes.fromhex("026108000031"), bytes.fromhex("0261080000fe")


def test_frames_that_a_dissector_knows() -> None:
    frames = [parse_frame(data) for _, data in read_frames(OTHERS / "rpl-load-by-hand.pcap")]
    assert all(frames)
    told = [parse(frame.message) for frame in frames if frame]
    assert told[0] == Find(1, 1478, "TIDEBOARD") and told[2] == SendFile(0, 1478, "TIDEBOARD")
    blocks = [one for one in told if isinstance(one, FileData)]
    image = b"".join(block.data for block in blocks)
    assert image == bytes(range(256)) * 16 and blocks[-1].flags == Flags.LAST | Flags.BEGIN
    assert frames[1] and frames[1].message == found(Find(1, 1478, ""), CLIENT, SERVER, 1478)
    for frame, block in zip(frames[3:], blocks, strict=False):
        assert frame and frame.message == file_data(block)


@pytest.mark.parametrize("loss", [0.0, 0.02, 0.2])
@pytest.mark.parametrize("size", [1, 1440, 1441, 100 * 1440 + 7])
def test_a_load_comes_whole(size: int, loss: float) -> None:
    image, chance = random.Random(size).randbytes(size), random.Random(7)
    sizes = (size, 0x10000), (1_474_560, 0x100000)  # a boot block, and a floppy's image
    image += random.Random(8).randbytes(1_474_560)
    load, now, got, wants = Load(MemoryImage(sizes, LARGEST_BLOCK), 0x10004), 0.0, b"", 0
    due, began = load.asked(0, now), False
    while load.state is State.LOADING:
        asks = None
        for number in due:
            part = load.memory.at(number)
            data = image[part.offset + size * part.image :][: part.length]
            block = load.message(number, data, ends=number == due[-1])
            read = parse(file_data(block))
            assert read == block
            if chance.random() < loss:
                continue
            if number == wants:
                at = len(got) - size
                assert block.place == (0x10000 + len(got) if at < 0 else 0x100000 + at)
                got, wants = got + block.data, wants + 1
                began = began or bool(block.flags & Flags.BEGIN and block.begin == 0x10004)
            if block.flags & Flags.ACKNOWLEDGE or number > wants:
                asks = wants
        now += 0.1
        lost = chance.random() < loss
        due = load.asked(asks, now) if asks is not None and not lost else load.tick(now)
        if began and not loss:
            assert got == image
    assert (got == image and began) or loss, "the last block is not acknowledged by a real machine"
    assert load.state is State.DONE


def test_who_says_nothing_is_given_up() -> None:
    load, now = Load(MemoryImage([(100_000, 0)], LARGEST_BLOCK), 0), 0.0
    load.asked(0, now)
    while load.state is State.LOADING:
        now += 0.25
        load.tick(now)
    assert load.state is State.GIVEN_UP and 60 < now < 80
    assert not load.asked(3, now)


@given(st.binary(max_size=90))
def test_bytes_of_any_kind(data: bytes) -> None:
    head = bytes(12) + len(data).to_bytes(2, "big")
    for whole in (data, head + data, head + b"\xfc\xfc\x03" + data):
        try:
            frame = parse_frame(whole)
            if frame:
                parse(frame.message)
        except MalformedError:
            pass


def test_what_a_simulated_machine_says() -> None:
    for message, told in (
        (find(CLIENT, "TIDEBOARD"), Find(1, 1478, "TIDEBOARD")),
        (send_file(CLIENT, 7, "TIDEBOARD"), SendFile(7, 1478, "TIDEBOARD")),
    ):
        frame = parse_frame(serialise_frame(SERVER, CLIENT, message, sap=0xF8))
        assert frame and frame.source == CLIENT and parse(frame.message) == told
    for bad in (b"", b"\0\x04\0", b"\0\x08\0\x10abcd", b"\0\x03\0\x01"):
        with pytest.raises(MalformedError):
            parse(bad)
