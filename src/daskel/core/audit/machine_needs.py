"""What a machine must have for what a site wants: programs, packages, features of its kernel."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from daskel.core.content.grub import BIOS
from daskel.core.site.layers import effective
from daskel.core.site.model import Site


class Kind(Enum):
    """How it is found out whether a need is met."""

    PROGRAM = "program"
    FOLDER = "folder"
    FILE_SYSTEM = "file system"  # of the kernel
    ACCOUNT = "account"


@dataclass(frozen=True, slots=True)
class Need:
    """`packages` have it: on Debian and on Fedora; "" where no package brings it."""

    kind: Kind
    name: str
    why: str
    debian: str = ""
    fedora: str = ""
    always: bool = True  # else only for a command that not everybody types


_GRUB = "/usr/lib/grub/"
_MODULES = {  # of each boot loader: GRUB's folder, and its packages
    BIOS: ("i386-pc", "grub-pc-bin", "grub2-pc-modules"),
    "uefi-x64": ("x86_64-efi", "grub-efi-amd64-bin", "grub2-efi-x64-modules"),
    "uefi-x86": ("i386-efi", "grub-efi-ia32-bin", "grub2-efi-ia32-modules"),
    "uefi-arm64": ("arm64-efi", "grub-efi-arm64-bin:arm64", "grub2-efi-aa64-modules"),
    "uefi-arm": ("arm-efi", "grub-efi-arm-bin:armhf", ""),
}
_USUAL = (BIOS, "uefi-x64")  # without a site, and beside what it names


def needs(site: Site | None) -> list[Need]:
    """What the site wants, the most important first; without one, what most rooms need."""
    return [*_loaders(site), *_roots(site), *_server(site), *_commands()]


def _loaders(site: Site | None) -> Iterator[Need]:
    yield Need(Kind.PROGRAM, "grub-mkimage", "boot loaders", "grub-common", "grub2-tools-extra")
    wanted = set(_USUAL) if site is None else _wanted_loaders(site)
    for loader, (folder, debian, fedora) in _MODULES.items():
        if loader in wanted:
            why = f"the boot loader for {loader}"
            yield Need(Kind.FOLDER, _GRUB + folder, why, debian, fedora)


def _wanted_loaders(site: Site) -> set[str]:
    """Those of the firmware that is named; where a client's is not, the usual ones."""
    named = {found.firmware.value if found.firmware else None
             for found in (effective(site, name) for name in site.clients)}  # fmt: skip
    said = {name.removesuffix("-http") for name in named if name}
    unsaid = set(_USUAL) if None in named or not named else set()
    return (said | unsaid) & set(site.settings.loaders)


def _roots(site: Site | None) -> Iterator[Need]:
    slates = site is None or any(root.slate != "none" for root in site.roots.values())
    if slates:
        yield Need(Kind.FILE_SYSTEM, "overlay", "what clients change on their roots (slates)")


def _server(site: Site | None) -> Iterator[Need]:
    if site and site.settings.nfs == "kernel":
        why = 'nfs = "kernel"'
        yield Need(Kind.PROGRAM, "exportfs", why, "nfs-kernel-server", "nfs-utils")
    if site and site.settings.account:
        yield Need(Kind.ACCOUNT, site.settings.account, "what the server goes on as (account)")


def _commands() -> Iterator[Need]:
    for program, why, debian, fedora in (
        ("debootstrap", "daskel root build", "debootstrap", "debootstrap"),
        ("mksquashfs", "daskel root import of live systems", "squashfs-tools", "squashfs-tools"),
        (
            "qemu-system-x86_64",
            "daskel rehearse --machine",
            "qemu-system-x86",
            "qemu-kvm",
        ),
    ):
        yield Need(Kind.PROGRAM, program, why, debian, fedora, always=False)


def command(missing: list[Need], fedora: bool) -> str:
    """The one command that brings what is missing; "" when no package does."""
    packages = dict.fromkeys(
        package for need in missing if (package := need.fedora if fedora else need.debian)
    )
    if not packages:
        return ""
    foreign = dict.fromkeys(name.partition(":")[2] for name in packages if ":" in name)
    first = "".join(f"dpkg --add-architecture {name} && " for name in foreign)
    first += "apt update && " if foreign else ""
    return f"{first}{'dnf' if fedora else 'apt'} install {' '.join(packages)}"
