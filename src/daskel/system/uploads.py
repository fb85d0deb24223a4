"""Files that clients deliver: each is there whole or not at all, and none takes another's place."""

from __future__ import annotations

import errno
import os
from collections import Counter
from collections.abc import Callable
from functools import partial
from pathlib import Path

from daskel.core.values import counted
from daskel.system.host.confined_open import open_beneath


class UploadsFolder:
    """The site's `uploads`; made when it is needed first."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._unfinished: Counter[tuple[int, int]] = Counter()  # by the folder's device and inode

    def begin(self, path: str, most: int) -> PartialFile:
        """A new file for `path` below the folder; in each there are `most` at most.

        Raises OSError: EEXIST when there is such a file, EDQUOT when there are too many.
        """
        parent, _, name = path.rpartition("/")
        (self._folder / parent).mkdir(mode=0o750, parents=True, exist_ok=True)
        top = os.open(self._folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            place = open_beneath(top, os.fsencode(parent or "."), os.O_RDONLY | os.O_DIRECTORY)
        finally:
            os.close(top)
        try:
            status = os.fstat(place)
            key = status.st_dev, status.st_ino
            part = PartialFile(place, name, most - self._unfinished[key], partial(self._done, key))
        except OSError:
            os.close(place)
            raise
        self._unfinished[key] += 1
        return part

    def _done(self, key: tuple[int, int]) -> None:
        self._unfinished[key] -= 1
        if not self._unfinished[key]:
            del self._unfinished[key]


class PartialFile:
    """A file without a name, until it is whole. `most`: files that may be there, those of others
    that are not whole yet taken off; `ended` is told, once, when it has a name or is removed."""

    def __init__(self, folder: int, name: str, most: int, ended: Callable[[], None]) -> None:
        self._folder, self._name, self._ended = folder, name, ended
        self._look(most)
        flags = os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC
        self._file = os.open(f"/proc/self/fd/{folder}", flags, 0o640)

    def _look(self, most: int) -> None:
        there = os.listdir(self._folder)  # noqa: PTH208 (of a descriptor)
        if self._name in there:
            raise FileExistsError(errno.EEXIST, "there is such a file already", self._name)
        if len(there) >= most:
            raise OSError(
                errno.EDQUOT, f"there are {counted(len(there), 'file')} already", self._name
            )

    def write(self, data: bytes) -> None:
        """Raises OSError."""
        while data:
            data = data[os.write(self._file, data) :]

    def finish(self) -> None:
        """It has its name now. Raises OSError."""
        source = f"/proc/self/fd/{self._file}"
        os.link(source, self._name, dst_dir_fd=self._folder, follow_symlinks=True)
        self._end()

    def _end(self) -> None:
        ended, self._ended = self._ended, lambda: None
        ended()

    def close(self) -> None:
        """Remove it, unless it was put in its place."""
        if self._file >= 0:
            os.close(self._file)
            os.close(self._folder)
            self._file = -1
            self._end()
