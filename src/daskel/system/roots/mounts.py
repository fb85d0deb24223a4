"""Mounts, in a mount namespace of this process's own: they end with it, and nobody else sees them.

mount(2), umount2(2), unshare(2); overlay file systems with the options that NFS needs.
"""

from __future__ import annotations

import errno
import re
import time
from collections.abc import Sequence
from pathlib import Path

from daskel.system.host import libc

_PATIENCE, _PAUSE = 2.0, 0.05  # seconds: another namespace still holds the folder
# Inode numbers that stay, renames of folders, hard links that stay together, handles that last.
_LASTING = "xino=on,redirect_dir=on,index=on,nfs_export=on"


def own_namespace() -> None:
    """Mounts of this process from now on are its own and its children's. Raises OSError."""
    libc.unshare(libc.NEW_NAMESPACE)
    libc.mount("none", "/", "", libc.PRIVATE | libc.RECURSIVE, "")


def overlay(
    target: Path, lower: Sequence[Path], upper: Path | None = None, work: Path | None = None,
    *, exported: bool = False,
) -> None:  # fmt: skip
    """Show the folders of `lower`, the first one on top, and what is changed in `upper`.

    Without `upper` it cannot be written, and has handles only when it is to be `exported`. Raises
    OSError.
    """
    options = "lowerdir=" + ":".join(map(_escaped, lower))
    if upper and work:
        options += f",upperdir={_escaped(upper)},workdir={_escaped(work)},{_LASTING}"
    else:
        options += ",redirect_dir=nofollow,nfs_export=on" if exported else ",redirect_dir=follow"
    until = time.monotonic() + _PATIENCE
    while True:
        try:
            flags = libc.NO_SET_ID | libc.NO_DEVICES | (0 if upper else libc.READ_ONLY)
            libc.mount("daskel", str(target), "overlay", flags, options)
        except OSError as error:
            if error.errno != errno.EBUSY or time.monotonic() > until:
                raise
            time.sleep(_PAUSE)
        else:
            return


def hide(folders: Sequence[Path]) -> None:
    """From this process and its children, an empty folder that cannot be written is in place of
    each. Before any thread begins. Raises OSError."""
    own_namespace()
    for folder in folders:
        libc.mount("none", str(folder), "tmpfs", libc.READ_ONLY, "mode=0,size=4k")


def bind(source: Path, target: Path) -> None:
    """Show a folder at another place, with what is mounted in it. Raises OSError."""
    libc.mount(str(source), str(target), "", libc.BIND | libc.RECURSIVE, "")


def bind_plain(source: Path, target: Path) -> None:
    """Show just a folder at another place, where no set-user-id bit counts and no device in it can
    be opened. Raises OSError."""
    libc.mount(str(source), str(target), "", libc.BIND, "")
    flags = libc.BIND | libc.REMOUNT | libc.NO_SET_ID | libc.NO_DEVICES
    libc.mount("none", str(target), "", flags, "")


def tree_of(folder: Path, *, writable: bool) -> int:
    """A descriptor of the folder as a mount of its own, for one export: nothing above it can be
    reached, no device in it be opened, no set-user-id bit counts. Raises OSError."""
    attributes = libc.NO_SET_ID | libc.NO_DEVICES | (0 if writable else libc.READ_ONLY)
    return libc.own_mount(str(folder), attributes)


def mount(kind: str, target: Path, source: str = "none", flags: int = 0, options: str = "") -> None:
    """Mount a file system. Raises OSError."""
    libc.mount(source, str(target), kind, flags, options)


def unmount(target: Path) -> None:
    """At once for all who come, even when somebody is in it. Raises OSError."""
    libc.unmount(str(target))


def mounted_below(folder: Path) -> list[Path]:
    """Mount points in and below a folder, the innermost first."""
    lines = Path("/proc/self/mountinfo").read_text().splitlines()
    points = [Path(_plain(line.split()[4])) for line in lines]
    inside = [point for point in points if point.is_relative_to(folder)]
    return sorted(inside, key=lambda point: len(point.parts), reverse=True)


def _plain(text: str) -> str:
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text)


def _escaped(folder: Path) -> str:
    return re.sub(r"([\\:,])", r"\\\1", str(folder))
