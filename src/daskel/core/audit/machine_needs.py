"""What a machine must have for what a site wants: programs, packages, features of its kernel."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from daskel.core.content.grub import BIOS, SOURCES, apt_install
from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import boots_by_itself, stub_package, stub_source
from daskel.core.site.layers import Effective, deliveries, effective
from daskel.core.site.model import Site
from daskel.core.site.private import private_roots


class Kind(Enum):
    """How it is found out whether a need is met."""

    PROGRAM = "program"
    FOLDER = "folder"
    FILE = "file"
    FILE_SYSTEM = "file system"  # of the kernel
    MODULE = "kernel module"
    ACCOUNT = "account"


@dataclass(frozen=True, slots=True)
class Need:
    """`debian` and `fedora`: the packages that have it; "" where none does. `unless`: the kernel's
    module that makes it needless."""

    kind: Kind
    name: str
    why: str
    debian: str = ""
    fedora: str = ""
    unless: str = ""
    always: bool = True  # else for what not everybody has, or a command that not everybody types


_TUNNEL = "wireguard"
_GRUB = "/usr/lib/grub/"
_USUAL = (BIOS, "uefi-x64")  # without a site, and beside what it names


def needs(site: Site | None) -> list[Need]:
    """What the site wants, the most important first; without one, what most rooms need."""
    return [*_loaders(site), *_roots(site), *_server(site), *_commands()]


def _loaders(site: Site | None) -> Iterator[Need]:
    yield Need(Kind.PROGRAM, "grub-mkimage", "boot loaders", "grub-common", "grub2-tools-extra")
    wanted = set(_USUAL) if site is None else _wanted_loaders(site)
    for loader, made in SOURCES.items():
        if loader in wanted:
            why = f"the boot loader for {loader}"
            yield Need(Kind.FOLDER, _GRUB + made.platform, why, made.debian, made.fedora)
    for loader, chain in CHAINS.items():
        if site and loader in wanted and any(map(boots_by_itself, _clients(site))):
            why = 'images that firmware starts itself (loader = "none")'
            yield Need(Kind.FILE, stub_source(chain), why, stub_package(chain))
        if loader in wanted and (site is None or _wants_chain(site)):
            why = "machines with Secure Boot on, which refuse Daskel's own boot loader"
            for package, path in zip(chain.packages, chain.files.values(), strict=False):
                yield Need(Kind.FILE, path, why, package, always=False)


def _wants_chain(site: Site) -> bool:
    """Some client may get the chain for Secure Boot."""
    return any(found.secure_boot != "off" for found in _clients(site))


def _clients(site: Site) -> Iterator[Effective]:
    return (effective(site, name) for name in site.clients)


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
    ways = {way for name in site.roots for way in deliveries(site, name)} if site else set()
    if ways & {"blocks", "memory"}:
        why = "roots that come as images (delivery)"
        yield Need(Kind.PROGRAM, "mksquashfs", why, "squashfs-tools", "squashfs-tools")
    if site and private_roots(site) and not ways & {"blocks", "memory"}:
        why = "private roots, whose clients need the initrd that comes with an image"
        yield Need(Kind.PROGRAM, "mksquashfs", why, "squashfs-tools", "squashfs-tools")
    if site and private_roots(site):
        why = "private roots: without it they come by wireguard-go, far dearer for the processor"
        yield Need(Kind.MODULE, _TUNNEL, why)
        why = "private roots, as this kernel has no WireGuard"
        program = "wireguard-go"
        yield Need(Kind.PROGRAM, program, why, program, unless=_TUNNEL)
    if "blocks" in ways:
        yield Need(Kind.PROGRAM, "mke2fs", "what clients keep as blocks", "e2fsprogs", "e2fsprogs")


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
    named = (need.fedora if fedora else need.debian for need in missing)
    packages = list(dict.fromkeys(filter(None, named)))
    if not packages:
        return ""
    return f"dnf install {' '.join(packages)}" if fedora else apt_install(packages)
