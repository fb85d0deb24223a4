"""An exported tree that its client may change: a slate's view (RFC 1813's procedures that write).

Everything raises NfsError.
"""

from __future__ import annotations

import os
import stat
import time
from contextlib import suppress
from pathlib import Path

from daskel.core.nfs.calls import Clock, Make, NewAttributes
from daskel.core.nfs.nfs3 import Access, Attributes, FileType, NfsError, Status, permitted
from daskel.core.nfs.results import Space
from daskel.core.nfs.rpc import Credentials
from daskel.core.roots.views import NAME_COST
from daskel.system.nfs.credentials import acting_as
from daskel.system.nfs.export import TYPES, Export
from daskel.system.nfs.fhandle import Help
from daskel.system.nfs.openfiles import OpenFiles, statuses
from daskel.system.roots.usage import Usage

_MODES = {kind: mode for mode, kind in TYPES.items()}
_MODIFY, _SECOND = int(Access.MODIFY), 10**9
_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


class WritableExport(Export):
    """`usage`: the limit of what may be written, where there is one."""

    writable = True

    def __init__(
        self, number: bytes, top: int, key: bytes, files: OpenFiles,
        helper: Help | None = None, usage: Usage | None = None,
    ) -> None:  # fmt: skip
        super().__init__(number, top, key, files, helper)
        self.usage = usage

    def space(self) -> Space:
        """FSSTAT (RFC 1813 3.3.18): what is left of the limit, in bytes and files."""
        found = super().space()
        if self.usage is None:
            return found
        usage, free_names = self.usage, self.usage.left // NAME_COST
        return Space(
            usage.limit, min(found.free, usage.left),
            usage.limit // NAME_COST, min(found.free_files, free_names),
        )  # fmt: skip

    def set_attributes(
        self, handle: bytes, new: NewAttributes, guard: int | None, who: Credentials
    ) -> tuple[Attributes, Attributes]:
        """Before and after. `guard`: the ctime that it must still have."""
        place = self._place(handle)
        before = self._attributes(os.fstat(place))
        if guard is not None and guard != before.ctime:
            raise NfsError(Status.NOT_SYNC)
        self._set(handle, place, before, new, who)
        return before, self._attributes(os.fstat(place))

    def write(
        self, handle: bytes, offset: int, data: bytes | memoryview, who: Credentials
    ) -> tuple[int, Attributes, Attributes]:
        """Descriptor, and the attributes before and after."""
        descriptor, before = self.writable_file(handle, who)
        end = offset + len(data)
        if end > 1 << 62:
            raise NfsError(Status.FBIG)
        if self.usage:
            has_holes = before.used < before.size
            new = len(data) if has_holes else min(len(data), max(0, end - before.size))
            self.usage.need(new)
        with statuses():
            _drop_set_id(descriptor, before, who)
            done = os.pwrite(descriptor, data, offset) if data else 0
            while done < len(data):
                done += os.pwrite(descriptor, memoryview(data)[done:], offset + done)
            after = self._attributes(os.fstat(descriptor))
        if self.usage:
            self.usage.add(after.used - before.used)
        return descriptor, before, after

    def writable_file(self, handle: bytes, who: Credentials) -> tuple[int, Attributes]:
        """A descriptor to write a regular file, that may be closed by the next call."""
        descriptor = self._files.to_write.get(handle)
        if descriptor is not None:
            attributes = self._attributes(os.fstat(descriptor))
        else:
            place, attributes = self._regular(handle)
        if not permitted(attributes, who, writable=True, opened=True) & _MODIFY:
            raise NfsError(Status.ACCES)
        if descriptor is None:
            if self.usage:
                self.usage.need(attributes.used)  # a file of the base is copied first
            with statuses():
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
        if self.usage:
            self.usage.need_name()
        new = make.new
        try:
            with statuses(), acting_as(who.uid, who.gid, who.groups):
                descriptor = _make(place, make)
        except NfsError as error:
            if error.status is not Status.EXIST or make.type is not FileType.REGULAR:
                raise
            handle, new = self._there_already(place, make), NewAttributes(size=new.size)
        else:
            with statuses():
                handle = self._handle(self._finder.body(place, make.name))
            if descriptor is not None:
                self._files.drop(handle)
                self._files.to_write.put(handle, descriptor)
            new = NewAttributes(None, new.uid, new.gid, new.size or None, new.atime, new.mtime)
        made = self._place(handle)
        self._set(handle, made, self._attributes(os.fstat(made)), new, who)
        return handle, self.attributes(handle), before, self.attributes(make.directory)

    def _there_already(self, place: int, make: Make) -> bytes:
        """CREATE of a file that is there: right when unchecked, or when it was this call's."""
        if make.guarded:
            raise NfsError(Status.EXIST)
        with statuses():
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
        with statuses():
            gone = self._handle(self._finder.body(place, name))
            with acting_as(who.uid, who.gid, who.groups):
                (os.rmdir if folder else os.unlink)(name, dir_fd=place)
        self._files.drop(gone)
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
        with statuses():
            moved = self._handle(self._finder.body(place, name))
            with acting_as(who.uid, who.gid, who.groups):
                os.rename(name, new, src_dir_fd=place, dst_dir_fd=target_place)
        if replaced and replaced != moved:
            self._files.drop(replaced)
        after = self.attributes(directory), self.attributes(target)
        return before, after[0], target_before, after[1]

    def link(
        self, handle: bytes, directory: bytes, name: bytes, who: Credentials
    ) -> tuple[Attributes, Attributes, Attributes]:
        """The file's attributes, and the directory's before and after."""
        target, before = self._directory_to_write(directory, name)
        if self.usage:
            self.usage.need_name()
        place = self._place(handle)
        with statuses(), acting_as(who.uid, who.gid, who.groups):
            os.link(f"/proc/self/fd/{place}", name, dst_dir_fd=target, follow_symlinks=True)
        return self.attributes(handle), before, self.attributes(directory)

    def _directory_to_write(self, handle: bytes, name: bytes) -> tuple[int, Attributes]:
        """With a name that can be made, removed or renamed in it."""
        if b"/" in name or b"\0" in name or not name:
            raise NfsError(Status.ACCES)
        if name in (b".", b".."):
            raise NfsError(Status.INVAL)
        if self.usage:
            self.usage.changed = True
        return self._directory(handle)

    def _set(
        self, handle: bytes, place: int, before: Attributes, new: NewAttributes, who: Credentials
    ) -> None:
        """Owner, mode, size, times, in this order: a change of owner clears bits of the mode."""
        path = f"/proc/self/fd/{place}"
        with statuses():
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
        with statuses():
            _drop_set_id(descriptor, before, who)
            os.ftruncate(descriptor, size)
        if self.usage:
            self.usage.add(os.fstat(descriptor).st_blocks * 512 - before.used)


def _drop_set_id(descriptor: int, before: Attributes, who: Credentials) -> None:
    """What anybody but root writes to runs as its owner no more (Linux, file_remove_privs)."""
    bits = stat.S_ISUID | (stat.S_ISGID if before.mode & stat.S_IXGRP else 0)
    if who.uid != 0 and before.mode & bits:
        os.fchmod(descriptor, before.mode & ~bits)


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
