"""Entity tags of files, from what is in them: read once for as long as a file stays the same."""

from __future__ import annotations

import asyncio
import os
from concurrent.futures import ThreadPoolExecutor
from hashlib import blake2b

from daskel.service.files.opened import Opened

_AT_ONCE = 16 << 20  # bytes; larger files have no tag until they were read in the background
_MOST = 10_000  # tags that are remembered
_PIECE = 1 << 20
Key = tuple[int, ...]


class Tags:
    """Entity tags (RFC 9110 8.8.3), made from what is in a file."""

    def __init__(self) -> None:
        self._known: dict[Key, str] = {}
        self._reading: dict[Key, asyncio.Future[None]] = {}
        self._background = ThreadPoolExecutor(max_workers=1, thread_name_prefix="tags")

    async def of(self, opened: Opened, *, needed: bool) -> str | None:
        """None when it is not known yet, which never is the answer when it is `needed`."""
        if opened.data is not None:
            return blake2b(opened.data, digest_size=16).hexdigest()
        if opened.stored:
            return await self._of_file(opened.descriptor, opened.size, needed)
        whole = blake2b(digest_size=16)
        for part in opened.parts(0, opened.size):
            if isinstance(part, bytes):
                whole.update(part)
                continue
            tag = await self._of_file(part.descriptor, part.length, needed)
            if tag is None:
                return None
            whole.update(tag.encode())
        return whole.hexdigest()

    async def _of_file(self, descriptor: int, size: int, needed: bool) -> str | None:
        key = _key(descriptor)
        if key not in self._known:
            if key not in self._reading:
                self._reading[key] = asyncio.ensure_future(self._read(key, descriptor, size))
            if needed or size <= _AT_ONCE:
                await asyncio.shield(self._reading[key])
        return self._known.get(key)

    async def _read(self, key: Key, descriptor: int, size: int) -> None:
        own = os.dup(descriptor)
        executor = None if size <= _AT_ONCE else self._background
        try:
            digest = await asyncio.get_running_loop().run_in_executor(executor, _digest, own)
            if len(self._known) >= _MOST:
                self._known.clear()
            self._known[key] = digest
        except OSError:
            return  # it cannot be read; whoever fetches it will see
        finally:
            os.close(own)
            del self._reading[key]

    def close(self) -> None:
        """End what is being read."""
        self._background.shutdown(wait=False, cancel_futures=True)


def _key(descriptor: int) -> Key:
    status = os.fstat(descriptor)
    times = status.st_mtime_ns, status.st_ctime_ns  # the second one cannot be set back
    return (status.st_dev, status.st_ino, *times, status.st_size)


def _digest(descriptor: int) -> str:
    digest, offset = blake2b(digest_size=16), 0
    while piece := os.pread(descriptor, _PIECE, offset):
        digest.update(piece)
        offset += len(piece)
    return digest.hexdigest()
