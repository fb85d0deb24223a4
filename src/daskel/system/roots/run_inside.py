"""Runs a command inside of a root's tree: as if the system ran, with nothing left mounted."""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.inside import inside
from daskel.system.roots.mounts import bind, mount, own_namespace

_NAMES = Path("etc/resolv.conf")
NOT_THERE = 127  # exit code, as a shell says it
_NO_MOUNTS, _OTHER_PROCESSOR = 125, 126
_ENVIRONMENT = {
    "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    "HOME": "/root",
    "LANG": "C.UTF-8",
    "DEBIAN_FRONTEND": "noninteractive",
}


def run_inside(
    tree: Path, command: Sequence[str], *, quiet: bool = False, given: bytes = b""
) -> int:
    """The command's exit code. Raises MissingRequirementError when it cannot be run at all.

    `quiet`: what it prints goes nowhere, and it reads what is `given`. /proc, /sys, /dev and name
    resolution are there, in a mount namespace that ends with it.
    """
    if os.geteuid() != 0:
        raise MissingRequirementError("changing the root directory needs root", "run as root")
    folder = inside(tree, str(_NAMES.parent))
    names = (folder or tree) / _NAMES.name
    placed = folder is not None and folder.is_dir() and not os.path.lexists(names)
    if placed:
        names.touch()
    process = os.fork()
    if process == 0:
        if quiet:
            nowhere, read = os.open(os.devnull, os.O_RDWR), os.memfd_create("given")
            os.write(read, given)
            os.lseek(read, 0, os.SEEK_SET)
            for stream, to in enumerate((read, nowhere, nowhere)):
                os.dup2(to, stream)
        _inside(tree, command)
    try:
        status = os.waitpid(process, 0)[1]
    finally:
        if placed:
            names.unlink(missing_ok=True)
    code = os.waitstatus_to_exitcode(status)
    if code == _NO_MOUNTS:
        raise MissingRequirementError(
            f"nothing can be mounted below {tree}", "run as root of this machine"
        )
    if code == _OTHER_PROCESSOR:
        raise MissingRequirementError(
            f"{command[0]} is for another processor than this machine's",
            "install qemu-user-static, which runs it by emulation",
        )
    return code if code >= 0 else 128 - code


def _inside(tree: Path, command: Sequence[str]) -> None:
    """The child; never returns."""
    try:
        own_namespace()
        for kind in ("proc", "sysfs"):
            place = inside(tree, {"proc": "proc", "sysfs": "sys"}[kind])
            if place and place.is_dir():
                mount(kind, place)
        if (devices := inside(tree, "dev")) and devices.is_dir():
            bind(Path("/dev"), devices)
        if (names := inside(tree, str(_NAMES))) and names.is_file():
            bind(Path("/etc/resolv.conf"), names)
        os.chroot(tree)
        os.chdir("/")
    except OSError:
        os._exit(_NO_MOUNTS)
    terminal = {"TERM": os.environ["TERM"]} if "TERM" in os.environ else {}
    try:
        os.execvpe(command[0], list(command), {**_ENVIRONMENT, **terminal})
    except OSError as error:
        os._exit(_OTHER_PROCESSOR if error.errno == errno.ENOEXEC else NOT_THERE)
