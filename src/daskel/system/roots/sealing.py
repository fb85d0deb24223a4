"""Sealing: a working tree, or what one client sees, becomes the next version of a root."""

from __future__ import annotations

import errno
import os
import shutil
import stat
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from daskel.core.roots.packages import parse_status
from daskel.system.host.libc import exchange
from daskel.system.roots.inside import inside
from daskel.system.roots.kept import sync_folder
from daskel.system.roots.roots import RootFolder, RootState, Version
from daskel.system.roots.tree_copy import Progress, copy_tree, entries, same_file


def seal(
    root: RootFolder, source: Path, forget: Sequence[str], note: str, progress: Progress
) -> tuple[int, Version]:
    """Make the next version out of `source`; its number. The root must be locked.

    What is interrupted leaves no version behind.
    """
    state = root.state()
    number, before = state.next, max(state.versions, default=0)
    root.keep(state)  # from now on, versions without it are damage
    _tidy(root, state)
    try:
        shared = root.version(before) if before else None
        new = copy_tree(source, root.unfinished, shared, forget, progress)
        files, size = _count(root.unfinished)
        _to_disk(root.unfinished)
        root.unfinished.rename(root.version(number))
    finally:
        discard(root.unfinished)
    version = Version(time.time(), files, size, new, note)
    used = state.used or (number if not state.versions else 0)
    root.keep(replace(state, used=used, versions={**state.versions, number: version}))
    return number, version


def own_size(root: RootFolder, number: int) -> int:
    """Bytes that no other version has."""
    found = (status for _, status in entries(root.version(number)))
    return sum(s.st_blocks * 512 for s in found if stat.S_ISREG(s.st_mode) and s.st_nlink == 1)


def drop(root: RootFolder, number: int) -> None:
    """Take a version away; it must not be in use. The root must be locked."""
    state = root.state()
    _tidy(root, state)
    versions = {n: version for n, version in state.versions.items() if n != number}
    last = max(state.last, number)
    root.keep(replace(state, versions=versions, last=last))
    root.version(number).rename(root.unfinished)
    discard(root.unfinished)
    for path in (root.image(number), root.client_part(number)):
        path.unlink(missing_ok=True)


def _tidy(root: RootFolder, state: RootState) -> None:
    """What a command left that was killed: put together and not yet a version, or one no more."""
    discard(root.unfinished)
    for folder in root.left_over(state):
        discard(folder)


def put_in_place(root: RootFolder) -> None:
    """What was put together becomes the working tree. The root must be locked."""
    take_place(root.unfinished, root.tree)
    discard(root.unfinished)


def take_place(new: Path, target: Path) -> None:
    """`new` becomes `target` at once; what was there before is then at `new`."""
    if not target.exists():
        new.rename(target)
        return
    try:
        exchange(str(new), str(target))
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOSYS):
            raise
        former = new.with_name(f"{new.name}.former")  # a file system that cannot exchange names
        discard(former)
        target.rename(former)
        new.rename(target)
        former.rename(new)


def discard(folder: Path) -> None:
    """Remove a folder with all that is in it, whatever its modes; or a file."""
    if folder.is_file() and not folder.is_symlink():
        folder.unlink()
    elif os.path.lexists(folder):
        shutil.rmtree(folder)


def _count(folder: Path) -> tuple[int, int]:
    files = size = 0
    for _, status in entries(folder):
        files += 1
        size += status.st_blocks * 512 if stat.S_ISREG(status.st_mode) else 0
    return files, size


def _to_disk(folder: Path) -> None:
    """Everything that was written to its file system."""
    os.sync()
    sync_folder(folder)


@dataclass(frozen=True, slots=True)
class Difference:
    """One path that differs: added, removed or changed."""

    path: str
    what: str


def differences(old: Path, new: Path) -> Iterator[Difference]:
    """What differs from one tree to another, in the order of the paths."""
    before, after = dict(entries(old)), dict(entries(new))
    for path in sorted(before.keys() | after.keys()):
        if path not in before:
            yield Difference(path, "added")
        elif path not in after:
            yield Difference(path, "removed")
        elif not _same(old / path, new / path, before[path], after[path]):
            yield Difference(path, "changed")


def _same(one: Path, other: Path, a: os.stat_result, b: os.stat_result) -> bool:
    if (a.st_dev, a.st_ino) == (b.st_dev, b.st_ino):
        return True
    if any(getattr(a, key) != getattr(b, key) for key in ("st_mode", "st_uid", "st_gid")):
        return False
    if stat.S_ISDIR(a.st_mode):
        return True
    if stat.S_ISREG(a.st_mode):
        return same_file(one, other, a)
    if stat.S_ISLNK(a.st_mode):
        return one.readlink() == other.readlink()
    return a.st_rdev == b.st_rdev


def packages(tree: Path) -> dict[str, str]:
    """Installed packages and their versions; none where there is no package database."""
    place = inside(tree, "var/lib/dpkg/status")
    if place is None or not place.is_file():
        return {}
    return parse_status(place.read_text(errors="replace"))
