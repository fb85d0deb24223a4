"""A small root that can be delivered as an image: what its initrd needs is there, made up."""

from __future__ import annotations

from pathlib import Path

from tests.core.roots.elf_files import elf


def kernel(release: str) -> bytes:
    """As much of a kernel as says which it is."""
    data = bytearray(2000)
    data[0x202:0x206], data[0x20E:0x210] = b"HdrS", (0x100).to_bytes(2, "little")
    said = f"{release} (x)\0".encode()
    data[0x300 : 0x300 + len(said)] = said
    return bytes(data)


def module(name: str, *depends: str) -> bytes:
    """As much of a module as says what it needs."""
    return b"\x7fELF" + f"\0name={name}\0depends={','.join(depends)}\0".encode()


def add_kernel(root: Path, release: str) -> None:
    """A kernel with an initrd and modules."""
    (root / "boot").mkdir(parents=True, exist_ok=True)
    (root / f"boot/vmlinuz-{release}").write_bytes(kernel(release))
    (root / f"boot/initrd.img-{release}").write_bytes(b"070701" + f"initrd of {release}".encode())
    modules = root / "lib/modules" / release
    (modules / "kernel").mkdir(parents=True)
    for name, depends in (("nbd", ()), ("loop", ()), ("squashfs", ("xxhash",)), ("xxhash", ())):
        (modules / f"kernel/{name}.ko").write_bytes(module(name, *depends))
    (modules / "modules.builtin").write_text("kernel/fs/overlayfs/overlay.ko\n")


def image_root(root: Path, release: str = "6.1.0-1-demo") -> Path:
    """A whole root in the new folder `root`."""
    for folder in ("usr/bin", "sbin", "etc", "var/log"):
        (root / folder).mkdir(parents=True)
    (root / "usr/bin/perl").write_bytes(elf(machine=62))
    (root / "sbin/init").write_bytes(elf(machine=62))
    (root / "etc/greeting").write_text("hello")
    add_kernel(root, release)
    return root
