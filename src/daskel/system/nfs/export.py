"""One exported tree as NFS sees it: handles, attributes, names and data; nothing is changed here.

Handles come from the network and are checked here. Everything raises NfsError.
"""

from __future__ import annotations

import os
import stat
import time
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

from daskel.core.nfs.handle import EXPORT_SIZE, body_of, make_handle
from daskel.core.nfs.nfs3 import Access, Attributes, FileType, NfsError, Status, permitted
from daskel.core.nfs.results import Space
from daskel.core.nfs.rpc import Credentials
from daskel.system.nfs.fhandle import Help, finder
from daskel.system.nfs.openfiles import OpenFiles, failure, statuses

TYPES = {
    stat.S_IFREG: FileType.REGULAR,
    stat.S_IFDIR: FileType.DIRECTORY,
    stat.S_IFBLK: FileType.BLOCK,
    stat.S_IFCHR: FileType.CHARACTER,
    stat.S_IFLNK: FileType.LINK,
    stat.S_IFSOCK: FileType.SOCKET,
    stat.S_IFIFO: FileType.FIFO,
}
_TYPES = {mode >> 12: kind for mode, kind in TYPES.items()}
_NO_DEVICE = 0, 0
_attributes_of = Attributes._make
_LISTINGS = 2048  # directories whose names are remembered
_MOST_FOUND = 1024  # names whose handles are remembered
_SETTLED = 2.0  # seconds after which a directory's times tell whether it changed
_SECOND = 10**9
_READ, _LOOKUP = int(Access.READ), int(Access.LOOKUP)


@dataclass(frozen=True, slots=True)
class Name:
    """One entry of a directory; the cookie follows from the name alone."""

    cookie: int
    name: bytes
    fileid: int


class Export:
    """A tree that nobody may change. `top`: an O_PATH descriptor of its uppermost folder, as a
    mount of its own (mounts.tree_of) where that can be made; it is closed with it. `helper`: see
    `fhandle.finder`."""

    writable = False

    def __init__(
        self, number: bytes, top: int, key: bytes, files: OpenFiles, helper: Help | None = None
    ) -> None:
        self.number = number
        self._fsid = int.from_bytes(number, "big")
        self._key, self._files = key, files
        self._top = top
        self._finder = finder(top, helper)
        self.below = self._finder.below  # whether an open folder is still in the tree
        self._top_inode = os.fstat(self._top).st_ino
        self._found: dict[tuple[bytes, bytes], tuple[tuple[int, int], bytes]] = {}
        # By directory: its times, whether they would be others after a change, and its names
        self._listings: OrderedDict[int, tuple[int, int, bool, list[Name]]] = OrderedDict()

    def close(self) -> None:
        """Close all its files."""
        self._files.drop_export(self.number)
        self._finder.close()
        os.close(self._top)

    def is_at(self, folder: Path) -> bool:
        """Whether this is the tree that lies there now. Raises OSError."""
        return os.path.samestat(folder.stat(), os.fstat(self._top))

    # --- what is there ---

    def top(self) -> bytes:
        """The handle of its uppermost folder."""
        with statuses():
            return self._handle(self._finder.body(self._top, b""))

    def find(self, path: str) -> bytes:
        """The handle of what `path` below the root names; symbolic links are not followed."""
        handle = self.top()
        for name in filter(None, path.split("/")):
            handle = self.lookup(handle, os.fsencode(name), Credentials(0, 0))[0]
        return handle

    def attributes(self, handle: bytes) -> Attributes:
        """GETATTR (RFC 1813 3.3.1). Raises NfsError."""
        return self._attributes(os.fstat(self._place(handle)))

    def lookup(
        self, handle: bytes, name: bytes, who: Credentials
    ) -> tuple[bytes, Attributes, Attributes]:
        """Handle and attributes of `name`, and the directory's attributes."""
        place, above = self._directory(handle)
        if not permitted(above, who, writable=False) & _LOOKUP:
            raise NfsError(Status.ACCES)
        if b"/" in name or b"\0" in name or not name:
            raise NfsError(Status.ACCES)
        if name == b"." or (name == b".." and above.fileid == self._top_inode):
            return handle, above, above
        asked, times = (handle, name), (above.mtime, above.ctime)
        known = self._found.get(asked)
        try:
            status = os.stat(name, dir_fd=place, follow_symlinks=False)
            if known is not None and known[0] == times:
                return known[1], self._attributes(status), above
            found = self._handle(self._finder.body(place, name))
        except OSError as error:
            raise failure(error) from error
        if _settled(above):
            if len(self._found) >= _MOST_FOUND:
                self._found.clear()
            self._found[asked] = times, found
        return found, self._attributes(status), above

    def access(self, handle: bytes, who: Credentials) -> tuple[Attributes, int]:
        """ACCESS (RFC 1813 3.3.4): attributes, and the bits that are granted. Raises NfsError."""
        attributes = self.attributes(handle)
        return attributes, permitted(attributes, who, writable=self.writable)

    def link_text(self, handle: bytes) -> tuple[bytes, Attributes]:
        """A symbolic link's text."""
        place = self._place(handle)
        attributes = self._attributes(os.fstat(place))
        if attributes.type is not FileType.LINK:
            raise NfsError(Status.INVAL)
        with statuses():
            return os.readlink(b"", dir_fd=place), attributes

    def readable(self, handle: bytes, who: Credentials) -> tuple[int, Attributes]:
        """A descriptor to read a regular file, that may be closed by the next call of this
        export; devices are never opened."""
        descriptor = self._files.to_write.get(handle) or self._files.to_read.get(handle)
        if descriptor is not None:
            attributes = self._attributes(os.fstat(descriptor))
        else:
            place, attributes = self._regular(handle)
        if not permitted(attributes, who, writable=False, opened=True) & _READ:
            raise NfsError(Status.ACCES)
        if descriptor is None:
            with statuses():
                opened = os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_CLOEXEC)
            descriptor = self._files.to_read.put(handle, opened)
        return descriptor, attributes

    def names(
        self, handle: bytes, who: Credentials, *, goes_on: bool = False
    ) -> tuple[list[Name], Attributes]:
        """The directory's entries in the order of their cookies, without `.` and `..`. A listing
        that `goes_on` need not show what was changed since it began."""
        place, above = self._directory(handle)
        if not permitted(above, who, writable=False, opened=True) & _READ:
            raise NfsError(Status.ACCES)
        known = self._listings.get(above.fileid)
        if known and known[:2] == (above.mtime, above.ctime) and (known[2] or goes_on):
            return known[3], above
        settled = _settled(above)
        with statuses():
            descriptor = os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_DIRECTORY)
            try:
                found = sorted(_scan(descriptor), key=lambda n: n.cookie)
            finally:
                os.close(descriptor)
        self._listings.pop(above.fileid, None)
        self._listings[above.fileid] = (above.mtime, above.ctime, settled, found)
        if len(self._listings) > _LISTINGS:
            self._listings.popitem(last=False)
        return found, above

    def entry(self, directory: bytes, name: bytes) -> tuple[bytes, Attributes] | None:
        """Handle and attributes of an entry; None when it is gone or elsewhere."""
        place = self._place(directory)
        try:
            status = os.stat(name, dir_fd=place, follow_symlinks=False)
            return self._handle(self._finder.body(place, name)), self._attributes(status)
        except OSError:
            return None

    def parent_inode(self, directory: bytes, attributes: Attributes) -> int:
        """The inode that `..` shows."""
        if attributes.fileid == self._top_inode:
            return attributes.fileid
        with statuses():
            return os.stat("..", dir_fd=self._place(directory)).st_ino

    def space(self) -> Space:
        """FSSTAT (RFC 1813 3.3.18), in bytes and files."""
        with statuses():
            found = os.statvfs(f"/proc/self/fd/{self._top}")
        total, free = found.f_blocks * found.f_frsize, found.f_bavail * found.f_frsize
        return Space(total, free, found.f_files, found.f_ffree)

    # --- for those who remember what was answered ---

    def place(self, handle: bytes) -> int:
        """An O_PATH descriptor, that may be closed by the next call. Raises NfsError."""
        return self._place(handle)

    @property
    def files(self) -> OpenFiles:
        """What is open of it, and of others."""
        return self._files

    # --- below ---

    def _handle(self, body: bytes) -> bytes:
        return make_handle(self._key, self.number, body)

    def _place(self, handle: bytes) -> int:
        """An O_PATH descriptor, that may be closed by the next call."""
        known = self._files.places.get(handle)
        if known is not None:
            return known
        if handle[:EXPORT_SIZE] != self.number:
            raise NfsError(Status.STALE)
        body = body_of(self._key, handle)
        with statuses():
            return self._files.places.put(handle, self._finder.open(body))

    def _directory(self, handle: bytes) -> tuple[int, Attributes]:
        place = self._place(handle)
        attributes = self._attributes(os.fstat(place))
        if attributes.type is not FileType.DIRECTORY:
            raise NfsError(Status.NOTDIR)
        if not self._finder.below(place):  # it was moved out of the tree
            self._files.drop(handle)
            raise NfsError(Status.STALE)
        return place, attributes

    def _regular(self, handle: bytes) -> tuple[int, Attributes]:
        place = self._place(handle)
        attributes = self._attributes(os.fstat(place))
        if attributes.type is FileType.DIRECTORY:
            raise NfsError(Status.ISDIR)
        if attributes.type is not FileType.REGULAR:
            raise NfsError(Status.INVAL)
        return place, attributes

    def _attributes(self, status: os.stat_result) -> Attributes:
        links, device, mode = status.st_nlink, status.st_rdev, status.st_mode
        if links == 0:
            raise NfsError(Status.STALE)
        return _attributes_of(
            (
                _TYPES[mode >> 12],
                mode & 0o7777,
                links,
                status.st_uid,
                status.st_gid,
                status.st_size,
                status.st_blocks * 512,
                (os.major(device), os.minor(device)) if device else _NO_DEVICE,
                self._fsid,
                status.st_ino,
                status.st_atime_ns,
                status.st_mtime_ns,
                status.st_ctime_ns,
            )
        )


def _settled(directory: Attributes) -> bool:
    """Whether its times will be others when a name in it changes."""
    return time.time() - directory.ctime / _SECOND > _SETTLED


def _scan(descriptor: int) -> Iterator[Name]:
    with os.scandir(descriptor) as entries:
        for entry in entries:
            name = os.fsencode(entry.name)
            yield Name(_cookie(name), name, entry.inode())


def _cookie(name: bytes) -> int:
    """63 bits that follow from the name; 0 to 2 are for the beginning, `.` and `..`."""
    return max(3, int.from_bytes(blake2b(name, digest_size=8).digest(), "big") >> 1)
