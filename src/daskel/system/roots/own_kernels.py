"""The kernels in a root's /boot, each with its initrd."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from daskel.core.roots.kernels import HEAD, kernel_processor, kernel_release
from daskel.system.roots.inside import listed

_KERNELS = ("vmlinuz*", "Image*", "vmlinux*")  # the ones that boot loaders take come first
_INITRDS = ("initrd.img-{}", "initramfs-{}.img", "initrd-{}", "initramfs-{}")


@dataclass(frozen=True, slots=True)
class OwnKernel:
    """A kernel of a root: its file, its initrd's, and what the kernel says of itself."""

    file: Path
    initrd: Path | None
    release: str | None
    processor: str | None


def own_kernels(tree: Path) -> list[OwnKernel]:
    """The kernels in a tree: those with modules and an initrd first, the newest of these first."""
    found: list[OwnKernel] = []
    there = [p for p in listed(tree, "boot") if not p.is_symlink() and p.is_file()]
    modules = releases(tree)
    for pattern in _KERNELS:
        for path in sorted((p for p in there if p.match(pattern)), key=_age, reverse=True):
            data = path.read_bytes()
            release, processor = kernel_release(data), kernel_processor(data[:HEAD])
            names = [name.format(release) for name in _INITRDS]
            initrd = next((p for name in names for p in there if p.name == name), None)
            found.append(OwnKernel(path, initrd, release, processor))
    return sorted(found, key=lambda k: (k.release not in modules, k.initrd is None))


def releases(tree: Path) -> list[str]:
    """Of the kernels that a tree has modules for."""
    return [p.name for p in listed(tree, "lib/modules") if p.is_dir() and any(p.iterdir())]


def _age(path: Path) -> list[tuple[int, str]]:
    """6.1.0-9 is older than 6.1.0-41."""
    words = re.findall(r"\d+|\D+", path.name)
    return [(int(w), "") if w.isdigit() else (-1, w) for w in words]
