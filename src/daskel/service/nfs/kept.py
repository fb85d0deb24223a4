"""The short way of NFS: calls that were answered before and whose answer is still right.

GETATTR, ACCESS and LOOKUP are most of what clients ask, and READ what they wait for. A call is
known by all of its bytes but its number. An answer is right as long as what it says of files is
what the disk says now: every change sets an inode's ctime, every read may set its atime, and
blocks are given to a file later on. Times only tell that when they are old enough, since they are
no finer than the kernel's tick. What a client may have is not looked at here: who changes that
calls `clear`.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from daskel.core.nfs.nfs3 import NfsError, Procedure
from daskel.service.nfs.procedures import Find
from daskel.system.nfs.export import Export

_MOST = 1024  # calls that are remembered of one connection
LONGEST = (
    1024  # bytes of such a call: to look for the data of a WRITE takes longer than to write it
)
_SETTLED = 2 * 10**9  # nanoseconds
_ASKING = (Procedure.GETATTR, Procedure.ACCESS, Procedure.LOOKUP)
_HEAD = 8  # bytes of a reply's mark and number
_STATUS = slice(28, 32)  # of NFS, in a reply with its mark
_OK = bytes(4)
_CREDENTIALS = slice(28, 32)  # their length, in a call
_ARGUMENTS = 40  # bytes before them, and the credentials
_now, _fstat, _stat = time.time_ns, os.fstat, os.stat

Seen = tuple[int, int, int, int]  # of a file: ctime, atime, blocks, inode


class _Reply(NamedTuple):
    peek: Callable[[bytes], int | None]  # an open place by its handle
    handle: bytes
    name: bytes | None  # of LOOKUP, in the folder `handle`
    ctime: int
    atime: int
    blocks: int
    export: Export
    its: Seen  # of what has the name
    mark: bytes
    rest: bytes  # behind the number


class _Read(NamedTuple):
    peek: Callable[[bytes], int | None]  # an open file by its handle
    handle: bytes
    length: int  # bytes that are asked for
    size: int  # bytes of the file
    seen: Seen
    mark: bytes
    rest: bytes


class FilePart(NamedTuple):
    """The answer to a READ: `head`, then a part of an open file."""

    head: bytes
    descriptor: int  # may be closed by the export's next call
    offset: int
    length: int


@dataclass
class Room:
    """For what all connections of a process remember."""

    left: int = 16_384  # calls


class Kept:
    """Of one connection."""

    def __init__(self, room: Room) -> None:
        self._room = room
        self._replies: dict[bytes, _Reply] = {}
        self._reads: dict[tuple[bytes, bytes], _Read] = {}

    def clear(self) -> None:
        """What the client may have, or what an export is, changes."""
        self._room.left += len(self._replies) + len(self._reads)
        self._replies.clear()
        self._reads.clear()

    def reply(self, record: bytes) -> bytes | None:
        """The whole record of the reply; None when the call must be carried out."""
        kept = self._replies.get(record[4:])
        if kept is None:
            return None
        peek, handle, name, ctime, atime, blocks, export, its, mark, rest = kept
        place = peek(handle)
        try:
            if place is None:
                place = export.place(handle)
            status = _fstat(place)
            if (
                status.st_ctime_ns == ctime
                and status.st_atime_ns == atime
                and status.st_blocks == blocks
            ):
                if name is None:
                    return mark + record[:4] + rest
                status = _stat(name, dir_fd=place, follow_symlinks=False)
                now = status.st_ctime_ns, status.st_atime_ns, status.st_blocks, status.st_ino
                if now == its and export.below(place):
                    return mark + record[:4] + rest
        except (OSError, NfsError):
            pass
        del self._replies[record[4:]]
        self._room.left += 1
        return None

    def _make_room(self) -> None:
        """For one more."""
        if len(self._replies) + len(self._reads) >= _MOST or self._room.left <= 0:
            self.clear()
        self._room.left -= 1

    def keep(self, record: bytes, procedure: int, find: Find, reply: bytes) -> None:
        """`reply`, with its mark, was just given to a call."""
        if procedure not in _ASKING or reply[_STATUS] != _OK:
            return
        handle, rest = _opaque(record[_behind_head(record) :])
        name = _opaque(rest)[0] if procedure == Procedure.LOOKUP else None
        try:
            export = find(handle)
            place = export.place(handle)
            status = _fstat(place)
            named = _stat(name, dir_fd=place, follow_symlinks=False) if name else status
        except (OSError, NfsError):
            return
        if not (_settled(status) and _settled(named)) or name in (b".", b".."):
            return
        if record[4:] not in self._replies:
            self._make_room()
        self._replies[record[4:]] = _Reply(
            export.files.places.peek, handle, name, *_seen(status)[:3], export, _seen(named),
            reply[:4], reply[_HEAD:],
        )  # fmt: skip

    def read(self, record: bytes) -> FilePart | None:
        """What is sent for a READ like one before, but for where; None when the call must be
        carried out."""
        kept = self._reads.get((record[4:-12], record[-4:]))
        if kept is None:
            return None
        peek, handle, count, size, seen, mark, rest = kept
        offset = int.from_bytes(record[-12:-4], "big")
        descriptor = peek(handle)
        if descriptor is None or offset + count >= size:
            return None
        if _seen(_fstat(descriptor)) != seen:
            del self._reads[record[4:-12], record[-4:]]
            self._room.left += 1
            return None
        return FilePart(b"".join((mark, record[:4], rest)), descriptor, offset, count)

    def keep_read(self, record: bytes, find: Find, head: bytes, count: int) -> None:
        """`head`, with its mark, and `count` bytes were just given to a READ. What may change is
        not remembered: neither the end of a file, nor a slate. Raises NfsError."""
        handle, rest = _opaque(record[_behind_head(record) :])
        export = find(handle)
        peek = export.files.to_read.peek
        descriptor = None if export.writable else peek(handle)
        if descriptor is None or count != int.from_bytes(rest[8:12], "big") or count % 4:
            return
        status, offset = _fstat(descriptor), int.from_bytes(rest[:8], "big")
        if not _settled(status) or offset + count >= status.st_size:
            return
        if (record[4:-12], record[-4:]) not in self._reads:
            self._make_room()
        self._reads[record[4:-12], record[-4:]] = _Read(
            peek, handle, count, status.st_size, _seen(status), head[:4], head[_HEAD:]
        )


def _seen(status: os.stat_result) -> Seen:
    return status.st_ctime_ns, status.st_atime_ns, status.st_blocks, status.st_ino


def _settled(status: os.stat_result) -> bool:
    """Whether another change would set another time; not one that is ahead of this clock."""
    return _now() - max(status.st_ctime_ns, status.st_atime_ns) > _SETTLED


def _behind_head(record: bytes) -> int:
    length = int.from_bytes(record[_CREDENTIALS], "big")
    return _ARGUMENTS + length + -length % 4


def _opaque(data: bytes) -> tuple[bytes, bytes]:
    """Bytes behind their length (RFC 4506 4.10), and what follows them."""
    length = int.from_bytes(data[:4], "big")
    end = 4 + length
    return data[4:end], data[end + -length % 4 :]
