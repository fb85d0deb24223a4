"""GRUB images for network boot, made with grub-mkimage from the distribution's modules."""

from __future__ import annotations

import filecmp
import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

from daskel.core.content.grub import SOURCES, built_in, image_path, is_outdated
from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import stub_path, stub_source
from daskel.core.efi.pe import HEADS, parse
from daskel.core.reader import MalformedError
from daskel.system.requirements import MissingRequirementError

MODULES = Path("/usr/lib/grub")
_COMMON = [
    "boot", "configfile", "echo", "http", "linux", "minicmd", "net", "normal",
    "part_gpt", "part_msdos", "password_pbkdf2", "reboot", "sleep", "test", "tftp",
]  # fmt: skip


_EFI = ("efinet", "all_video", "chain")


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


def signed(files: Path) -> frozenset[str]:
    """Boot loaders whose chain for Secure Boot is in `files`, or can be copied there."""
    return frozenset(
        name
        for name, chain in CHAINS.items()
        if all((files / path).exists() or Path(own).exists() for path, own in chain.files.items())
    )


def stubs(files: Path) -> frozenset[str]:
    """Boot loaders whose machines can do without: what their images are made with is in `files`, or
    can be copied there."""
    return frozenset(
        name
        for name, chain in CHAINS.items()
        if (files / stub_path(chain)).exists() or Path(stub_source(chain)).exists()
    )


def _copy_signed(files: Path, loaders: tuple[str, ...]) -> list[str]:
    """What the packages have and `files` has not, or has of another version; their paths."""
    copied = []
    for chain in (CHAINS[name] for name in loaders if name in CHAINS):
        for path, own in (*chain.files.items(), (stub_path(chain), stub_source(chain))):
            source, target = Path(own), files / path
            if not source.exists() or (target.exists() and filecmp.cmp(source, target, False)):
                continue
            target.parent.mkdir(parents=True, exist_ok=True)
            with tempfile.NamedTemporaryFile(dir=target.parent, delete=False) as part:
                part.write(source.read_bytes())
            Path(part.name).chmod(0o644)
            Path(part.name).rename(target)
            copied.append(path)
    return copied


def _can_build(name: str) -> bool:
    return bool(shutil.which("grub-mkimage")) and (MODULES / SOURCES[name].platform).is_dir()


def build_missing(files: Path, loaders: tuple[str, ...]) -> list[str]:
    """Build those boot loaders that `files` does not have yet, or has of an earlier version, and
    that can be built here, and copy what Secure Boot needs; their paths below it.

    Raises MissingRequirementError when one cannot be built although all for it is installed.
    """
    wanted = [name for name in loaders if _can_build(name) and _wants_building(files, name)]
    for name in wanted:
        _build(name, files / image_path(name), _sbat(files, name))
    return [image_path(name) for name in wanted] + _copy_signed(files, loaders)


def _wants_building(files: Path, name: str) -> bool:
    try:
        image = (files / image_path(name)).read_bytes()
    except OSError:
        return True
    wants_versions = _sbat(files, name) is not None and _versions_of(image) is None
    return is_outdated(name, image) or wants_versions


def _sbat(files: Path, name: str) -> bytes | None:
    """Which versions a loader is of, as shim wants to know: those of the distribution's signed
    GRUB, which is made from the same modules. None where that is not here."""
    if (chain := CHAINS.get(name)) is None:
        return None
    places = (files / chain.second, Path(chain.files[chain.second]))
    source = next((place for place in places if place.exists()), None)
    return _versions_of(source.read_bytes()) if source else None


def _versions_of(image: bytes) -> bytes | None:
    try:
        section = parse(image[:HEADS]).section(".sbat")
    except MalformedError:
        return None
    if section is None:
        return None
    return image[section.offset : section.offset + section.stored].rstrip(b"\0")


def _build(name: str, target: Path, versions: bytes | None) -> None:
    build = _BUILDS[name]
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=target.parent) as folder:
        config, image = Path(folder, "built-in.cfg"), Path(folder, "image")
        config.write_text(built_in(name))
        command = ["grub-mkimage", "-O", build.format, "-o", str(image), "-p", "/loader"]
        command += ["-c", str(config), *_COMMON, *build.extra]
        if versions:
            own = Path(folder, "sbat.csv")
            own.write_bytes(versions)
            command += ["--sbat", str(own)]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            reason = (done.stderr.strip().splitlines() or ["no reason"])[-1]
            raise MissingRequirementError(f"grub-mkimage could not build {target}", reason)
        image.rename(target)
