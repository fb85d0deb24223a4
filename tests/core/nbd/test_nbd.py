"""The handshake and the requests of NBD: what clients send, and what they are answered."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.nbd.handshake import AskExport, AskNames, Export, Handshake, Phase
from daskel.core.nbd.numbers import OPTIONS, Can, Command, Errno, Flag, Info, Option, Reply
from daskel.core.nbd.requests import HEAD, Request, data_head, done, parse, refusal, serialise
from daskel.core.reader import MalformedError

IMAGE, DISK = Export(1 << 20, description="an image"), Export(1 << 20, writable=True)
FLAGS = (3).to_bytes(4, "big")


def option(number: int, data: bytes = b"") -> bytes:
    return struct.pack(">QII", OPTIONS, number, len(data)) + data


def named(name: str, *wanted: Info) -> bytes:
    encoded = name.encode()
    kinds = struct.pack(f">{len(wanted)}H", *wanted)
    return struct.pack(">I", len(encoded)) + encoded + struct.pack(">H", len(wanted)) + kinds


def answered(sent: bytes, size: int = 1 << 20) -> tuple[Handshake, list[tuple[int, int, bytes]]]:
    """What the handshake says to a client that may have `image`, byte by byte or at once; each
    answer with its option, kind and data."""
    made = Handshake()
    greeting, made.out = made.out, b""
    assert greeting[:16] == b"NBDMAGICIHAVEOPT"
    for at in range(0, len(sent), size):
        question = made.receive(sent[at : at + size])
        while question is not None:
            if isinstance(question, AskNames):
                question = made.names(["image", "other"])
            else:
                assert isinstance(question, AskExport)
                there = question.name == "image"
                question = made.export(IMAGE if there else None, "not here")
    out, found = made.out, []
    while len(out) >= 20 and out[:8] == b"\0\x03\xe8\x89\x04\x55\x65\xa9":
        number, kind, length = struct.unpack(">III", out[8:20])
        found.append((number, kind, out[20 : 20 + length]))
        out = out[20 + length :]
    return made, found


INFO = struct.pack(">HQH", Info.EXPORT, 1 << 20, IMAGE.flags(structured=False))
HANDSHAKES = [
    (option(Option.GO, named("image")), Phase.DONE, [(7, Reply.INFO, INFO), (7, Reply.ACK, b"")]),
    (option(Option.INFO, named("image", Info.NAME)), Phase.OPTION,
     [(6, Reply.INFO, INFO), (6, Reply.INFO, b"\0\x01image"), (6, Reply.ACK, b"")]),
    (option(Option.GO, named("image", Info.DESCRIPTION)), Phase.DONE,
     [(7, Reply.INFO, INFO), (7, Reply.INFO, b"\0\x02an image"), (7, Reply.ACK, b"")]),
    (option(Option.GO, named("nothing")), Phase.OPTION, [(7, Reply.UNKNOWN, b"not here")]),
    (option(Option.GO, b"\0\0\0\xffx"), Phase.OPTION, [(7, Reply.INVALID, b"malformed")]),
    (option(Option.GO, named("image") + b"x"), Phase.OPTION, [(7, Reply.INVALID, b"malformed")]),
    (option(Option.LIST), Phase.OPTION, [
        (3, Reply.SERVER, b"\0\0\0\x05image"), (3, Reply.SERVER, b"\0\0\0\x05other"),
        (3, Reply.ACK, b"")]),
    (option(Option.LIST, b"x"), Phase.OPTION, [(3, Reply.INVALID, b"LIST has no data")]),
    (option(Option.STRUCTURED_REPLY), Phase.OPTION, [(8, Reply.ACK, b"")]),
    (option(Option.STARTTLS), Phase.OPTION, [(5, Reply.UNSUPPORTED, b"")]),
    (option(4711), Phase.OPTION, [(4711, Reply.UNSUPPORTED, b"")]),
    (option(Option.ABORT), Phase.ENDED, [(2, Reply.ACK, b"")]),
    (option(Option.EXPORT_NAME, b"nothing"), Phase.ENDED, []),
    (option(Option.EXPORT_NAME, b"image"), Phase.DONE, []),
]  # fmt: skip


@pytest.mark.parametrize("size", [1, 7, 1 << 20])
@pytest.mark.parametrize(("sent", "phase", "answers"), HANDSHAKES)
def test_handshake(
    sent: bytes, phase: Phase, answers: list[tuple[int, int, bytes]], size: int
) -> None:
    made, found = answered(FLAGS + sent, size)
    assert (made.phase, found) == (phase, answers)
    cut, _ = answered(FLAGS + sent[:-1])
    assert cut.phase is Phase.OPTION, "it waits for the rest"


def test_requests_may_follow_at_once() -> None:
    request = serialise(Request(Command.READ, 0, 7, 512, 4096))
    sent = FLAGS + option(Option.STRUCTURED_REPLY) + option(Option.GO, named("image")) + request
    made, _ = answered(sent)
    assert made.phase is Phase.DONE and made.structured and made.rest == request


def test_an_old_client_gets_zeroes_behind_its_export() -> None:
    made, _ = answered(bytes(3) + b"\x01" + option(Option.EXPORT_NAME, b"image"))
    assert made.out == struct.pack(">QH", 1 << 20, IMAGE.flags(structured=False)) + bytes(124)


@pytest.mark.parametrize(
    "sent",
    [b"\0\0\0\xff", FLAGS + b"x" * 16, FLAGS + option(Option.GO, bytes(6000)),
     FLAGS + option(Option.LIST) * 40],
)  # fmt: skip
def test_what_no_client_sends(sent: bytes) -> None:
    with pytest.raises(MalformedError):
        answered(sent)


@given(st.binary(max_size=300))
def test_any_bytes_end_soon(data: bytes) -> None:
    for begin in (b"", FLAGS, FLAGS + struct.pack(">QI", OPTIONS, Option.GO)):
        try:
            answered(begin + data)
        except MalformedError:
            continue


READ, WRITE, TRIM = Command.READ, Command.WRITE, Command.TRIM
REFUSALS = [
    (Request(READ, 0, 1, 0, 1 << 20), IMAGE, None),
    (Request(READ, Flag.NO_FRAGMENTS, 1, 4096, 512), IMAGE, None),
    (Request(READ, 0, 1, 1, 1 << 20), IMAGE, Errno.INVAL),
    (Request(READ, 0, 1, (1 << 64) - 1, 2), IMAGE, Errno.INVAL),
    (Request(READ, 0, 1, 0, 0), IMAGE, Errno.INVAL),
    (Request(READ, 0, 1, 0, (32 << 20) + 1), Export(1 << 40), Errno.OVERFLOW),
    (Request(READ, 0x80, 1, 0, 512), IMAGE, Errno.INVAL),
    (Request(WRITE, Flag.FUA, 1, 0, 512), DISK, None),
    (Request(WRITE, 0, 1, 0, 512), IMAGE, Errno.PERM),
    (Request(WRITE, 0, 1, (1 << 20) - 1, 2), DISK, Errno.NOSPC),
    (Request(TRIM, 0, 1, 0, 1 << 20), DISK, None),
    (Request(Command.WRITE_ZEROES, Flag.NO_HOLE, 1, 0, 4096), IMAGE, Errno.PERM),
    (Request(Command.FLUSH, 0, 1, 0, 0), IMAGE, None),
    (Request(99, 0, 1, 0, 512), DISK, Errno.INVAL),
]


@pytest.mark.parametrize(("request_", "export", "error"), REFUSALS)
def test_refusals(request_: Request, export: Export, error: Errno | None) -> None:
    assert parse(serialise(request_)) == request_
    assert refusal(request_, export) == error


def test_what_leaves_no_way_to_the_next_request() -> None:
    for data in (bytes(HEAD.size), serialise(Request(WRITE, 0, 1, 0, (32 << 20) + 1))):
        with pytest.raises(MalformedError):
            parse(data)


REPLIES = [
    (done(7, structured=False), "67446698 00000000 0000000000000007"),
    (done(7, structured=False, error=Errno.IO), "67446698 00000005 0000000000000007"),
    (done(7, structured=True), "668e33ef 0001 0000 0000000000000007 00000000"),
    (done(7, structured=True, error=Errno.PERM),
     "668e33ef 0001 8001 0000000000000007 00000006 00000001 0000"),
    (data_head(Request(READ, 0, 7, 512, 4096), structured=False),
     "67446698 00000000 0000000000000007"),
    (data_head(Request(READ, 0, 7, 512, 4096), structured=True),
     "668e33ef 0001 0001 0000000000000007 00001008 0000000000000200"),
]  # fmt: skip


@pytest.mark.parametrize(("made", "expected"), REPLIES)
def test_replies(made: bytes, expected: str) -> None:
    assert made == bytes.fromhex(expected)


def test_one_that_writes_has_its_disk_alone() -> None:
    assert Can.MULTI_CONN in IMAGE.flags(structured=True)
    assert Can.MULTI_CONN not in DISK.flags(structured=True)
