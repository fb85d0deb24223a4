"""One exported tree as NFS sees it: handles, attributes, names, data, and every change to them.

Handles come from the network and are checked here. Everything raises NfsError.
"""

from __future__ import annotations

import errno
import os
import resource
import stat
import time
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

from daskel.core.nfs.calls import Clock, Make, NewAttributes
from daskel.core.nfs.handle import EXPORT_SIZE, body_of, make_handle
from daskel.core.nfs.nfs3 import Access, Attributes, FileType, NfsError, Status, permitted
from daskel.core.nfs.results import Space
from daskel.core.nfs.rpc import Credentials
from daskel.system.acting import acting_as
from daskel.system.fhandle import Help, finder
from daskel.system.usage import Usage

_TYPES = {
    stat.S_IFREG: FileType.REGULAR,
    stat.S_IFDIR: FileType.DIRECTORY,
    stat.S_IFBLK: FileType.BLOCK,
    stat.S_IFCHR: FileType.CHARACTER,
    stat.S_IFLNK: FileType.LINK,
    stat.S_IFSOCK: FileType.SOCKET,
    stat.S_IFIFO: FileType.FIFO,
}
_MODES = {kind: mode for mode, kind in _TYPES.items()}
_STATUSES = {
    errno.EPERM: Status.PERM,
    errno.ENOENT: Status.NOENT,
    errno.EACCES: Status.ACCES,
    errno.EEXIST: Status.EXIST,
    errno.EXDEV: Status.XDEV,
    errno.ENOTDIR: Status.NOTDIR,
    errno.EISDIR: Status.ISDIR,
    errno.EINVAL: Status.INVAL,
    errno.EFBIG: Status.FBIG,
    errno.ENOSPC: Status.NOSPC,
    errno.EROFS: Status.ROFS,
    errno.EMLINK: Status.MLINK,
    errno.ELOOP: Status.STALE,
    errno.ENAMETOOLONG: Status.NAMETOOLONG,
    errno.ENOTEMPTY: Status.NOTEMPTY,
    errno.EDQUOT: Status.DQUOT,
    errno.ESTALE: Status.STALE,
    errno.EOPNOTSUPP: Status.NOTSUPP,
}
_LISTINGS = 2048  # directories whose names are remembered
_SETTLED = 2.0  # seconds after which a directory's times tell whether it changed
_SECOND = 10**9
_READ, _LOOKUP = int(Access.READ), int(Access.LOOKUP)
_MODIFY, _EXECUTE = int(Access.MODIFY), int(Access.EXECUTE)
_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(frozen=True, slots=True)
class Name:
    """One entry of a directory; the cookie follows from the name alone."""

    cookie: int
    name: bytes
    fileid: int


class Descriptors:
    """Open files that are asked for again and again, by handle; the longest unused go first."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._open: OrderedDict[bytes, int] = OrderedDict()

    def get(self, handle: bytes) -> int | None:
        descriptor = self._open.get(handle)
        if descriptor is not None:
            self._open.move_to_end(handle)
        return descriptor

    def put(self, handle: bytes, descriptor: int) -> int:
        self.drop(handle)
        self._open[handle] = descriptor
        if len(self._open) > self._most:
            os.close(self._open.popitem(last=False)[1])
        return descriptor

    def drop(self, handle: bytes) -> None:
        descriptor = self._open.pop(handle, None)
        if descriptor is not None:
            os.close(descriptor)

    def drop_export(self, export: bytes) -> None:
        for handle in [handle for handle in self._open if handle.startswith(export)]:
            self.drop(handle)


class OpenFiles:
    """Of all exports of one process: places (O_PATH), files to read, files to read and write."""

    def __init__(self) -> None:
        most = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
        self.places = Descriptors(most // 2)
        self.to_read, self.to_write = Descriptors(most // 8), Descriptors(most // 8)

    def drop(self, handle: bytes) -> None:
        for kind in (self.places, self.to_read, self.to_write):
            kind.drop(handle)

    def drop_export(self, export: bytes) -> None:
        for kind in (self.places, self.to_read, self.to_write):
            kind.drop_export(export)


@contextmanager
def _statuses() -> Iterator[None]:
    """The operating system's errors as statuses of the protocol."""
    try:
        yield
    except OSError as error:
        raise _failure(error) from error


def _failure(error: OSError) -> NfsError:
    return NfsError(_STATUSES.get(error.errno or 0, Status.IO))


class Export:
    """`usage`: the limit of what may be written, where there is one."""

    def __init__(
        self, number: bytes, folder: Path, key: bytes, files: OpenFiles, *,
        writable: bool = False, usage: Usage | None = None, helper: Help | None = None,
    ) -> None:  # fmt: skip
        self.number, self.folder, self.writable, self.usage = number, folder, writable, usage
        self._fsid = int.from_bytes(number, "big")
        self._key, self._files = key, files
        self._top = os.open(folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
        self._finder = finder(self._top, helper)
        self._top_inode = os.fstat(self._top).st_ino
        self._listings: OrderedDict[int, tuple[int, int, list[Name]]] = OrderedDict()

    def close(self) -> None:
        self._files.drop_export(self.number)
        self._finder.close()
        os.close(self._top)

    # --- what is there ---

    def top(self) -> bytes:
        with _statuses():
            return self._handle(self._finder.body(self._top, b""))

    def find(self, path: str) -> bytes:
        """The handle of what `path` below the root names; symbolic links are not followed."""
        handle = self.top()
        for name in filter(None, path.split("/")):
            handle = self.lookup(handle, os.fsencode(name), Credentials(0, 0))[0]
        return handle

    def attributes(self, handle: bytes) -> Attributes:
        return self._attributes(self._stat(self._place(handle)))

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
        try:
            status = os.stat(name, dir_fd=place, follow_symlinks=False)
            found = self._handle(self._finder.body(place, name))
        except OSError as error:
            raise _failure(error) from error
        return found, self._attributes(status), above

    def access(self, handle: bytes, who: Credentials) -> tuple[Attributes, int]:
        attributes = self.attributes(handle)
        return attributes, permitted(attributes, who, writable=self.writable)

    def link_text(self, handle: bytes) -> tuple[bytes, Attributes]:
        """A symbolic link's text."""
        place = self._place(handle)
        attributes = self._attributes(self._stat(place))
        if attributes.type is not FileType.LINK:
            raise NfsError(Status.INVAL)
        with _statuses():
            return os.readlink(b"", dir_fd=place), attributes

    def readable(self, handle: bytes, who: Credentials) -> tuple[int, Attributes]:
        """A descriptor to read a regular file, that may be closed by the next call of this
        export; devices are never opened."""
        descriptor = self._files.to_write.get(handle) or self._files.to_read.get(handle)
        if descriptor is not None:
            attributes = self._attributes(self._stat(descriptor))
        else:
            place, attributes = self._regular(handle)
        if not permitted(attributes, who, writable=False) & (_READ | _EXECUTE):
            raise NfsError(Status.ACCES)
        if descriptor is None:
            with _statuses():
                opened = os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_CLOEXEC)
            descriptor = self._files.to_read.put(handle, opened)
        return descriptor, attributes

    def names(self, handle: bytes, who: Credentials) -> tuple[list[Name], Attributes]:
        """The directory's entries in the order of their cookies, without `.` and `..`."""
        place, above = self._directory(handle)
        if not permitted(above, who, writable=False) & _READ:
            raise NfsError(Status.ACCES)
        known = self._listings.get(above.fileid)
        if known and known[:2] == (above.mtime, above.ctime):
            return known[2], above
        with _statuses():
            descriptor = os.open(f"/proc/self/fd/{place}", os.O_RDONLY | os.O_DIRECTORY)
            try:
                found = sorted(_scan(descriptor), key=lambda n: n.cookie)
            finally:
                os.close(descriptor)
        self._listings.pop(above.fileid, None)
        if time.time() - above.ctime / _SECOND > _SETTLED:
            self._listings[above.fileid] = (above.mtime, above.ctime, found)
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
        with _statuses():
            return os.stat("..", dir_fd=self._place(directory)).st_ino

    def space(self) -> Space:
        with _statuses():
            found = os.statvfs(f"/proc/self/fd/{self._top}")
        total, free = found.f_blocks * found.f_frsize, found.f_bavail * found.f_frsize
        if self.usage:
            total, free = self.usage.limit, min(free, self.usage.left)
        return Space(total, free, found.f_files, found.f_ffree)

    # --- what changes it ---

    def set_attributes(
        self, handle: bytes, new: NewAttributes, guard: int | None, who: Credentials
    ) -> tuple[Attributes, Attributes]:
        """Before and after. `guard`: the ctime that it must still have."""
        self._may_write()
        place = self._place(handle)
        before = self._attributes(self._stat(place))
        if guard is not None and guard != before.ctime:
            raise NfsError(Status.NOT_SYNC)
        self._set(handle, place, before, new, who)
        return before, self._attributes(self._stat(place))

    def write(
        self, handle: bytes, offset: int, data: bytes | memoryview, who: Credentials
    ) -> tuple[int, Attributes, Attributes]:
        """Descriptor, and the attributes before and after."""
        descriptor, before = self.writable_file(handle, who)
        end = offset + len(data)
        if end > 1 << 62:
            raise NfsError(Status.FBIG)
        if self.usage and end > before.size:
            self.usage.need(min(end - before.size, len(data)))
        with _statuses():
            done = os.pwrite(descriptor, data, offset) if data else 0
            while done < len(data):
                done += os.pwrite(descriptor, memoryview(data)[done:], offset + done)
            after = self._attributes(os.fstat(descriptor))
        if self.usage:
            self.usage.add(after.used - before.used)
        return descriptor, before, after

    def writable_file(self, handle: bytes, who: Credentials) -> tuple[int, Attributes]:
        """A descriptor to write a regular file, that may be closed by the next call."""
        self._may_write()
        descriptor = self._files.to_write.get(handle)
        if descriptor is not None:
            attributes = self._attributes(self._stat(descriptor))
        else:
            place, attributes = self._regular(handle)
        if not permitted(attributes, who, writable=True) & _MODIFY:
            raise NfsError(Status.ACCES)
        if descriptor is None:
            if self.usage:
                self.usage.need(attributes.used)  # a file of the base is copied first
            with _statuses():
                opened = os.open(f"/proc/self/fd/{place}", os.O_RDWR | os.O_CLOEXEC)
            descriptor = self._files.to_write.put(handle, opened)
            self._files.to_read.drop(handle)
            if self.usage:
                self.usage.add(attributes.used)
        return descriptor, attributes

    def make(
        self, make: Make, who: Credentials
    ) -> tuple[bytes, Attributes, Attributes, Attributes]:
        """CREATE, MKDIR, SYMLINK, MKNOD: handle and attributes of what was made, and the
        directory's before and after."""
        place, before = self._directory_to_write(make.directory, make.name)
        new = make.new
        try:
            with _statuses(), acting_as(who.uid, who.gid, who.groups):
                descriptor = _make(place, make)
        except NfsError as error:
            if error.status is not Status.EXIST or make.type is not FileType.REGULAR:
                raise
            handle, new = self._there_already(place, make), NewAttributes(size=new.size)
        else:
            with _statuses():
                handle = self._handle(self._finder.body(place, make.name))
            if descriptor is not None:
                self._files.drop(handle)
                self._files.to_write.put(handle, descriptor)
            new = NewAttributes(None, new.uid, new.gid, new.size or None, new.atime, new.mtime)
        made = self._place(handle)
        self._set(handle, made, self._attributes(self._stat(made)), new, who)
        return handle, self.attributes(handle), before, self.attributes(make.directory)

    def _there_already(self, place: int, make: Make) -> bytes:
        """CREATE of a file that is there: right when unchecked, or when it was this call's."""
        if make.guarded:
            raise NfsError(Status.EXIST)
        with _statuses():
            handle = self._handle(self._finder.body(place, make.name))
        attributes = self.attributes(handle)
        if make.exclusive is not None:
            times = (attributes.atime, attributes.mtime)
            if attributes.size or times != _times_of(make.exclusive):
                raise NfsError(Status.EXIST)
        return handle

    def remove(
        self, directory: bytes, name: bytes, who: Credentials, *, folder: bool
    ) -> tuple[Attributes, Attributes]:
        """The directory's attributes before and after."""
        place, before = self._directory_to_write(directory, name)
        with _statuses():
            gone = self._handle(self._finder.body(place, name))
            with acting_as(who.uid, who.gid, who.groups):
                (os.rmdir if folder else os.unlink)(name, dir_fd=place)
        self._removed(gone)
        return before, self.attributes(directory)

    def rename(
        self, directory: bytes, name: bytes, target: bytes, new: bytes, who: Credentials
    ) -> tuple[Attributes, Attributes, Attributes, Attributes]:
        """Attributes of both directories before and after."""
        place, before = self._directory_to_write(directory, name)
        target_place, target_before = self._directory_to_write(target, new)
        replaced = b""
        with suppress(OSError):
            replaced = self._handle(self._finder.body(target_place, new))
        with _statuses():
            moved = self._handle(self._finder.body(place, name))
            with acting_as(who.uid, who.gid, who.groups):
                os.rename(name, new, src_dir_fd=place, dst_dir_fd=target_place)
        if replaced and replaced != moved:
            self._removed(replaced)
        after = self.attributes(directory), self.attributes(target)
        return before, after[0], target_before, after[1]

    def link(
        self, handle: bytes, directory: bytes, name: bytes, who: Credentials
    ) -> tuple[Attributes, Attributes, Attributes]:
        """The file's attributes, and the directory's before and after."""
        target, before = self._directory_to_write(directory, name)
        place = self._place(handle)
        with _statuses(), acting_as(who.uid, who.gid, who.groups):
            os.link(f"/proc/self/fd/{place}", name, dst_dir_fd=target, follow_symlinks=True)
        return self.attributes(handle), before, self.attributes(directory)

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
        with _statuses():
            return self._files.places.put(handle, self._finder.open(body))

    def _stat(self, descriptor: int) -> os.stat_result:
        status = os.fstat(descriptor)
        if status.st_nlink == 0:
            raise NfsError(Status.STALE)
        return status

    def _directory(self, handle: bytes) -> tuple[int, Attributes]:
        place = self._place(handle)
        attributes = self._attributes(self._stat(place))
        if attributes.type is not FileType.DIRECTORY:
            raise NfsError(Status.NOTDIR)
        return place, attributes

    def _directory_to_write(self, handle: bytes, name: bytes) -> tuple[int, Attributes]:
        """With a name that can be made, removed or renamed in it."""
        self._may_write()
        if b"/" in name or b"\0" in name or not name:
            raise NfsError(Status.ACCES)
        if name in (b".", b".."):
            raise NfsError(Status.INVAL)
        if self.usage:
            self.usage.changed = True
        return self._directory(handle)

    def _regular(self, handle: bytes) -> tuple[int, Attributes]:
        place = self._place(handle)
        attributes = self._attributes(self._stat(place))
        if attributes.type is FileType.DIRECTORY:
            raise NfsError(Status.ISDIR)
        if attributes.type is not FileType.REGULAR:
            raise NfsError(Status.INVAL)
        return place, attributes

    def _may_write(self) -> None:
        if not self.writable:
            raise NfsError(Status.ROFS)

    def _set(
        self, handle: bytes, place: int, before: Attributes, new: NewAttributes, who: Credentials
    ) -> None:
        """Owner, mode, size, times, in this order: a change of owner clears bits of the mode."""
        path = f"/proc/self/fd/{place}"
        with _statuses():
            with acting_as(who.uid, who.gid, who.groups):
                if new.uid is not None or new.gid is not None:
                    os.chown(path, _or_same(new.uid), _or_same(new.gid))
                if new.mode is not None and before.type is not FileType.LINK:
                    Path(path).chmod(new.mode & 0o7777)
            if new.size is not None:
                self._truncate(handle, new.size, who)
            if new.atime is not None or new.mtime is not None:
                with acting_as(who.uid, who.gid, who.groups):
                    _set_times(path, new, before)

    def _truncate(self, handle: bytes, size: int, who: Credentials) -> None:
        descriptor, before = self.writable_file(handle, who)
        if size > 1 << 62:
            raise NfsError(Status.FBIG)
        os.ftruncate(descriptor, size)
        if self.usage:
            self.usage.add(os.fstat(descriptor).st_blocks * 512 - before.used)

    def _removed(self, handle: bytes) -> None:
        """Forget what was open of a file, which may have other names."""
        self._files.drop(handle)

    def _attributes(self, status: os.stat_result) -> Attributes:
        device = status.st_rdev
        return Attributes(
            _TYPES[stat.S_IFMT(status.st_mode)],
            status.st_mode & 0o7777,
            status.st_nlink,
            status.st_uid,
            status.st_gid,
            status.st_size,
            status.st_blocks * 512,
            (os.major(device), os.minor(device)) if device else (0, 0),
            self._fsid,
            status.st_ino,
            status.st_atime_ns,
            status.st_mtime_ns,
            status.st_ctime_ns,
        )


def _make(place: int, make: Make) -> int | None:
    """Make it in the open directory; a file's descriptor."""
    mode = make.new.mode
    if make.type is FileType.REGULAR:
        descriptor = os.open(make.name, _NEW, 0o600 if mode is None else mode, dir_fd=place)
        if make.exclusive is not None:
            os.utime(descriptor, ns=_times_of(make.exclusive))
        if mode is not None and mode & 0o7000:
            os.fchmod(descriptor, mode & 0o7777)
        return descriptor
    if make.type is FileType.DIRECTORY:
        os.mkdir(make.name, 0o777 if mode is None else mode, dir_fd=place)
    elif make.type is FileType.LINK:
        os.symlink(make.text, make.name, dir_fd=place)
    else:
        kind = _MODES[make.type] | (0o600 if mode is None else mode & 0o7777)
        os.mknod(make.name, kind, os.makedev(*make.device), dir_fd=place)
    return None


def _times_of(verifier: bytes) -> tuple[int, int]:
    """An exclusive create is known again by its verifier, kept as the file's times."""
    return (
        int.from_bytes(verifier[:4], "big") * _SECOND,
        int.from_bytes(verifier[4:], "big") * _SECOND,
    )


def _set_times(path: str, new: NewAttributes, before: Attributes) -> None:
    if new.atime is Clock.SERVER and new.mtime is Clock.SERVER:
        os.utime(path)  # who may write may do this; other times are the owner's business
        return
    now = time.time_ns()
    wanted = ((new.atime, before.atime), (new.mtime, before.mtime))
    atime, mtime = (now if w is Clock.SERVER else b if w is None else w for w, b in wanted)
    os.utime(path, ns=(atime, mtime))


def _or_same(number: int | None) -> int:
    return -1 if number is None else number


def _scan(descriptor: int) -> Iterator[Name]:
    with os.scandir(descriptor) as entries:
        for entry in entries:
            name = os.fsencode(entry.name)
            yield Name(_cookie(name), name, entry.inode())


def _cookie(name: bytes) -> int:
    """63 bits that follow from the name; 0 to 2 are for the beginning, `.` and `..`."""
    return max(3, int.from_bytes(blake2b(name, digest_size=8).digest(), "big") >> 1)
