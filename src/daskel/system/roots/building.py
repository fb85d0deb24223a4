"""Makes a Debian system from nothing, with debootstrap: fit to be booted without a disk."""

from __future__ import annotations

import os
import platform
import re
import shutil
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.run_inside import run_inside
from daskel.system.roots.sealing import discard
from daskel.system.roots.settling import Settled, settle

# What Debian calls processors, by the machine's name
_DEBIAN = {"x86_64": "amd64", "aarch64": "arm64", "armv7l": "armhf", "riscv64": "riscv64"}
_EMULATORS = {"amd64": "x86_64", "arm64": "aarch64", "armhf": "arm", "riscv64": "riscv64"}
_KERNELS = {"armhf": "linux-image-armmp"}
NEEDED = ("systemd-sysv", "udev", "initramfs-tools", "zstd", "kmod", "iproute2")
_STEP = re.compile(r"I: (Retrieving|Validating|Extracting|Unpacking|Configuring) (\S+)")
_INITRAMFS = "# The root comes from the network.\nBOOT=nfs\nMODULES=netboot\nRESUME=none\n"

Say = Callable[[str, str], None]  # what is done, and with which package


def host_processor() -> str:
    """This machine's, as Debian calls it."""
    return _DEBIAN.get(platform.machine(), platform.machine())


@dataclass(frozen=True)
class Wanted:
    """What a new system is made of."""

    release: str
    packages: Sequence[str]
    processor: str
    mirror: str
    settled: Settled


def build(work: Path, wanted: Wanted, say: Say) -> None:
    """Make the new folder `work`. Raises MissingRequirementError; nothing is left then."""
    _need(wanted.processor)
    discard(work)
    work.parent.mkdir(parents=True, exist_ok=True)
    try:
        _first(work, wanted, say)
        say("settling", "accounts and language")
        settle(work, wanted.settled)
        _fit(work, say)
    except BaseException:
        discard(work)
        raise


def _need(processor: str) -> None:
    if os.geteuid() != 0:
        raise MissingRequirementError("making a system needs root", "run as root")
    if not shutil.which("debootstrap"):
        raise MissingRequirementError(
            "the program debootstrap is missing", "apt install debootstrap"
        )
    emulator = Path("/proc/sys/fs/binfmt_misc", f"qemu-{_EMULATORS.get(processor, processor)}")
    if processor != host_processor() and not emulator.exists():
        problem = f"programs for {processor} do not run on this machine"
        raise MissingRequirementError(problem, "apt install qemu-user-static binfmt-support")


def _first(work: Path, wanted: Wanted, say: Say) -> None:
    kernel = _KERNELS.get(wanted.processor, f"linux-image-{wanted.processor}")
    packages = [*NEEDED, *wanted.packages, *wanted.settled.packages]
    named = any(package.startswith("linux-image-") for package in packages)
    included = dict.fromkeys([*packages, *([] if named else [kernel])])
    command = ["debootstrap", "--variant=minbase", f"--arch={wanted.processor}"]
    command += [f"--include={','.join(included)}", wanted.release, str(work), wanted.mirror]
    last, later = "", os.environ | {"INITRD": "No"}  # the initrd is made once, when it is fit
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace",
        env=later,
    ) as process:  # fmt: skip
        assert process.stdout
        for line in process.stdout:
            if match := _STEP.match(line):
                say(match[1].lower(), match[2])
            elif line.startswith(("E:", "W: Failure")):
                last = line[2:].strip()
    code = process.returncode
    if code:
        log = work / "debootstrap/debootstrap.log"
        more = log.read_text(errors="replace").splitlines()[-1:] if log.is_file() else []
        reason = last or "".join(more) or f"exit code {code}"
        raise MissingRequirementError(
            f"debootstrap failed: {reason}", "check release, packages and mirror"
        )


def _fit(work: Path, say: Say) -> None:
    """No disk, no swap; an initrd that mounts NFS; no package files left."""
    (work / "etc/fstab").write_text("# The root comes from the network.\n")
    (work / "etc/hostname").unlink(missing_ok=True)  # this machine's; clients are told their own
    (work / "etc/hostname").unlink(missing_ok=True)  # this machine's; each client is told its own
    conf = work / "etc/initramfs-tools/conf.d/daskel"
    conf.parent.mkdir(parents=True, exist_ok=True)
    conf.write_text(_INITRAMFS)
    kernels = (path.name.partition("-")[2] for path in sorted((work / "boot").glob("vmlinuz-*")))
    initrds = [["update-initramfs", "-c", "-k", release] for release in kernels]
    for what, command in (
        *(("the initrd", command) for command in initrds), ("package files", ["apt-get", "clean"]),
    ):  # fmt: skip
        say("cleaning" if command[0] == "apt-get" else "making", what)
        if run_inside(work, command, quiet=True):
            problem = f"{' '.join(command)} failed in the new system"
            raise MissingRequirementError(
                problem, "try it with daskel root edit after building without it"
            )
