"""A file that is being sent, wherever its bytes are."""

from __future__ import annotations

import os
from asyncio import Future
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from daskel.core.history.events import FileKind


class Stored(NamedTuple):
    """Bytes of an open file."""

    descriptor: int
    offset: int
    length: int


@dataclass
class Opened:
    """A file to send: `data` when computed, else an open descriptor; or `pieces`, one behind the
    other, with files that it may close. `ready` is set where the last piece is still worked out:
    nothing may be read before. Close it."""

    path: str
    kind: FileKind
    size: int  # bytes
    data: bytes | None = None
    descriptor: int = -1
    quiet: bool = False
    pieces: list[bytes | Stored] = field(default_factory=list)
    ready: Future[None] | None = None

    @property
    def stored(self) -> bool:
        """It is one file of the disk, as it is."""
        return self.data is None and not self.pieces

    def parts(self, offset: int, length: int) -> Iterator[bytes | Stored]:
        """What `length` bytes from `offset` are."""
        whole = self.pieces or [
            Stored(self.descriptor, 0, self.size) if self.data is None else self.data
        ]
        for piece in whole:
            size = piece.length if isinstance(piece, Stored) else len(piece)
            count = min(size - offset, length)
            if count > 0:
                if isinstance(piece, Stored):
                    yield Stored(piece.descriptor, piece.offset + offset, count)
                else:
                    yield piece[offset : offset + count]
                length -= count
            offset = max(offset - size, 0)

    def read(self, offset: int, length: int) -> bytes:
        """At most `length` bytes from `offset`."""
        if self.data is not None:
            return self.data[offset : offset + length]
        if self.pieces:
            return self._read_pieces(offset, length)
        return os.pread(self.descriptor, length, offset)

    def _read_pieces(self, offset: int, length: int) -> bytes:
        """Raises EOFError when a file has become shorter: what follows it would be displaced."""
        found = []
        for part in self.parts(offset, length):
            if isinstance(part, bytes):
                found.append(part)
                continue
            data = os.pread(part.descriptor, part.length, part.offset)
            if len(data) < part.length:
                raise EOFError
            found.append(data)
        return b"".join(found)

    def read_into(self, pieces: list[memoryview], offset: int) -> int:
        """Fill the pieces one after the other, as far as the file goes; bytes read."""
        if self.stored:
            return os.preadv(self.descriptor, pieces, offset)
        begin = offset
        for piece in pieces:
            part = self.read(offset, len(piece))
            piece[: len(part)] = part
            offset += len(part)
        return offset - begin

    def close(self) -> None:
        """Close its descriptor, if it has one."""
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1
        for descriptor in {one.descriptor for one in self.pieces if isinstance(one, Stored)}:
            os.close(descriptor)
        self.pieces = []


@dataclass(frozen=True, slots=True)
class NotOpened:
    """Why there is nothing to send, for the one who asked."""

    reason: str
    refused: bool  # nobody may have it, as against: it is not there
