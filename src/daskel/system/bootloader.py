"""GRUB images for network boot, made with grub-mkimage from the distribution's modules."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

from daskel.core.content.grub import SOURCES, built_in, image_path, is_outdated
from daskel.system.requirements import MissingRequirementError

MODULES = Path("/usr/lib/grub")
_COMMON = [
    "boot", "configfile", "echo", "http", "linux", "minicmd", "net", "normal",
    "part_gpt", "part_msdos", "password_pbkdf2", "reboot", "sleep", "test", "tftp",
]  # fmt: skip


_EFI = ("efinet", "all_video")


@dataclass(frozen=True, slots=True)
class _Build:
    format: str
    extra: tuple[str, ...] = _EFI


_BUILDS = {
    "bios": _Build("i386-pc-pxe", ("pxe", "biosdisk")),
    "uefi-x64": _Build("x86_64-efi"),
    "uefi-x86": _Build("i386-efi"),
    "uefi-arm64": _Build("arm64-efi"),
    "uefi-arm": _Build("arm-efi"),
}


def unbuilt(files: Path) -> frozenset[str]:
    """Boot loaders that are not in `files`, and cannot be built on this machine."""
    return frozenset(
        name for name in _BUILDS
        if not (files / image_path(name)).exists() and not _can_build(name)
    )  # fmt: skip


def _can_build(name: str) -> bool:
    return bool(shutil.which("grub-mkimage")) and (MODULES / SOURCES[name].platform).is_dir()


def build_missing(files: Path, loaders: tuple[str, ...]) -> list[str]:
    """Build those boot loaders that `files` does not have yet, or has of an earlier version, and
    that can be built here; their paths below it.

    Raises MissingRequirementError when one cannot be built although all for it is installed.
    """
    wanted = [name for name in loaders if _can_build(name) and _wants_building(files, name)]
    for name in wanted:
        _build(name, files / image_path(name))
    return [image_path(name) for name in wanted]


def _wants_building(files: Path, name: str) -> bool:
    try:
        return is_outdated(name, (files / image_path(name)).read_bytes())
    except OSError:
        return True


def _build(name: str, target: Path) -> None:
    build = _BUILDS[name]
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as folder:
        config, image = Path(folder, "built-in.cfg"), Path(folder, "image")
        config.write_text(built_in(name))
        command = ["grub-mkimage", "-O", build.format, "-o", str(image), "-p", "/loader"]
        command += ["-c", str(config), *_COMMON, *build.extra]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            reason = (done.stderr.strip().splitlines() or ["no reason"])[-1]
            raise MissingRequirementError(f"grub-mkimage could not build {target}", reason)
        image.rename(target)
