"""Opens files below a folder, and nothing outside of it: openat2(2) with RESOLVE_BENEATH."""

from __future__ import annotations

import errno
import os
import stat
import time
from collections.abc import Iterator
from contextlib import suppress
from itertools import islice
from pathlib import Path

from daskel.core.content.paths import by_folded
from daskel.system.host.libc import RESOLVE_BENEATH, RESOLVE_NO_MAGIC_LINKS, openat2

_LASTS = 2.0  # seconds that a list of names is good for
_MOST_NAMES = 5000


def open_beneath(folder: int, path: bytes, flags: int) -> int:
    """A descriptor for `path` below the open directory `folder`. Raises OSError.

    Neither `..` nor a symbolic link nor an absolute path leads out of the folder: EXDEV.
    """
    return openat2(folder, path, flags, RESOLVE_BENEATH | RESOLVE_NO_MAGIC_LINKS)


def reopen(place: int) -> int:
    """A descriptor to read what an O_PATH descriptor stands for, once it is known to be a file."""
    return os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_CLOEXEC)


def why_not(error: OSError) -> str:
    """Why a file below the folder is not handed out."""
    reasons = {
        errno.ENOENT: "no such file",
        errno.EXDEV: "it leads out of the files folder",
        errno.EACCES: "Daskel may not read it",
    }
    return reasons.get(error.errno or 0, (error.strerror or "cannot be opened").lower())


class FilesFolder:
    """The site's `files`: regular files are opened by their path below it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._names: list[str] = []
        self._folded: dict[str, str] = {}
        self._looked = float("-inf")
        self._descriptor = os.open(folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)

    def open(self, path: str) -> tuple[int, int]:
        """Descriptor and size in bytes. Raises OSError, also for what is no regular file."""
        place = open_beneath(self._descriptor, os.fsencode(path), os.O_PATH)
        try:
            status = os.fstat(place)
            if not stat.S_ISREG(status.st_mode):
                raise IsADirectoryError(errno.EISDIR, "is not a file", path)
            return reopen(place), status.st_size
        finally:
            os.close(place)

    def names(self) -> list[str]:
        """The paths of all files, looked up anew after a while; of very many, the first."""
        now = time.monotonic()
        if now - self._looked > _LASTS:
            self._names = list(islice(self._walk(), _MOST_NAMES))
            self._folded = by_folded(self._names)
            self._looked = now
        return self._names

    def find(self, *paths: str) -> tuple[int, int, str]:
        """The first of these files that is there, opened; else the first of which one is there
        whose path differs in upper and lower case alone. Raises OSError."""
        for path in paths:
            with suppress(FileNotFoundError):
                return (*self.open(path), path)
        self.names()
        for path in paths:
            there = self._folded.get(path.casefold())
            if there is not None:
                return (*self.open(there), there)
        raise FileNotFoundError(errno.ENOENT, "no such file", paths[0])

    def _walk(self) -> Iterator[str]:
        top = f"/proc/self/fd/{self._descriptor}"
        for folder, folders, names in os.walk(top):
            folders.sort()
            below = folder.removeprefix(top).lstrip("/")
            for name in sorted(names):
                yield f"{below}/{name}" if below else name

    def close(self) -> None:
        """Close the folder."""
        os.close(self._descriptor)
