"""Opens files below a folder, and nothing outside of it: openat2(2) with RESOLVE_BENEATH."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import struct
from pathlib import Path

_OPENAT2 = 437  # the same number on every architecture
_NO_MAGIC_LINKS, _BENEATH = 0x02, 0x08
_libc = ctypes.CDLL(None, use_errno=True)


def open_beneath(folder: int, path: bytes, flags: int) -> int:
    """A descriptor for `path` below the open directory `folder`. Raises OSError.

    Neither `..` nor a symbolic link nor an absolute path leads out of the folder: EXDEV.
    """
    how = struct.pack("=QQQ", flags | os.O_CLOEXEC, 0, _BENEATH | _NO_MAGIC_LINKS)
    result = int(_libc.syscall(_OPENAT2, folder, path, how, len(how)))
    if result < 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), path)
    return result


def reopen(place: int) -> int:
    """A descriptor to read what an O_PATH descriptor stands for, once it is known to be a file."""
    return os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_CLOEXEC)


class FilesFolder:
    """The site's `files`: regular files are opened by their path below it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
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

    def close(self) -> None:
        os.close(self._descriptor)
