"""Which file systems of a running machine belong to its system: by its fstab and its mounts."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

# File systems that lie on a machine's own disks, as mount(8) calls them
_LOCAL = ("ext2", "ext3", "ext4", "xfs", "btrfs", "vfat", "f2fs", "jfs", "reiserfs", "zfs")
_OUT = ("/proc", "/sys", "/dev", "/run", "/tmp", "/mnt", "/media")
_LEFT_OUT = ("/proc/*", "/sys/*", "/dev/*", "/run/*", "/tmp/*")
_SOURCE = re.compile(r"(?:([\w.-]+)@)?([\w.-]+|\[[0-9a-fA-F:.]+\]):(/.*)")
_OCTAL = re.compile(r"\\([0-7]{3})")


@dataclass(frozen=True, slots=True)
class Machine:
    """A running machine, as `user@address:/` names it."""

    login: str
    path: str  # of the folder that is the system's root there


@dataclass(frozen=True, slots=True)
class FileSystem:
    """One that is copied: where it is mounted, and bytes in use (0: not known)."""

    place: str
    used: int


def machine_of(text: str) -> Machine | None:
    """None for what names a file here."""
    match = _SOURCE.fullmatch(text)
    if match is None or match[2].startswith("-"):
        return None
    return Machine(f"{match[1]}@{match[2]}" if match[1] else match[2], match[3])


def file_systems(fstab: str, mounts: str, df: str) -> list[FileSystem]:
    """What is copied, `/` first. `mounts`: /proc/self/mounts; `df`: of `df -kP`. Without an fstab
    that names more, it is the one at `/`."""
    used = _used(df)
    local = {
        _plain(words[1])
        for line in mounts.splitlines()
        if len(words := line.split()) > 2 and words[2] in _LOCAL
    }
    named = {
        _plain(words[1])
        for line in fstab.splitlines()
        if len(words := line.split("#")[0].split()) > 2 and words[2] in (*_LOCAL, "auto")
    }
    out = tuple(f"{place}/" for place in _OUT)
    places = {p for p in named & local if p != "/" and not f"{p}/".startswith(out)}
    return [FileSystem(place, used.get(place, 0)) for place in ["/", *sorted(places)]]


def left_out(place: str) -> Sequence[str]:
    """Patterns of rsync for what is not copied of the file system at `place`."""
    return _LEFT_OUT if place == "/" else ()


def _used(df: str) -> dict[str, int]:
    """Bytes in use, by where a file system is mounted."""
    found = {}
    for line in df.splitlines():
        words = line.split(maxsplit=5)
        if len(words) == 6 and words[2].isdigit():
            found[words[5]] = int(words[2]) * 1024
    return found


def _plain(place: str) -> str:
    """A path of fstab or /proc/self/mounts: spaces are written as \\040 there."""
    text = _OCTAL.sub(lambda match: chr(int(match[1], 8)), place)
    return text.rstrip("/") or "/"
