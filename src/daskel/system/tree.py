"""One root filesystem, a folder, as read-only NFS sees it: handles, attributes, names, data.

A handle holds the export and the inode number, so that it is the same after a restart. How to
get to an inode again is remembered from the names that were looked up; after a restart the tree
is walked once.
"""

from __future__ import annotations

import errno
import os
import stat
import struct
import time
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

from daskel.core.nfs.nfs3 import Attributes, FileType, NfsError, Space, Status
from daskel.system.beneath import open_beneath, reopen

_HANDLE = struct.Struct(">QQ")
_TYPES = {
    stat.S_IFREG: FileType.REGULAR,
    stat.S_IFDIR: FileType.DIRECTORY,
    stat.S_IFBLK: FileType.BLOCK,
    stat.S_IFCHR: FileType.CHARACTER,
    stat.S_IFLNK: FileType.LINK,
    stat.S_IFSOCK: FileType.SOCKET,
    stat.S_IFIFO: FileType.FIFO,
}
_STATUSES = {
    errno.ENOENT: Status.NOENT,
    errno.EACCES: Status.ACCES,
    errno.EPERM: Status.ACCES,
    errno.ENOTDIR: Status.NOTDIR,
    errno.EISDIR: Status.ISDIR,
    errno.EINVAL: Status.INVAL,
    errno.ELOOP: Status.STALE,
    errno.EXDEV: Status.STALE,
    errno.ENAMETOOLONG: Status.NAMETOOLONG,
}
_LISTINGS = 2048  # directories whose names are remembered
_SETTLED = 2.0  # seconds after which a directory's times tell whether it changed
_WALK_PAUSE = 10.0  # seconds between walks for handles that nobody knows


@dataclass(frozen=True, slots=True)
class Name:
    """One entry of a directory; the cookie follows from the name alone."""

    cookie: int
    name: bytes
    fileid: int


def export_number(root: str) -> int:
    """Identifies an export in handles and as its fsid; follows from the root's name."""
    return int.from_bytes(blake2b(root.encode(), digest_size=8).digest(), "big")


def export_of(handle: bytes) -> int:
    """The export that a handle from the network belongs to. Raises NfsError."""
    if len(handle) != _HANDLE.size:
        raise NfsError(Status.BADHANDLE)
    export: int = _HANDLE.unpack(handle)[0]
    return export


@contextmanager
def _statuses() -> Iterator[None]:
    """The operating system's errors as statuses of the protocol."""
    try:
        yield
    except OSError as error:
        raise NfsError(_STATUSES.get(error.errno or 0, Status.IO)) from error


class Tree:
    """Everything raises NfsError. Handles come from the network and are checked here."""

    def __init__(self, root: str, folder: Path) -> None:
        self.root, self.folder = root, folder
        self.fsid = export_number(root)
        self._top = os.open(folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
        status = os.fstat(self._top)
        self._device, self._top_inode = status.st_dev, status.st_ino
        self._names: dict[int, tuple[int, bytes]] = {}  # inode: the directory's inode, name
        self._listings: OrderedDict[int, tuple[int, int, list[Name]]] = OrderedDict()
        self._walked = float("-inf")

    def close(self) -> None:
        os.close(self._top)

    def top(self) -> bytes:
        return self._handle(self._top_inode)

    def find(self, path: str) -> bytes:
        """The handle of what `path` below the root names; symbolic links are not followed."""
        handle = self.top()
        for name in filter(None, path.split("/")):
            handle = self.lookup(handle, os.fsencode(name))[0]
        return handle

    def attributes(self, handle: bytes) -> Attributes:
        with self._opened(handle, os.O_PATH | os.O_NOFOLLOW) as (_, status):
            return self._attributes(status)

    def lookup(self, handle: bytes, name: bytes) -> tuple[bytes, Attributes, Attributes]:
        """Handle and attributes of `name`, and the directory's attributes."""
        with self._opened(handle, os.O_PATH | os.O_NOFOLLOW) as (directory, above):
            if not stat.S_ISDIR(above.st_mode):
                raise NfsError(Status.NOTDIR)
            if b"/" in name or b"\0" in name or not name:
                raise NfsError(Status.ACCES)
            if name == b"." or (name == b".." and above.st_ino == self._top_inode):
                return handle, self._attributes(above), self._attributes(above)
            with _statuses():
                status = os.stat(name, dir_fd=directory, follow_symlinks=False)
            self._same_device(status)
            if name != b"..":
                self._names[status.st_ino] = (above.st_ino, name)
            found = self._handle(status.st_ino)
            return found, self._attributes(status), self._attributes(above)

    def link(self, handle: bytes) -> tuple[bytes, Attributes]:
        """A symbolic link's text."""
        with self._opened(handle, os.O_PATH | os.O_NOFOLLOW) as (descriptor, status):
            if not stat.S_ISLNK(status.st_mode):
                raise NfsError(Status.INVAL)
            with _statuses():
                return os.readlink(b"", dir_fd=descriptor), self._attributes(status)

    def read(self, handle: bytes, offset: int, count: int) -> tuple[bytes, Attributes]:
        """At most `count` bytes from `offset`; only of regular files, devices are not opened."""
        with self._opened(handle, os.O_PATH | os.O_NOFOLLOW) as (place, status):
            if not stat.S_ISREG(status.st_mode):
                raise NfsError(Status.INVAL)
            if offset >= status.st_size:
                return b"", self._attributes(status)
            with _statuses():
                descriptor = reopen(place)
                try:
                    return os.pread(descriptor, count, offset), self._attributes(status)
                finally:
                    os.close(descriptor)

    def names(self, handle: bytes) -> tuple[list[Name], Attributes]:
        """The directory's entries in the order of their cookies, without `.` and `..`."""
        with self._opened(handle, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW) as opened:
            descriptor, status = opened
            key = (status.st_mtime_ns, status.st_ctime_ns)
            known = self._listings.get(status.st_ino)
            if known and known[:2] == key:
                return known[2], self._attributes(status)
            with _statuses():
                found = sorted(_scan(descriptor), key=lambda n: n.cookie)
            for name in found:
                self._names[name.fileid] = (status.st_ino, name.name)
            if time.time() - status.st_ctime > _SETTLED:
                self._listings[status.st_ino] = (*key, found)
                if len(self._listings) > _LISTINGS:
                    self._listings.popitem(last=False)
            return found, self._attributes(status)

    def entry(self, name: Name) -> tuple[bytes, Attributes] | None:
        """Handle and attributes of an entry; None when it is gone or elsewhere."""
        handle = self._handle(name.fileid)
        try:
            return handle, self.attributes(handle)
        except NfsError:
            return None

    def parent_inode(self, attributes: Attributes) -> int:
        """The inode that `..` shows."""
        return self._names.get(attributes.fileid, (attributes.fileid, b""))[0]

    def space(self) -> Space:
        with _statuses():
            found = os.statvfs(f"/proc/self/fd/{self._top}")
        size = found.f_frsize
        return Space(found.f_blocks * size, found.f_bfree * size, found.f_files, found.f_ffree)

    def _handle(self, inode: int) -> bytes:
        return _HANDLE.pack(self.fsid, inode)

    @contextmanager
    def _opened(self, handle: bytes, flags: int) -> Iterator[tuple[int, os.stat_result]]:
        if export_of(handle) != self.fsid:
            raise NfsError(Status.STALE)
        inode = _HANDLE.unpack(handle)[1]
        descriptor, status = self._open(inode, flags)
        try:
            yield descriptor, status
        finally:
            os.close(descriptor)

    def _open(self, inode: int, flags: int) -> tuple[int, os.stat_result]:
        found = self._open_known(inode, flags)
        if found is None:
            self._walk()
            found = self._open_known(inode, flags)
        if found is None:
            raise NfsError(Status.STALE)
        return found

    def _open_known(self, inode: int, flags: int) -> tuple[int, os.stat_result] | None:
        """None when no name is known for the inode, or another file has that name now."""
        path = self._path(inode)
        if path is None:
            return None
        try:
            descriptor = open_beneath(self._top, path, flags)
        except FileNotFoundError:
            return None
        except OSError as error:
            raise NfsError(_STATUSES.get(error.errno or 0, Status.IO)) from error
        status = os.fstat(descriptor)
        if status.st_ino == inode and status.st_dev == self._device:
            return descriptor, status
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

    def _same_device(self, status: os.stat_result) -> None:
        if status.st_dev != self._device:
            raise NfsError(Status.ACCES)  # something else is mounted there

    def _attributes(self, status: os.stat_result) -> Attributes:
        return Attributes(
            type=_TYPES[stat.S_IFMT(status.st_mode)],
            mode=stat.S_IMODE(status.st_mode),
            links=status.st_nlink,
            uid=status.st_uid,
            gid=status.st_gid,
            size=status.st_size,
            used=status.st_blocks * 512,
            device=(os.major(status.st_rdev), os.minor(status.st_rdev)),
            fsid=self.fsid,
            fileid=status.st_ino,
            atime=status.st_atime_ns,
            mtime=status.st_mtime_ns,
            ctime=status.st_ctime_ns,
        )


def _scan(descriptor: int) -> Iterator[Name]:
    with os.scandir(descriptor) as entries:
        for entry in entries:
            name = os.fsencode(entry.name)
            yield Name(_cookie(name), name, entry.inode())


def _cookie(name: bytes) -> int:
    """63 bits that follow from the name; 0 to 2 are for the beginning, `.` and `..`."""
    return max(3, int.from_bytes(blake2b(name, digest_size=8).digest(), "big") >> 1)
