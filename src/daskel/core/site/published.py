"""What roots boot with: the kernel and initrd of each version, published for the process that
answers TFTP and HTTP, which cannot see roots.

Their paths on the wire name the version, `published/notebook/3/vmlinuz`, so that a boot that has
begun gets all of it from one version.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

FOLDER = "published"  # the first part of every path
KERNEL, INITRD = "vmlinuz", "initrd.img"
CLIENT, IMAGE = "daskel.img", "root.img"  # the initrd that mounts the image; and the image
TREE = "tree-"  # begins the name of what a working tree boots with; a part of its digest follows


@dataclass(frozen=True, slots=True)
class Blob:
    """A file by its content: SHA-256 in hexadecimal, and size in bytes. Without a digest it is not
    published yet."""

    digest: str
    size: int


@dataclass(frozen=True, slots=True)
class BootSet:
    """What one version of a root boots with; without files when it has no kernel."""

    name: str  # in paths: the version's number, or TREE and a part of the digest
    release: str = ""  # of the kernel
    processor: str = ""
    files: Mapping[str, Blob] = field(default_factory=dict)  # KERNEL, INITRD, CLIENT, IMAGE
    modules: tuple[str, ...] = ()  # releases of the kernels that the version has modules for

    @property
    def packed(self) -> bool:
        """It has an image, and what mounts it."""
        return CLIENT in self.files and IMAGE in self.files

    @property
    def version(self) -> int:
        """The version's number; 0 for the working tree."""
        return 0 if self.name.startswith(TREE) else int(self.name)


@dataclass(frozen=True, slots=True)
class PublishedRoot:
    """All that is published of one root."""

    used: str = ""  # the name of what clients boot with; empty: nothing
    sets: Mapping[str, BootSet] = field(default_factory=dict)  # by name, the newest tree's last

    def of(self, version: int | None) -> BootSet | None:
        """What a version boots with, None for the one that clients get."""
        if version is None:
            return self.sets.get(self.used)
        return next((s for s in reversed(list(self.sets.values())) if s.version == version), None)


Published = Mapping[str, PublishedRoot]  # by root


def path_of(root: str, name: str, file: str) -> str:
    """The path on the wire of a file of one boot set."""
    return f"{FOLDER}/{root}/{name}/{file}"


def of_any_version(path: str) -> str:
    """A path without the version in it: a slate may keep its client on another one."""
    parts = path.split("/")
    if len(parts) < 4 or parts[0] != FOLDER:
        return path
    return "/".join([*parts[:-2], parts[-1]])
