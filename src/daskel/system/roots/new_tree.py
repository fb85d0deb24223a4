"""A tree that is put together from what an archive or an image says, which may be hostile.

Nothing is made outside of its folder, whatever names and links say; it stops before the disk is
full; device nodes are made below /dev alone.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from daskel.core.values import counted, show_size
from daskel.system.roots.confined_tree import ConfinedTree

_RESERVE, _SHARE = 1 << 30, 20  # bytes of the disk that stay free; of a small one, this part of it
_FEWEST = 1000  # files that stay possible on the disk
_LOOK_AGAIN = 64 << 20  # bytes until the disk is asked again
_COST = 4096  # bytes that a name takes at least
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_FOLDER = os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_NOBODY = 0xFFFFFFFF  # no user or group has this number: chown(2) takes it for "as it is"
_LATEST = 1 << 62  # nanoseconds since 1970, which every file system here can keep
_NAMED = 3  # paths in a message


class SourceError(ValueError):
    """A source that cannot be brought in: a sentence, and what to do."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem)
        self.remedy = remedy


@dataclass(frozen=True, slots=True)
class Entry:
    """One path, as a source has it. `mode` without its type; `time` in nanoseconds since 1970."""

    path: str
    mode: int
    uid: int
    gid: int
    time: int | None = None
    attributes: Mapping[str, bytes] = field(default_factory=dict)  # extended ones


class NewTree:
    """Makes the folder `top`. `owners`: they are kept, which needs root. Everything raises
    SourceError for what the source must not have, OSError for what cannot be done here."""

    def __init__(self, top: Path, *, owners: bool = True) -> None:
        top.mkdir()
        self._top, self._owners = top, owners
        self._tree = ConfinedTree(top, links=True)
        self._folders: list[Entry] = []
        self._budget = 0  # bytes that may be written before the disk is asked again
        self._left_out: list[str] = []

    def __enter__(self) -> NewTree:
        return self

    def __exit__(self, *_: object) -> None:
        self._tree.__exit__()

    def folder(self, entry: Entry) -> None:
        """A folder; one that is there already gets what the entry says at the end."""
        path = self._inside(entry.path)
        if path:
            self._free(path, folder=True)
        self._folders.append(entry)

    def file(self, entry: Entry, pieces: Iterable[tuple[int, bytes]], size: int) -> None:
        """A regular file, from pieces with their offsets; `size` with the hole at its end."""
        path = self._inside(entry.path)
        place = self._free(path)
        with os.fdopen(os.open(place, _NEW, 0o600), "wb", 0) as file:
            for at, data in pieces:
                self.need(len(data))
                os.pwrite(file.fileno(), data, at)
            os.ftruncate(file.fileno(), size)
        self._dress(entry, self._tree.at(path))

    def link(self, entry: Entry, text: str) -> None:
        """A symbolic link; what it says is for the system that will run there."""
        path = self._inside(entry.path)
        os.symlink(text, self._free(path))
        self._dress(entry, self._tree.at(path), link=True)

    def hard_link(self, path: str, first: str) -> None:
        """Another name of a file that is there already."""
        path, first = self._inside(path), self._inside(first)
        if path == first:
            return
        new = self._free(path)
        try:
            with ConfinedTree(self._top, links=True) as tree:
                source = tree.at(first)
                if stat.S_ISDIR(os.lstat(source).st_mode):
                    raise SourceError(f"{path} is a hard link to a folder", _NOT_THIS)
                os.link(source, new, follow_symlinks=False)
        except FileNotFoundError:
            problem = f"{path} is a link to {first}, which is not there"
            raise SourceError(problem, _NOT_THIS) from None
        except OSError as error:
            _refuse_way_out(error, first)
            raise

    def special(self, entry: Entry, kind: int, device: int) -> None:
        """A device node or a FIFO, by its S_IF type. Devices elsewhere than below /dev are left
        out: whoever may open one has the hardware behind it."""
        path = self._inside(entry.path)
        if kind != stat.S_IFIFO and not path.startswith("dev/"):
            self._left_out.append(path)
            return
        os.mknod(self._free(path), kind | 0o600, device)
        self._dress(entry, self._tree.at(path))

    def finish(self) -> str:
        """Folders get their times last; in words, what was left out."""
        for entry in reversed(self._folders):
            with suppress(FileNotFoundError, NotADirectoryError):  # another entry took its name
                folder = os.open(self._tree.at(self._inside(entry.path)), _FOLDER)
                try:
                    self._dress(entry, f"/proc/self/fd/{folder}/.")
                finally:
                    os.close(folder)
        if not self._left_out:
            return ""
        named = ", ".join(self._left_out[:_NAMED])
        more = ", …" if len(self._left_out) > _NAMED else ""
        nodes = counted(len(self._left_out), "device node")
        return f"; left out: {nodes} outside of /dev ({named}{more})"

    def need(self, size: int) -> None:
        """Raises SourceError when the disk would have too little left."""
        self._budget -= size + _COST
        if self._budget > 0:
            return
        disk = os.statvfs(self._top)
        free = disk.f_bavail * disk.f_frsize
        left = free - min(_RESERVE, disk.f_blocks * disk.f_frsize // _SHARE)
        if left < size or (disk.f_files and disk.f_favail < _FEWEST):
            what = "names" if left >= size else f"room ({show_size(free)})"
            problem = f"what is unpacked needs more {what} than the disk of {self._top} has left"
            raise SourceError(problem, "make room, or move the roots to another disk")
        names = disk.f_favail - _FEWEST if disk.f_files else _LOOK_AGAIN
        self._budget = min(_LOOK_AGAIN, left - size, names * _COST)

    # --- below ---

    def _inside(self, name: str) -> str:
        parts = [part for part in name.split("/") if part not in ("", ".")]
        if ".." in parts:
            raise SourceError(f"{name} leads out of it", _NOT_THIS)
        return "/".join(parts)

    def _free(self, path: str, *, folder: bool = False) -> str:
        """The way to a name that is not there, its folders made; what was there goes. A folder is
        made, or stays."""
        self.need(0)
        try:
            place = self._place(path)
            there = os.lstat(place).st_mode if os.path.lexists(place) else None
            if folder and there is not None and stat.S_ISDIR(there):
                return place
            if there is not None and stat.S_ISDIR(there):
                shutil.rmtree(place)
                self._tree.forget()
                place = self._tree.at(path)
            elif there is not None:
                os.unlink(place)
                self._tree.forget()  # a link to a folder may have been on the way
                place = self._tree.at(path)
            if folder:
                os.mkdir(place, 0o755)
        except OSError as error:
            _refuse_way_out(error, path)
            if error.errno in (errno.ENOTDIR, errno.ENAMETOOLONG):
                problem = f"{path[:200]} cannot be made: {os.strerror(error.errno)}"
                raise SourceError(problem, _NOT_THIS) from None
            raise
        return place

    def _place(self, path: str) -> str:
        """The way to it, when the folders above are made."""
        try:
            return self._tree.at(path)
        except FileNotFoundError:
            parts = path.split("/")
            for count in range(1, len(parts)):
                with suppress(FileExistsError):
                    os.mkdir(self._tree.at("/".join(parts[:count])), 0o755)
            return self._tree.at(path)

    def _dress(self, entry: Entry, place: str, *, link: bool = False) -> None:
        """Owner, mode, attributes, times; in this order, since a new owner clears some."""
        if not (0 <= entry.uid < _NOBODY and 0 <= entry.gid < _NOBODY):
            problem = f"{entry.path} belongs to {entry.uid}:{entry.gid}, which cannot be"
            raise SourceError(problem, _NOT_THIS)
        if self._owners:
            os.chown(place, entry.uid, entry.gid, follow_symlinks=False)
        if not link:
            os.chmod(place, entry.mode & 0o7777)
        for name, value in entry.attributes.items():
            with suppress(OSError):  # of another kind of system's
                os.setxattr(place, name, value, follow_symlinks=False)
        if entry.time is not None:
            time = max(-_LATEST, min(entry.time, _LATEST))
            os.utime(place, ns=(time, time), follow_symlinks=False)


def _refuse_way_out(error: OSError, path: str) -> None:
    if error.errno in (errno.EXDEV, errno.ELOOP):
        raise SourceError(f"{path} leads out of it", _NOT_THIS) from None


_NOT_THIS = "do not use this source: it is damaged, or meant to do harm"
