"""Lays out the demo site in a folder: its site file, and stand-ins for kernels and roots.

Every stand-in says at its beginning that it is one; the bytes behind are the same every time.
"""

from __future__ import annotations

import random
import struct
from importlib.resources import files
from pathlib import Path

from daskel.core.content.grub import image_path
from daskel.core.dhcp.pxe import Firmware

_BOOT_FILES = {  # path below `files`: bytes
    image_path("bios"): 40_000,
    image_path("uefi-x64"): 120_000,
    image_path("uefi-arm64"): 110_000,
    "notebook/vmlinuz": 300_000,
    "notebook/initrd.img": 700_000,
    "catalogue/vmlinuz": 300_000,
    "catalogue/initrd.img": 500_000,
    "logger/Image": 200_000,
    "logger/initrd.img": 200_000,
    "rescue/vmlinuz": 300_000,
    "rescue/initrd.img": 400_000,
}
_ELF = b"\x7fELF\2\1\1".ljust(16, b"\0")  # of 64 bits, little-endian
_ROOT_FILES = {  # path below each root: bytes
    "sbin/init": 20_000,
    "lib/libc.so.6": 180_000,
    "lib/ld-linux.so.2": 30_000,
    "usr/bin/sh": 60_000,
    "usr/share/doc/empty": 0,
}


def lay_out(folder: Path) -> Path:
    """Write the demo site into `folder`; the path of its site file."""
    site = folder / "daskel.toml"
    site.write_bytes(files("daskel.demo").joinpath("daskel.toml").read_bytes())
    for path, size in _BOOT_FILES.items():
        _stand_in(folder / "files" / path, path, size)
    (folder / "roots").mkdir(mode=0o700, exist_ok=True)
    for root in ("notebook", "catalogue", "logger"):
        for path, size in _ROOT_FILES.items():
            _stand_in(folder / "roots" / root / path, f"{root}/{path}", size)
        release = folder / "roots" / root / "etc" / "os-release"
        release.parent.mkdir(parents=True, exist_ok=True)
        release.write_text(f'NAME="Daskel demo stand-in"\nVARIANT="{root}"\n')
        link = folder / "roots" / root / "bin"
        if not link.is_symlink():
            link.symlink_to("usr/bin")
    return site


def firmware_of(name: str) -> Firmware:
    """The firmware of a demo client; two of the library's screens boot over HTTP."""
    if name.startswith("tide-"):
        return Firmware.BIOS
    if name.startswith("buoy-"):
        return Firmware.ARM64
    return Firmware.UEFI if name in ("lib-01", "lib-02") else Firmware.UEFI_HTTP


def _stand_in(target: Path, name: str, size: int) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    head = f"Daskel demo stand-in for {name}: generated, nothing that runs.\n".encode()
    if name.endswith("sbin/init"):  # the head of a program that needs no other
        machine = 183 if name.startswith("logger") else 62
        head = _ELF + struct.pack("<HHIQQQIHHHHHH", 2, machine, 1, *[0] * 4, 64, *[0] * 5) + head
    if name.endswith("initrd.img"):
        head = b"070701 " + head
    content = bytearray(head + random.Random(name).randbytes(max(size - len(head), 0)))
    if name.endswith("vmlinuz"):
        content[0x202:0x206] = b"HdrS"  # what tells a kernel, for `daskel check`
    if name.endswith("Image"):
        content[0x38:0x3C] = b"ARM\x64"
    if name.endswith(".efi"):  # an EFI program's machine type
        machine = 0xAA64 if "arm64" in name else 0x8664
        content[:2], content[0x3C:0x40] = b"MZ", (0x80).to_bytes(4, "little")
        content[0x80:0x86] = b"PE\0\0" + machine.to_bytes(2, "little")
    target.write_bytes(content[:size])
