"""RPC records and calls, NFS arguments and results, and who may read what."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.nfs import calls, mount, nfs3, results
from daskel.core.nfs.calls import NewAttributes
from daskel.core.nfs.nfs3 import (
    Access,
    Attributes,
    FileType,
    NfsError,
    Procedure,
    Status,
    permitted,
)
from daskel.core.nfs.results import DirectoryEntry
from daskel.core.nfs.rpc import (
    RECORD_LIMIT,
    BadCredentialsError,
    Credentials,
    Records,
    Refusal,
    mark,
    parse_call,
    parse_reply,
    refuse,
    serialise_call,
    success,
)
from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.core.reader import MalformedError, Reader

U32, U64 = st.integers(0, 2**32 - 1), st.integers(0, 2**64 - 1)
TIMES = st.integers(0, 2**32 * 10**9 - 1)
ATTRIBUTES = st.builds(
    Attributes,
    type=st.sampled_from(FileType),
    mode=st.integers(0, 0o7777),
    links=U32,
    uid=U32,
    gid=U32,
    size=U64,
    used=U64,
    device=st.tuples(U32, U32),
    fsid=U64,
    fileid=U64,
    atime=TIMES,
    mtime=TIMES,
    ctime=TIMES,
)


@given(ATTRIBUTES)
def test_attributes_both_ways(attributes: Attributes) -> None:
    data = attributes.serialise()
    assert len(data) == 84
    assert nfs3.parse_attributes(Reader(data, "x")) == attributes


@given(
    ATTRIBUTES, st.lists(st.tuples(U64, st.binary(max_size=255), U64, st.booleans()), max_size=5)
)
def test_listings_both_ways(
    directory: Attributes, rows: list[tuple[int, bytes, int, bool]]
) -> None:
    entries = [
        DirectoryEntry(i, n, c, *((directory, b"handle") if full else ())) for i, n, c, full in rows
    ]
    data = results.listed(directory, [entry.serialise(plus=True) for entry in entries], end=True)
    reader = Reader(data, "x")
    assert reader.number(4) == Status.OK
    assert results.parse_listed_plus(reader) == (entries, True)
    reader.end()


@given(st.lists(st.binary(max_size=300), max_size=4), st.integers(1, 50), st.integers(0, 299))
def test_records_in_any_pieces(records: list[bytes], step: int, split: int) -> None:
    stream = b""
    for record in records:  # each in two fragments
        head, tail = record[:split], record[split:]
        stream += len(head).to_bytes(4, "big") + head + mark(tail)
    reader, got = Records(), []
    for start in range(0, len(stream), step):
        got += reader.feed(stream[start : start + step])
    assert got == records


def test_endless_records_are_refused() -> None:
    with pytest.raises(MalformedError):
        Records().feed((RECORD_LIMIT + 1).to_bytes(4, "big"))
    reader = Records()
    with pytest.raises(MalformedError):
        for _ in range(10):
            reader.feed((1 << 20).to_bytes(4, "big") + bytes(1 << 20))


def test_calls_and_replies() -> None:
    call = parse_call(serialise_call(7, nfs3.PROGRAM, 3, Procedure.GETATTR, b"abcd", uid=1000))
    assert (call.xid, call.program, call.version, call.procedure) == (7, 100003, 3, 1)
    assert call.credentials == Credentials(1000, 1000) and call.arguments.rest() == b"abcd"
    xid, reader = parse_reply(success(7, b"abcd"))
    assert (xid, reader.rest()) == (7, b"abcd")
    with pytest.raises(MalformedError, match="refused: procedure unavailable"):
        parse_reply(refuse(7, Refusal.PROCEDURE_UNAVAILABLE))
    with pytest.raises(MalformedError, match="status 77"):
        parse_reply(success(7, b"")[:-4] + pack_u32(77))
    with pytest.raises(MalformedError, match="status 10006"):
        mount.parse_mounted(Reader(pack_u32(10006), "MOUNT"))


@given(st.binary(max_size=120))
def test_any_bytes_are_a_call_or_malformed(data: bytes) -> None:
    whole = serialise_call(1, nfs3.PROGRAM, 3, 3, b"")
    for record in (data, whole[: len(data)] + data):
        try:
            call = parse_call(record)
            calls.parse_lookup(call.arguments)
        except (MalformedError, NfsError):
            continue


FILE, FOLDER = FileType.REGULAR, FileType.DIRECTORY
R, L, X, NONE = Access.READ, Access.LOOKUP, Access.EXECUTE, Access(0)
ROOT, OWNER, MEMBER, OTHER = (
    Credentials(0, 0),
    Credentials(100, 999),
    Credentials(999, 999, frozenset((50,))),
    Credentials(999, 999),
)
W = Access.MODIFY | Access.EXTEND
D = W | Access.DELETE
# A file of user 100 and group 50: to open it, and once it is open; what may be written, too
PERMITTED = [
    (FILE, 0o640, ROOT, R | W, R | W),
    (FILE, 0o000, ROOT, R | W, R | W),
    (FILE, 0o755, ROOT, R | W | X, R | W | X),
    (FOLDER, 0o700, ROOT, R | L | D, R | L | D),
    (FILE, 0o640, OWNER, R | W, R | W),
    (FILE, 0o444, OWNER, R, R | W),
    (FILE, 0o000, OWNER, NONE, R | W),
    (FOLDER, 0o300, OWNER, L | D, R | L | D),
    (FILE, 0o640, MEMBER, R, R),
    (FILE, 0o640, Credentials(999, 50), R, R),
    (FILE, 0o604, MEMBER, NONE, NONE),
    (FILE, 0o640, OTHER, NONE, NONE),
    (FILE, 0o644, OTHER, R, R),
    (FILE, 0o711, OTHER, X, R | X),
    (FOLDER, 0o711, OTHER, L, L),
    (FOLDER, 0o744, OTHER, R, R),
    (FILE, 0o666, OTHER, R | W, R | W),
]


@pytest.mark.parametrize(("kind", "mode", "who", "to_open", "opened"), PERMITTED)
def test_permitted(
    kind: FileType, mode: int, who: Credentials, to_open: Access, opened: Access
) -> None:
    attributes = Attributes(kind, mode, 1, 100, 50, 0, 0, (0, 0), 1, 1, 0, 0, 0)
    assert permitted(attributes, who, writable=True) == to_open
    assert permitted(attributes, who, writable=False) == to_open & ~D
    assert permitted(attributes, who, writable=True, opened=True) == opened


NO_ONE = 0xFFFFFFFF
BAD = [(NO_ONE, 0, ()), (0, NO_ONE, ()), (5, 5, (7, NO_ONE)), (5, 5, tuple(range(17)))]


@pytest.mark.parametrize(("uid", "gid", "groups"), BAD)
def test_credentials_that_nobody_has_are_denied(
    uid: int, gid: int, groups: tuple[int, ...]
) -> None:
    body = pack_u32(0) + pack_opaque(b"tide") + pack_u32(uid, gid, len(groups), *groups)
    record = pack_u32(9, 0, 2, nfs3.PROGRAM, 3, 1, 1) + pack_opaque(body) + pack_u32(0, 0)
    with pytest.raises(BadCredentialsError) as error:
        parse_call(record)
    assert error.value.reply == pack_u32(9, 1, 1, 1, 1)  # denied, AUTH_ERROR, AUTH_BADCRED


@pytest.mark.parametrize("new", [NewAttributes(uid=NO_ONE), NewAttributes(gid=NO_ONE)])
def test_nothing_becomes_nobodys(new: NewAttributes) -> None:
    with pytest.raises(NfsError):
        calls.parse_setattr(Reader(calls.serialise_setattr(b"x" * 32, new), "call"))


REFUSED = [  # bytes of results behind the status: RFC 1813 3.3
    (Procedure.GETATTR, 0),
    (Procedure.LOOKUP, 4),
    (Procedure.READ, 4),
    (Procedure.WRITE, 8),
    (Procedure.CREATE, 8),
    (Procedure.RENAME, 16),
    (Procedure.LINK, 12),
    (Procedure.COMMIT, 8),
]


@pytest.mark.parametrize(("procedure", "size"), REFUSED)
def test_failures_have_the_right_length(procedure: Procedure, size: int) -> None:
    assert results.failed(procedure, Status.ROFS) == (30).to_bytes(4, "big") + bytes(size)
