"""The operating system's NFS server: views where it can see them, and its exports file.

What is shown stays when Daskel ends: clients that run go on, and find everything again when it
begins.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from contextlib import suppress
from ipaddress import IPv4Address
from pathlib import Path

from daskel.core.boot import mount_paths
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import bind_plain, mounted_below, overlay

EXPORTS = Path("/etc/exports.d/daskel.exports")
_THREADS = Path("/proc/fs/nfsd/threads")
_PORT, _ESTABLISHED = 2049, "01"
_RELOAD = ("exportfs", "-r")
_PATIENCE = 60.0  # seconds
_INSTALL = "install the operating system's NFS server (Debian: nfs-kernel-server)"


def look() -> str:
    """Why clients would not be served, when it can be seen; empty when all is well. Raises
    MissingRequirementError where the server is not installed."""
    if shutil.which(_RELOAD[0]) is None:
        raise MissingRequirementError(f"{_RELOAD[0]} is not on this machine", _INSTALL)
    with suppress(OSError, ValueError):
        if int(_THREADS.read_text()) > 0:
            return ""
    return "the operating system's NFS server does not run: systemctl start nfs-server"


def connected() -> set[IPv4Address]:
    """Who has a connection to it now; one that is not used is closed after minutes (proc(5))."""
    lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
    found = set()
    for own, peer, state in (line.split()[1:4] for line in lines):
        if own.endswith(f":{_PORT:04X}") and state == _ESTABLISHED:
            number = bytes.fromhex(peer.partition(":")[0])
            found.add(IPv4Address(number[::-1] if sys.byteorder == "little" else number))
    return found


def export(text: str) -> None:
    """Make `text` the exports file, whole or not at all, and have it read.

    Raises MissingRequirementError.
    """
    if EXPORTS.exists() and EXPORTS.read_text() == text:
        return
    try:
        EXPORTS.parent.mkdir(parents=True, exist_ok=True)
        part = EXPORTS.with_suffix(".part")
        part.write_text(text)
        part.replace(EXPORTS)
        done = subprocess.run(_RELOAD, capture_output=True, text=True, timeout=_PATIENCE)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise MissingRequirementError(
            f"{EXPORTS} could not be taken over: {error}", _INSTALL
        ) from None
    if done.returncode:
        said = " ".join(done.stderr.split())
        raise MissingRequirementError(f"{' '.join(_RELOAD)}: {said}", f"look at {EXPORTS}")


def _make(place: Path) -> None:
    """A folder that only root of this machine can come to: what clients put into their slates is
    nothing for its other users to run or open."""
    Path(mount_paths.PLACE).mkdir(mode=0o700, parents=True, exist_ok=True)
    Path(mount_paths.PLACE).chmod(0o700)
    place.mkdir(parents=True, exist_ok=True)


class Places:
    """Where something is shown now, looked up once."""

    def __init__(self) -> None:
        self._mounted = set(mounted_below(Path("/")))

    def __contains__(self, place: object) -> bool:
        return place in self._mounted

    def show_version(self, base: Path, place: Path, *, sealed: bool) -> None:
        """Show a root's version. A sealed one as a file system of its own: a handle that somebody
        made up finds nothing outside of it."""
        if place in self:
            return
        _make(place)
        if sealed:
            empty = base.parent / ".empty"  # an overlay without changes has two folders at least
            empty.mkdir(exist_ok=True)
            overlay(place, [base, empty], exported=True)
        else:
            bind_plain(base, place)

    def show_view(self, view: Path, place: Path) -> None:
        """Show a slate's view, which is mounted."""
        if place not in self:
            _make(place)
            bind_plain(view, place)


def link(place: Path, target: Path) -> None:
    """What clients mount at `place` from now on."""
    if place.is_symlink() and place.readlink() == target:
        return
    _make(place.parent)
    part = place.with_name(f".{place.name}")
    part.unlink(missing_ok=True)
    part.symlink_to(target)
    part.replace(place)
