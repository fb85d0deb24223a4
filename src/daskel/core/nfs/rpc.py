"""Remote procedure calls (RFC 5531): calls and replies, AUTH_SYS, record marking on TCP."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from enum import IntEnum
from functools import lru_cache
from typing import NamedTuple

from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.core.reader import MalformedError, Reader

RECORD_LIMIT = 2 << 20  # bytes; the largest call is a WRITE of 1 MiB, which is refused
AUTH_NONE, AUTH_SYS = 0, 1
_CALL, _REPLY = 0, 1
_LENGTH, _FIXED = 28, 32  # where the length of the credentials begins, and ends
_ACCEPTED, _MARKED = struct.Struct(">6I"), struct.Struct(">7I")


_NO_VERIFIER = bytes(8)  # AUTH_NONE, of no bytes


class Refusal(IntEnum):
    """accept_stat of RFC 5531 9, without SUCCESS."""

    PROGRAM_UNAVAILABLE = 1
    PROGRAM_MISMATCH = 2
    PROCEDURE_UNAVAILABLE = 3
    GARBAGE_ARGUMENTS = 4
    SYSTEM_ERROR = 5


_REFUSALS = frozenset(Refusal)


@dataclass(frozen=True, slots=True)
class Credentials:
    """Who the caller says it is (AUTH_SYS, RFC 5531 appendix A); nobody under AUTH_NONE."""

    uid: int = 65534
    gid: int = 65534
    groups: frozenset[int] = frozenset()


NOBODY = Credentials()
_NO_ONE = 0xFFFFFFFF  # no user or group has this number: system calls take it for "as it is"
_BAD_CREDENTIALS = 1  # AUTH_BADCRED, RFC 5531 section 9


class BadCredentialsError(MalformedError):
    """Credentials that nobody can have; `reply` says so."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reply = b""


class Call(NamedTuple):
    """A call (RFC 5531 section 9); its arguments are not read yet."""

    xid: int
    program: int
    version: int
    procedure: int
    credentials: Credentials
    arguments: Reader


def parse_call(record: bytes) -> Call:
    """Read a call from the network. Raises MalformedError, also for an RPC version other than 2."""
    length = int.from_bytes(record[_LENGTH:_FIXED], "big")  # of the credentials
    if length > 400:
        raise MalformedError(f"RPC call: credentials of {length} bytes, 400 at most")
    end = _FIXED + length + -length % 4 + len(_NO_VERIFIER)
    try:
        program, version, procedure, who = _head(record[4:end])
    except BadCredentialsError as error:
        error.reply = record[:4] + pack_u32(_REPLY, 1, 1, _BAD_CREDENTIALS)
        raise
    arguments = Reader(record, "RPC call", end)
    return Call(int.from_bytes(record[:4], "big"), program, version, procedure, who, arguments)


@lru_cache(maxsize=4096)
def _head(head: bytes) -> tuple[int, int, int, Credentials]:
    """Program, its version, procedure and caller: a client repeats the whole head, from the message
    type to the verifier, in each of its calls of one kind."""
    reader = Reader(head, "RPC call")
    kind, version = reader.number(4), reader.number(4)
    if kind != _CALL or version != 2:
        raise reader.fail(f"message type {kind} and RPC version {version}, expected 0 and 2")
    program, number, procedure, flavour = (reader.number(4) for _ in range(4))
    body = reader.opaque(400)
    if reader.take(8) != _NO_VERIFIER:
        raise reader.fail("a verifier, which AUTH_SYS and AUTH_NONE have not")
    return program, number, procedure, _auth_sys(body) if flavour == AUTH_SYS else NOBODY


def _auth_sys(body: bytes) -> Credentials:
    reader = Reader(body, "AUTH_SYS credentials")
    reader.number(4), reader.opaque(255)  # stamp and machine name
    uid, gid, count = reader.number(4), reader.number(4), reader.number(4)
    if count > 16:
        raise BadCredentialsError(f"AUTH_SYS credentials: {count} groups, 16 at most")
    groups = frozenset(reader.number(4) for _ in range(count))
    if _NO_ONE in (uid, gid, *groups):
        raise BadCredentialsError(f"AUTH_SYS credentials: user {uid}, group {gid}: no such one")
    return Credentials(uid, gid, groups)


def serialise_call(
    xid: int, program: int, version: int, procedure: int, arguments: bytes, uid: int = 0
) -> bytes:
    """A call with AUTH_SYS credentials of one user without groups."""
    credentials = pack_u32(0) + pack_opaque(b"client") + pack_u32(uid, uid, 0)
    head = pack_u32(xid, _CALL, 2, program, version, procedure, AUTH_SYS)
    return head + pack_opaque(credentials) + pack_u32(AUTH_NONE, 0) + arguments


def success(xid: int, results: bytes) -> bytes:
    """An accepted reply with its results (RFC 5531 section 9)."""
    return _ACCEPTED.pack(xid, _REPLY, 0, AUTH_NONE, 0, 0) + results


def refuse(xid: int, why: Refusal, versions: tuple[int, int] | None = None) -> bytes:
    """A reply that accepts the call but does not carry it out; `versions` for a mismatch."""
    return pack_u32(xid, _REPLY, 0, AUTH_NONE, 0, why) + (pack_u32(*versions) if versions else b"")


def parse_reply(record: bytes) -> tuple[int, Reader]:
    """xid and results of a reply from the network. Raises MalformedError when it is a refusal."""
    reader = Reader(record, "RPC reply")
    xid, kind, denied = reader.number(4), reader.number(4), reader.number(4)
    if kind != _REPLY or denied:
        raise reader.fail("not a reply that was accepted")
    reader.number(4), reader.opaque(400)
    status = reader.number(4)
    if status in _REFUSALS:
        words = Refusal(status).name.replace("_", " ").lower()
        raise reader.fail(f"the call was refused: {words}")
    if status:
        raise reader.fail(f"the call was refused with status {status}")
    return xid, reader


def marked_success(xid: int, results: bytes, more: int = 0) -> bytes:
    """The whole record of a reply, but for `more` bytes that follow behind `results`."""
    length = 0x80000000 | _ACCEPTED.size + len(results) + more
    return _MARKED.pack(length, xid, _REPLY, 0, AUTH_NONE, 0, 0) + results


def mark(record: bytes) -> bytes:
    """The record as one last fragment (RFC 5531 section 11)."""
    return (0x80000000 | len(record)).to_bytes(4, "big") + record


class Records:
    """Joins what a TCP stream brings into records. Raises MalformedError when one is too long:
    `limit` in bytes."""

    def __init__(self, limit: int = RECORD_LIMIT) -> None:
        self.limit = limit
        self._stream = bytearray()  # what is no whole fragment yet
        self._wanted = 0  # bytes of that fragment with its mark, when it is known
        self._record = bytearray()

    @property
    def unfinished(self) -> bool:
        """Whether a record has begun and is not whole."""
        return bool(self._stream or self._record)

    def feed(self, data: bytes) -> list[bytes]:
        """The whole records in `data` and what came before. Raises MalformedError."""
        if self._stream:  # else whole records are cut from `data` without copying it
            self._stream += data
            if len(self._stream) < self._wanted:
                return []
            data = bytes(self._stream)
            self._stream.clear()
        complete, at, end = [], 0, len(data)
        self._wanted = 0
        while at + 4 <= end:
            head = int.from_bytes(data[at : at + 4], "big")
            length = head & 0x7FFFFFFF
            if len(self._record) + length > self.limit:
                raise MalformedError(f"RPC record of {length} bytes, {self.limit} at most")
            start, next_at = at + 4, at + 4 + length
            if next_at > end:
                self._wanted = next_at - at
                break
            at = next_at
            if not head & 0x80000000:
                self._record += data[start:at]
            elif self._record:
                complete.append(bytes(self._record) + data[start:at])
                self._record.clear()
            else:
                complete.append(data[start:at])
        if at < end:
            self._stream += data[at:]
        return complete
