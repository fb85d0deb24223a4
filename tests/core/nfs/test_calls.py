"""Arguments of every call both ways, whole and cut; handles that only the server can make."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.nfs import calls, portmap, results
from daskel.core.nfs.calls import Clock, Make, NewAttributes, Write
from daskel.core.nfs.handle import body_of, export_number, export_of, make_handle
from daskel.core.nfs.nfs3 import Attributes, FileType, NfsError, Stable, Status
from daskel.core.nfs.replays import Replays
from daskel.core.nfs.xdr import pack_u32
from daskel.core.reader import MalformedError, Reader

H, N = b"handle-of-a-file", b"name"
ALL = NewAttributes(0o640, 1, 2, 3, 4 * 10**9 + 5, Clock.SERVER)
CASES: list[tuple[Callable[[Reader], Any], bytes, Any]] = [
    (calls.parse_lookup, calls.serialise_lookup(H, N), (H, N)),
    (calls.parse_read, calls.serialise_read(H, 1 << 40, 9), (H, 1 << 40, 9)),
    (calls.parse_commit, calls.serialise_commit(H, 1 << 40, 9), (H, 1 << 40, 9)),
    (calls.parse_setattr, calls.serialise_setattr(H, ALL, 7 * 10**9 + 8), (H, ALL, 7 * 10**9 + 8)),
    (calls.parse_setattr, calls.serialise_setattr(H, NewAttributes()), (H, NewAttributes(), None)),
    (
        calls.parse_write,
        Write(H, 5, Stable.FILE_SYNC, b"abcde").serialise(),
        Write(H, 5, Stable.FILE_SYNC, b"abcde"),
    ),
    (
        calls.parse_create,
        calls.serialise_create(Make(H, N, FileType.REGULAR, ALL, guarded=True)),
        Make(H, N, FileType.REGULAR, ALL, guarded=True),
    ),
    (
        calls.parse_create,
        calls.serialise_create(Make(H, N, FileType.REGULAR, exclusive=b"12345678")),
        Make(H, N, FileType.REGULAR, exclusive=b"12345678"),
    ),
    (
        calls.parse_mkdir,
        calls.serialise_mkdir(Make(H, N, FileType.DIRECTORY, ALL)),
        Make(H, N, FileType.DIRECTORY, ALL),
    ),
    (
        calls.parse_symlink,
        calls.serialise_symlink(Make(H, N, FileType.LINK, ALL, text=b"to")),
        Make(H, N, FileType.LINK, ALL, text=b"to"),
    ),
    (
        calls.parse_mknod,
        calls.serialise_mknod(Make(H, N, FileType.CHARACTER, ALL, device=(1, 3))),
        Make(H, N, FileType.CHARACTER, ALL, device=(1, 3)),
    ),
    (
        calls.parse_mknod,
        calls.serialise_mknod(Make(H, N, FileType.FIFO, ALL)),
        Make(H, N, FileType.FIFO, ALL),
    ),
    (calls.parse_rename, calls.serialise_rename(H, N, b"other", b"new"), (H, N, b"other", b"new")),
    (calls.parse_link, calls.serialise_link(H, b"folder", N), (H, b"folder", N)),
]


@pytest.mark.parametrize(("parse", "data", "expected"), CASES)
def test_arguments(parse: Callable[[Reader], Any], data: bytes, expected: Any) -> None:
    reader = Reader(data, "x")
    assert parse(reader) == expected
    reader.end()
    for length in range(len(data)):
        with pytest.raises(MalformedError):
            parse(Reader(data[:length], "x"))


@given(st.sampled_from(CASES), st.binary(max_size=80), st.integers(0, 60))
def test_any_bytes_are_arguments_or_refused(
    case: tuple[Any, bytes, Any], noise: bytes, at: int
) -> None:
    parse, data, _ = case
    with suppress(MalformedError, NfsError):
        parse(Reader(data[:at] + noise + data[at:], "x"))


REFUSED = [
    (calls.parse_lookup, calls.serialise_lookup(H, b"x" * 256), Status.NAMETOOLONG),
    (
        calls.parse_symlink,
        calls.serialise_symlink(Make(H, N, FileType.LINK, text=b"t" * 5000)),
        Status.NAMETOOLONG,
    ),
    (calls.parse_mknod, calls.serialise_lookup(H, N) + pack_u32(1), Status.BADTYPE),
]


@pytest.mark.parametrize(("parse", "data", "status"), REFUSED)
def test_what_the_protocol_has_a_status_for(
    parse: Callable[[Reader], Any], data: bytes, status: Status
) -> None:
    with pytest.raises(NfsError) as error:
        parse(Reader(data, "x"))
    assert error.value.status is status


def test_results_that_a_client_reads() -> None:
    some = Attributes(FileType.REGULAR, 0o644, 1, 0, 0, 3, 0, (0, 0), 1, 2, 3, 4, 5)
    made = Reader(results.made(H, some, some, some), "x")
    assert made.number(4) == Status.OK and results.parse_made(made) == (H, some)
    assert results.parse_changed(made) == some
    made.end()
    written = Reader(results.written(some, some, 3, Stable.UNSTABLE, b"verifier"), "x")
    assert written.number(4) == Status.OK and results.parse_written(written) == (3, b"verifier")
    written.end()


@given(st.binary(min_size=1, max_size=48), st.integers(0, 70), st.integers(1, 255))
def test_only_the_server_makes_handles(body: bytes, at: int, flip: int) -> None:
    key, export = b"k" * 32, export_number("slate/notebook/tide-01")
    handle = make_handle(key, export, body)
    assert len(handle) <= 64 and export_of(handle) == export and body_of(key, handle) == body
    forged = bytearray(handle)
    forged[at % len(handle)] ^= flip
    for wrong in (bytes(forged), handle[:-1], handle + b"x", make_handle(b"other", export, body)):
        with pytest.raises(NfsError):
            body_of(key, wrong)


def test_a_repeated_call_gets_its_first_reply() -> None:
    replays = Replays()
    key, reply = replays.find("10.61.8.21", b"call")
    assert reply is None
    replays.keep("10.61.8.21", key, b"reply")
    assert replays.find("10.61.8.21", b"call")[1] == b"reply"
    assert (
        replays.find("10.61.8.22", b"call")[1] is None
        and replays.find("10.61.8.21", b"CALL")[1] is None
    )
    for number in range(300):
        replays.keep("10.61.8.21", bytes([number % 256, number // 256]), b"")
    assert replays.find("10.61.8.21", b"call")[1] is None, "only so many are remembered"


PORTS = {(100003, 3): 2049, (100005, 3): 2049}
PORT_CALLS = [
    (0, b"", b""),
    (3, pack_u32(100003, 3, 6, 0), pack_u32(2049)),
    (3, pack_u32(100003, 3, 17, 0), pack_u32(0)),
    (3, pack_u32(100003, 4, 6, 0), pack_u32(0)),
    (4, b"", pack_u32(1, 100003, 3, 6, 2049, 1, 100005, 3, 6, 2049, 0)),
    (1, pack_u32(1, 1, 6, 1), None),
]


@pytest.mark.parametrize(("procedure", "arguments", "expected"), PORT_CALLS)
def test_port_mapper(procedure: int, arguments: bytes, expected: bytes | None) -> None:
    assert portmap.answer(procedure, Reader(arguments, "x"), PORTS) == expected
