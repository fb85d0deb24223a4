"""GRUB images for network boot, made with grub-mkimage from the distribution's modules."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

from daskel.core.content.grub import built_in, image_path
from daskel.system.requirements import MissingRequirementError

MODULES = Path("/usr/lib/grub")
_COMMON = [
    "boot", "configfile", "echo", "http", "linux", "minicmd", "net", "normal",
    "part_gpt", "part_msdos", "password_pbkdf2", "reboot", "sleep", "test", "tftp",
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Build:
    format: str
    platform: str
    package: str
    extra: tuple[str, ...]


_BUILDS = {
    "bios": _Build("i386-pc-pxe", "i386-pc", "grub-pc-bin", ("pxe", "biosdisk")),
    "uefi-x64": _Build("x86_64-efi", "x86_64-efi", "grub-efi-amd64-bin", ("efinet", "all_video")),
    "uefi-arm64": _Build("arm64-efi", "arm64-efi", "grub-efi-arm64-bin", ("efinet", "all_video")),
}


def build_missing(files: Path, loaders: tuple[str, ...]) -> list[str]:
    """Build those boot loaders that `files` does not have yet; their paths below it.

    Raises MissingRequirementError when a program or GRUB's modules are not installed.
    """
    missing = [name for name in loaders if not (files / image_path(name)).exists()]
    for name in missing:
        _build(name, files / image_path(name))
    return [image_path(name) for name in missing]


def _build(name: str, target: Path) -> None:
    build = _BUILDS[name]
    program = shutil.which("grub-mkimage")
    if program is None:
        raise MissingRequirementError(
            f"no boot loader {target}, and grub-mkimage is not installed to build it",
            f"apt install grub-common {build.package}",
        )
    if not (MODULES / build.platform).is_dir():
        raise MissingRequirementError(
            f"no boot loader {target}, and {MODULES / build.platform} is missing to build it",
            f"apt install {build.package}",
        )
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as folder:
        config, image = Path(folder, "built-in.cfg"), Path(folder, "image")
        config.write_text(built_in(name))
        command = [program, "-O", build.format, "-o", str(image), "-p", "/loader"]
        command += ["-c", str(config), *_COMMON, *build.extra]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            reason = (done.stderr.strip().splitlines() or ["no reason"])[-1]
            raise MissingRequirementError(f"grub-mkimage could not build {target}", reason)
        image.rename(target)
