"""Copies a tree of files with everything that belongs to it, sharing what another copy has already.

Owners, modes, times, symbolic and hard links, device nodes, extended attributes (with file
capabilities and access lists). What is the same in `before` becomes a hard link to it.
"""

from __future__ import annotations

import errno
import fcntl
import os
import re
import shutil
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.confined_tree import ConfinedTree

_CLONE = 0x40049409  # FICLONE, ioctl_ficlone(2)
_BLOCK = 1 << 20
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_EMPTIED = "etc/machine-id"  # an empty one makes the system make its own
Progress = Callable[[int], None]  # bytes done


@dataclass(slots=True)
class CopyPlan:
    """What a copy would do. Sizes in bytes."""

    files: int = 0
    size: int = 0
    new: int = 0  # of it, what is not in `before` already, as far as sizes and times tell
    forgotten: list[str] = field(default_factory=list)


def entries(top: Path) -> Iterator[tuple[str, os.stat_result]]:
    """Every path below a folder, relative to it, folders before what is in them."""
    pending = [""]
    while pending:
        folder = pending.pop()
        with os.scandir(top / folder) as found:
            names = sorted(found, key=lambda entry: entry.name)
        for entry in names:
            path = f"{folder}{entry.name}"
            status = entry.stat(follow_symlinks=False)
            yield path, status
            if stat.S_ISDIR(status.st_mode):
                pending.append(path + "/")


def forgets(patterns: Sequence[str]) -> Callable[[str], bool]:
    """Whether a path is to be left out: `*` stands for anything in one name, `**` for any depth."""
    parts = [
        "".join(".*" if p == "**" else "[^/]*" if p == "*" else re.escape(p)
                for p in re.split(r"(\*\*|\*)", pattern.strip("/")))
        for pattern in patterns
    ]  # fmt: skip
    whole = re.compile("|".join(parts)) if parts else None
    return lambda path: bool(whole and whole.fullmatch(path))


def plan(source: Path, before: Path | None, forget: Sequence[str]) -> CopyPlan:
    """What a copy would hold, before anything is copied. Raises OSError."""
    result, out = CopyPlan(), forgets(forget)
    for path, status in entries(source):
        if not stat.S_ISDIR(status.st_mode) and out(path):
            result.forgotten.append(path)
            result.files += path == _EMPTIED
            continue
        result.files += 1
        if stat.S_ISREG(status.st_mode):
            size = status.st_blocks * 512
            result.size += size
            result.new += 0 if before and _looks_same(before / path, status) else size
    return result


def need_room(folder: Path, size: int) -> None:
    """Raises MissingRequirementError when the disk has less left."""
    left = shutil.disk_usage(folder).free
    if left < size:
        gib = [f"{n / 2**30:.1f} GiB" for n in (size, left)]
        problem = f"{gib[0]} are needed in {folder}, {gib[1]} are left"
        raise MissingRequirementError(problem, "make room, or move the roots to another disk")


def copy_tree(
    source: Path, target: Path, before: Path | None = None, forget: Sequence[str] = (),
    progress: Progress = lambda _: None,
) -> int:  # fmt: skip
    """Copy into the new folder `target`; the bytes that are not shared with `before`.

    Raises MissingRequirementError when owners or devices cannot be kept.
    """
    target.mkdir()
    try:
        with ConfinedTree(source) as old, ConfinedTree(target) as new:
            return _Copying(old, new, before, forgets(forget), progress).run(source)
    except PermissionError as error:
        problem = f"{error.filename or target}: {error.strerror}"
        raise MissingRequirementError(
            problem, "run as root: owners and device nodes are to be kept"
        ) from None


class _Copying:
    """Neither tree is left: a link in place of a folder, put there meanwhile, is an error."""

    def __init__(
        self, source: ConfinedTree, target: ConfinedTree, before: Path | None,
        out: Callable[[str], bool], progress: Progress,
    ) -> None:  # fmt: skip
        self._source, self._target, self._before = source, target, before
        self._out, self._progress = out, progress
        self._linked: dict[tuple[int, int], str] = {}  # first name of files with several
        self._new = 0

    def run(self, top: Path) -> int:
        folders: list[tuple[str, os.stat_result]] = [("", os.lstat(self._source.at("")))]
        for path, status in entries(top):
            if stat.S_ISDIR(status.st_mode):
                os.mkdir(self._target.at(path))
                folders.append((path, status))
            elif not self._out(path):
                self._one(path, status)
            elif path == _EMPTIED:
                self._empty(path)
        for path, status in reversed(folders):
            _copy_attributes(self._source.at(path), self._target.at(path), status)
        return self._new

    def _empty(self, path: str) -> None:
        target = self._target.at(path)
        os.close(os.open(target, _NEW, 0o444))
        os.utime(target, (0, 0), follow_symlinks=False)  # the same in every version

    def _one(self, path: str, status: os.stat_result) -> None:
        kind = stat.S_IFMT(status.st_mode)
        if kind == stat.S_IFSOCK:
            return  # of a program that ran
        if status.st_nlink > 1:
            first = self._linked.setdefault((status.st_dev, status.st_ino), path)
            if first is not path:
                self._link(first, path)
                return
        source, target = self._source.at(path), self._target.at(path)
        if kind == stat.S_IFREG:
            self._file(path, source, target, status)
            return
        if kind == stat.S_IFLNK:
            os.symlink(os.readlink(source), target)
        else:
            os.mknod(target, status.st_mode, status.st_rdev)
        _copy_attributes(source, target, status)

    def _link(self, first: str, path: str) -> None:
        folder = os.open(os.path.dirname(self._target.at(first)), os.O_PATH)
        try:
            place = f"/proc/self/fd/{folder}/{os.path.basename(first)}"
            os.link(place, self._target.at(path), follow_symlinks=False)
        finally:
            os.close(folder)

    def _file(self, path: str, source: str, target: str, status: os.stat_result) -> None:
        before = self._before / path if self._before else None
        if before and same_file(Path(source), before, status):
            os.link(before, target, follow_symlinks=False)
        else:
            copy_file(source, target)
            _copy_attributes(source, target, status)
            self._new += status.st_blocks * 512
        self._progress(status.st_blocks * 512)


def copy_file(source: str, target: str) -> None:
    """The content: shared by the file system where it can, holes kept. Links are not followed."""
    from_ = os.open(source, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(from_, "rb") as read, os.fdopen(os.open(target, _NEW, 0o600), "wb") as write:
        with suppress(OSError):
            fcntl.ioctl(write.fileno(), _CLONE, read.fileno())
            return
        size = os.fstat(read.fileno()).st_size
        for start, end in _data(read.fileno(), size):
            os.lseek(write.fileno(), start, os.SEEK_SET)
            at = start
            while at < end:
                done = os.sendfile(write.fileno(), read.fileno(), at, min(end - at, 64 * _BLOCK))
                if done == 0:
                    break  # it became shorter meanwhile
                at += done
        os.ftruncate(write.fileno(), size)


def _data(descriptor: int, size: int) -> Iterator[tuple[int, int]]:
    """Where a file has data, not holes."""
    at = 0
    while at < size:
        try:
            start = os.lseek(descriptor, at, os.SEEK_DATA)
        except OSError as error:
            if error.errno == errno.ENXIO:  # the rest is a hole
                return
            raise
        at = os.lseek(descriptor, start, os.SEEK_HOLE)
        yield start, at


def same_file(one: Path, other: Path, status: os.stat_result) -> bool:
    """Two regular files that are alike in everything."""
    try:
        if not _looks_same(other, status) or _attributes(one) != _attributes(other):
            return False
        with one.open("rb") as a, other.open("rb") as b:
            while True:
                piece = a.read(_BLOCK)
                if piece != b.read(_BLOCK):
                    return False
                if not piece:
                    return True
    except OSError:
        return False


def _looks_same(path: Path, status: os.stat_result) -> bool:
    try:
        other = path.lstat()
    except OSError:
        return False
    keys = ("st_mode", "st_uid", "st_gid", "st_size", "st_mtime_ns")
    return all(getattr(other, key) == getattr(status, key) for key in keys)


def _attributes(path: str | Path) -> dict[str, bytes]:
    """None where the file system has no such thing."""
    try:
        names = os.listxattr(path, follow_symlinks=False)
    except OSError as error:
        if error.errno == errno.ENOTSUP:
            return {}
        raise
    kept = [name for name in names if not name.startswith("trusted.")]
    return {name: os.getxattr(path, name, follow_symlinks=False) for name in kept}


def _copy_attributes(source: str, target: str, status: os.stat_result) -> None:
    """Owner, mode, extended attributes, times; in this order, since a new owner clears some."""
    os.chown(target, status.st_uid, status.st_gid, follow_symlinks=False)
    if not stat.S_ISLNK(status.st_mode):
        os.chmod(target, stat.S_IMODE(status.st_mode))
    for name, value in _attributes(source).items():
        os.setxattr(target, name, value, follow_symlinks=False)
    os.utime(target, ns=(status.st_atime_ns, status.st_mtime_ns), follow_symlinks=False)
