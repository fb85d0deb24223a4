"""What finds a file again without its name: the kernel's file handles, or remembered names.

The kernel's (name_to_handle_at(2), open_by_handle_at(2)) need a privilege. Without it, inode
numbers are used, and the way to an inode is remembered from the names that were looked up; after
a restart the tree is walked once.
"""

from __future__ import annotations

import errno
import os
import struct
import time
from collections.abc import Callable
from typing import Protocol

from daskel.core.nfs.handle import BODY_LIMIT
from daskel.system.host.confined_open import open_beneath
from daskel.system.host.libc import HandleReader, open_by_handle

_INODE = struct.Struct(">Q")
_FOLDER = os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC
_WALK_PAUSE = 10.0  # seconds between walks for handles that nobody knows

Help = Callable[[int, bytes], int]  # opens a body below a tree; raises OSError


class Finder(Protocol):
    """Bodies of handles, and what they stand for. Everything raises OSError."""

    def body(self, directory: int, name: bytes) -> bytes:
        """Of an entry of an open directory; of the directory itself when `name` is empty."""

    def open(self, body: bytes) -> int:
        """An O_PATH descriptor; ESTALE when there is no such file any more."""

    def below(self, directory: int) -> bool:
        """Whether an open directory is still in the tree."""

    def close(self) -> None:
        """Close what is open."""


def finder(top: int, helper: Help | None = None) -> Finder:
    """For the tree whose uppermost directory is open as `top`. `helper`: a process with more
    privileges, which an overlay needs for what it has not seen since it was mounted.

    The kernel's handles know no folder: one of a directory that was moved out of the tree leads
    wherever that is now. They are used on a mount of just this tree, which has nothing above."""
    if not os.path.samestat(os.stat("..", dir_fd=top), os.fstat(top)):
        return NameFinder(top)
    try:
        kernel = KernelFinder(top, helper)
        os.close(kernel.open(kernel.body(top, b"")))
    except OSError:  # no privilege, or a file system without handles
        return NameFinder(top)
    return kernel


class KernelFinder:
    """A body is the type of the kernel's handle in one byte, and the handle."""

    def __init__(self, top: int, helper: Help | None = None) -> None:
        self._help = helper
        self._top = os.open(f"/proc/self/fd/{top}", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        self._reader = HandleReader(BODY_LIMIT - 1)
        self._here: int | None = None
        self.body(top, b"")
        self._here = self._reader.mount

    def body(self, directory: int, name: bytes) -> bytes:
        """The handle of an entry. Raises OSError."""
        found = self._reader.read(directory, name)
        if self._here not in (None, self._reader.mount):
            raise OSError(errno.EXDEV, "another file system is mounted there")
        return found

    def open(self, body: bytes) -> int:
        """An O_PATH descriptor. Raises OSError."""
        try:
            return open_by_handle(self._top, body)
        except OSError as error:
            if error.errno == errno.ESTALE and self._help:
                return self._help(self._top, body)
            raise

    def below(self, directory: int) -> bool:
        """Whether an open directory is still in the tree: the kernel finds no `..` of others."""
        return os.access("..", os.F_OK, dir_fd=directory)

    def close(self) -> None:
        """Close the folder."""
        os.close(self._top)


class NameFinder:
    """A body is the inode number."""

    def __init__(self, top: int) -> None:
        self._top = top
        status = os.fstat(top)
        self._device, self._top_inode = status.st_dev, status.st_ino
        self._names: dict[int, tuple[int, bytes]] = {}  # inode: the directory's inode, name
        self._walked = float("-inf")

    def body(self, directory: int, name: bytes) -> bytes:
        """The inode number of an entry, whose name is remembered. Raises OSError."""
        above = os.fstat(directory)
        if not name:
            return _INODE.pack(above.st_ino)
        status = os.stat(name, dir_fd=directory, follow_symlinks=False)
        if status.st_dev != self._device:
            raise OSError(errno.EXDEV, "another file system is mounted there")
        if name != b"..":
            self._names[status.st_ino] = (above.st_ino, name)
        return _INODE.pack(status.st_ino)

    def open(self, body: bytes) -> int:
        """An O_PATH descriptor; the tree is walked when the number is not known. Raises OSError."""
        if len(body) != _INODE.size:
            raise OSError(errno.ESTALE, "not a handle of this server as it runs now")
        (inode,) = _INODE.unpack(body)
        found = self._open(inode)
        if found is None:
            self._walk()
            found = self._open(inode)
        if found is None:
            raise OSError(errno.ESTALE, "no such inode")
        return found

    def close(self) -> None:
        """Nothing is open."""

    def below(self, directory: int) -> bool:
        """Whether an open directory is still in the tree: from it upwards, the top is met."""
        here = os.open(".", _FOLDER, dir_fd=directory)
        try:
            while True:
                status = os.fstat(here)
                if (status.st_dev, status.st_ino) == (self._device, self._top_inode):
                    return True
                above = os.open("..", _FOLDER, dir_fd=here)
                os.close(here)
                here = above
                if os.path.samestat(status, os.fstat(here)):
                    return False
        except OSError:
            return False
        finally:
            os.close(here)

    def _open(self, inode: int) -> int | None:
        """None when no name is known for the inode, or another file has that name now."""
        path = self._path(inode)
        if path is None:
            return None
        try:
            descriptor = open_beneath(self._top, path, os.O_PATH | os.O_NOFOLLOW)
        except FileNotFoundError:
            return None
        status = os.fstat(descriptor)
        if status.st_ino == inode and status.st_dev == self._device:
            return descriptor
        os.close(descriptor)
        return None

    def _path(self, inode: int) -> bytes | None:
        parts: list[bytes] = []
        while inode != self._top_inode:
            above = self._names.get(inode)
            if above is None or len(parts) > 256:
                return None
            inode, name = above
            parts.append(name)
        return b"/".join(reversed(parts)) or b"."

    def _walk(self) -> None:
        """Remember the way to every inode of the tree."""
        if time.monotonic() - self._walked < _WALK_PAUSE:
            return
        for _, directories, files, descriptor in os.fwalk(b".", dir_fd=self._top):
            above = os.fstat(descriptor)
            if above.st_dev != self._device:
                directories.clear()
                continue
            for name in [*directories, *files]:
                try:
                    status = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
                except OSError:
                    continue  # removed meanwhile
                self._names[status.st_ino] = (above.st_ino, name)
        self._walked = time.monotonic()
