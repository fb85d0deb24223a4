"""Images that are put together as machines ask for them: a stub, a kernel and initrds as they are
on the disk, and the machine's command line (core/efi/unified), signed where the site has a key.

Nothing large is copied: what is sent of a file comes from the file. Of all that machines have in
common the hash is reckoned once, beside the event loop; what a machine adds to it takes a
millisecond, nearly all of it for the key.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TYPE_CHECKING

from daskel.core.efi.unified import Unified, room_for, unify
from daskel.core.history.events import FileKind
from daskel.core.reader import MalformedError
from daskel.service.files.opened import Opened, Stored

if TYPE_CHECKING:  # few sites have a key
    from daskel.core.efi.signature import Signer

_MOST = 16  # images that are remembered, of those that differ by more than the command line
_LARGEST_STUB = 4 << 20  # bytes
_PIECE = 1 << 20


@dataclass
class _Made:
    unified: Unified
    hashed: asyncio.Future[hashlib._Hash] | None = None  # of what is before the command line


class UnifiedImages:
    """Those of one server; `signer` has the site's key."""

    def __init__(self, signer: Signer | None) -> None:
        self._signer = signer
        self._table = len(signer.table(bytes(hashlib.sha256().digest_size))) if signer else 0
        self._made: OrderedDict[tuple[object, ...], _Made] = OrderedDict()
        self._background = ThreadPoolExecutor(max_workers=1, thread_name_prefix="images")

    def signed(self, image: bytes) -> bytes:
        """An EFI program with the site's signature. Raises MalformedError."""
        from daskel.core.efi.signature import signed

        assert self._signer
        return signed(image, self._signer)

    def open(self, path: str, files: Sequence[Opened], line: str) -> Opened:
        """The image of a stub, a kernel and initrds, which it takes over. Raises MalformedError and
        OSError; then they are still the caller's."""
        stub, *rest = files
        made = self._of(stub, rest, room_for(line))
        unified, key = made.unified, self._signer
        pieces: list[bytes | Stored] = [unified.signed_head(self._table) if key else unified.head]
        for file, piece in zip(rest, unified.pieces, strict=True):
            pieces += [*file.parts(0, file.size), bytes(piece.padding)]
        size = unified.size + self._table
        opened = Opened(path, FileKind.UNIFIED, size, pieces=[one for one in pieces if one])
        own = unified.command_line(line)
        if made.hashed is None:
            opened.pieces.append(own)
        elif made.hashed.done():
            opened.pieces.append(self._end(made.hashed, own))
        else:
            opened.ready = asyncio.ensure_future(self._finish(opened, made.hashed, own))
        stub.close()
        return opened

    async def _finish(
        self, opened: Opened, hashed: asyncio.Future[hashlib._Hash], own: bytes
    ) -> None:
        await asyncio.wait([hashed])
        opened.pieces.append(self._end(hashed, own))

    def _end(self, hashed: asyncio.Future[hashlib._Hash], own: bytes) -> bytes:
        """The command line, and the signature of the whole. Raises what kept it from being
        reckoned."""
        assert self._signer
        found = hashed.result().copy()
        found.update(own)
        return own + self._signer.table(found.digest())

    def _of(self, stub: Opened, rest: Sequence[Opened], room: int) -> _Made:
        key = (room, *map(_identity, (stub, *rest)))
        made = self._made.get(key)
        if made is not None:
            self._made.move_to_end(key)
            return made
        if stub.size > _LARGEST_STUB:
            raise MalformedError(f"{stub.path} has {stub.size:,} bytes, too many for a stub")
        kernel, *initrds = (file.size for file in rest)
        made = _Made(unify(stub.read(0, stub.size), kernel, initrds, room))
        if self._signer:
            made.hashed = self._reckon(key, made.unified, rest)
        self._made[key] = made
        while len(self._made) > _MOST:
            self._made.popitem(last=False)
        return made

    def _reckon(
        self, key: tuple[object, ...], unified: Unified, rest: Sequence[Opened]
    ) -> asyncio.Future[hashlib._Hash]:
        pieces: list[bytes | Stored] = []
        for file, piece in zip(rest, unified.pieces, strict=True):
            for part in file.parts(0, file.size):
                if isinstance(part, Stored):
                    part = part._replace(descriptor=os.dup(part.descriptor))
                pieces.append(part)
            pieces.append(bytes(piece.padding))
        loop = asyncio.get_running_loop()
        hashed = asyncio.ensure_future(
            loop.run_in_executor(self._background, _hash, unified.begin(), pieces)
        )

        def ended(found: asyncio.Future[hashlib._Hash]) -> None:
            if found.cancelled() or found.exception():  # the next one that asks has it read again
                self._made.pop(key, None)

        hashed.add_done_callback(ended)
        return hashed

    def close(self) -> None:
        """End what is being read."""
        self._background.shutdown(wait=False, cancel_futures=True)


def _hash(found: hashlib._Hash, pieces: Sequence[bytes | Stored]) -> hashlib._Hash:
    """With what follows the head; closes the files. Raises OSError, and EOFError for one that has
    become shorter."""
    try:
        for piece in pieces:
            if isinstance(piece, bytes):
                found.update(piece)
                continue
            at, end = piece.offset, piece.offset + piece.length
            while at < end:
                data = os.pread(piece.descriptor, min(_PIECE, end - at), at)
                if not data:
                    raise EOFError("a file has become shorter")
                found.update(data)
                at += len(data)
    finally:
        for piece in pieces:
            if isinstance(piece, Stored):
                os.close(piece.descriptor)
    return found


def _identity(opened: Opened) -> object:
    if not opened.stored:
        return opened.read(0, opened.size)
    status = os.fstat(opened.descriptor)
    times = status.st_mtime_ns, status.st_ctime_ns  # the second one cannot be set back
    return (status.st_dev, status.st_ino, *times, status.st_size)
