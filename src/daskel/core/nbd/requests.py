"""What clients ask of an export, and how it is answered (doc/proto.md, "Transmission")."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from daskel.core.nbd.handshake import MOST_BYTES, Export
from daskel.core.nbd.numbers import REQUEST, SIMPLE, STRUCTURED, Chunk, Command, Errno, Flag
from daskel.core.reader import MalformedError

HEAD = struct.Struct(">IHHQQI")
_SIMPLE = struct.Struct(">IIQ")
_CHUNK = struct.Struct(">IHHQI")
_DONE = 1  # flag of a chunk: the last one
_CHANGING = (Command.WRITE, Command.TRIM, Command.WRITE_ZEROES)
_KNOWN_FLAGS = {
    Command.READ: Flag.NO_FRAGMENTS | Flag.FUA,
    Command.WRITE: Flag.FUA,
    Command.FLUSH: Flag.FUA,
    Command.TRIM: Flag.FUA,
    Command.WRITE_ZEROES: Flag.FUA | Flag.NO_HOLE,
}


@dataclass(frozen=True, slots=True)
class Request:
    """One request. `offset` and `length` in bytes; a WRITE's data follow its head."""

    command: int
    flags: int
    cookie: int
    offset: int
    length: int

    @property
    def data(self) -> int:
        """Bytes that follow its head."""
        return self.length if self.command == Command.WRITE else 0


def parse(buffer: bytes | bytearray, at: int = 0) -> Request:
    """The head of a request from the network, HEAD.size bytes. Raises MalformedError for what
    leaves no way to find the next one."""
    magic, flags, command, cookie, offset, length = HEAD.unpack_from(buffer, at)
    if magic != REQUEST:
        raise MalformedError("NBD: not a request")
    if command == Command.WRITE and length > MOST_BYTES:
        raise MalformedError(f"NBD: a WRITE of {length} bytes, {MOST_BYTES} at most")
    return Request(command, flags, cookie, offset, length)


def serialise(request: Request) -> bytes:
    """As a client sends it."""
    r = request
    return HEAD.pack(REQUEST, r.flags, r.command, r.cookie, r.offset, r.length)


def refusal(request: Request, export: Export) -> Errno | None:
    """Why a request is not carried out; None when it can be."""
    command = request.command
    if command not in _KNOWN_FLAGS or request.flags & ~int(_KNOWN_FLAGS[Command(command)]):
        return Errno.INVAL
    if command in _CHANGING and not export.writable:
        return Errno.PERM
    if command == Command.READ and request.length > MOST_BYTES:
        return Errno.OVERFLOW
    if command != Command.FLUSH and request.offset + request.length > export.size:
        return Errno.NOSPC if command in _CHANGING else Errno.INVAL
    if command != Command.FLUSH and request.length == 0:
        return Errno.INVAL
    return None


def done(cookie: int, *, structured: bool, error: Errno | None = None) -> bytes:
    """The reply to a request without data, or that failed."""
    if not structured:
        return _SIMPLE.pack(SIMPLE, error or 0, cookie)
    if error is None:
        return _CHUNK.pack(STRUCTURED, _DONE, Chunk.NONE, cookie, 0)
    return _CHUNK.pack(STRUCTURED, _DONE, Chunk.ERROR, cookie, 6) + struct.pack(">IH", error, 0)


def data_head(request: Request, *, structured: bool) -> bytes:
    """What comes before the bytes of a READ."""
    if not structured:
        return _SIMPLE.pack(SIMPLE, 0, request.cookie)
    length = request.length + 8
    head = _CHUNK.pack(STRUCTURED, _DONE, Chunk.DATA, request.cookie, length)
    return head + request.offset.to_bytes(8, "big")
