"""Changes a copy of a machine so that it boots without a disk, and says what was changed."""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path, PurePosixPath

from daskel.core.roots import fitting
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.inside import inside, listed
from daskel.system.roots.run_inside import run_inside

_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_LARGEST = 1 << 20  # bytes of a text
_WANTS = "etc/systemd/system/{}.target.wants"


def texts(tree: Path) -> dict[str, str]:
    """The files that say how a system sets up disks and network, by path."""
    found: dict[str, str] = {}
    for path, ends in fitting.LOOKED_AT:
        place = inside(tree, path)
        if place is None:
            continue
        files = listed(tree, path) if place.is_dir() else [place]
        for file in files:
            if file.is_file() and not file.is_symlink() and file.name.endswith(ends):
                name = f"{path}/{file.name}" if place.is_dir() else path
                with file.open("rb") as opened:
                    found[name] = opened.read(_LARGEST).decode("utf-8", "replace")
    return found


def switched_on(tree: Path) -> list[str]:
    """Names of the services that start with the system."""
    wanted = ("multi-user", "network-online", "sysinit", "sockets")
    return [p.name for one in wanted for p in listed(tree, _WANTS.format(one))]


def fit(tree: Path) -> list[str]:
    """Change a tree; in words, what was changed. Raises MissingRequirementError, OSError."""
    said: list[str] = []
    units = switched_on(tree)
    networkd = "systemd-networkd.service" in units
    manager = any("NetworkManager.service" in unit for unit in units)
    for one in fitting.fits(texts(tree), networkd=networkd, manager=manager):
        _write(tree, one.path, one.text)
        said += one.said
    return said + _initrd(tree)


def _initrd(tree: Path) -> list[str]:
    """With drivers of network cards and NFS, for every kernel that is there."""
    tools: Mapping[str, tuple[str, str, list[str]]] = {
        "usr/sbin/update-initramfs": (
            fitting.INITRAMFS, fitting.INITRAMFS_TEXT, ["update-initramfs", "-u", "-k", "all"],
        ),
        "usr/bin/dracut": (
            fitting.DRACUT, fitting.DRACUT_TEXT, ["dracut", "--force", "--regenerate-all"],
        ),
    }  # fmt: skip
    for program, (path, text, command) in tools.items():
        if inside(tree, program) is None:
            continue
        _write(tree, path, text)
        if run_inside(tree, command, quiet=True):
            problem = f"{' '.join(command)} failed in the system"
            remedy = f"see why: daskel root edit NAME -- {' '.join(command)}"
            raise MissingRequirementError(problem, remedy)
        return ["the initrd was made anew, with NFS and the drivers of all network cards"]
    return []


def _write(tree: Path, path: str, text: str) -> None:
    """A regular file at a path inside of the tree: no link leads out of it."""
    folder, _, name = path.rpartition("/")
    target = _folder(tree, folder) / name
    mode = 0o644
    with suppress(FileNotFoundError):
        status = target.lstat()
        mode = stat.S_IMODE(status.st_mode) if stat.S_ISREG(status.st_mode) else mode
    part = target.with_name(f".{name}.daskel")
    part.unlink(missing_ok=True)
    with os.fdopen(os.open(part, _NEW, mode), "w") as file:
        file.write(text)
        os.fchmod(file.fileno(), mode)
    part.replace(target)


def _folder(tree: Path, path: str) -> Path:
    """A folder of the tree, made where it is missing."""
    here = tree
    for depth in range(1, len(parts := PurePosixPath(path).parts) + 1):
        found = inside(tree, "/".join(parts[:depth]))
        if found is None:
            found = here / parts[depth - 1]
            found.unlink(missing_ok=True)  # a link that leads nowhere
            found.mkdir()
        here = found
    return here
