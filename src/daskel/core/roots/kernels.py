"""What a file is, by its first bytes: kernels, initrds, boot loaders; and for which processor."""

from __future__ import annotations

import re

from daskel.core.roots.magic import CPIO, SQUASHFS, compression

HEAD = 4096  # bytes that are enough to tell

_RELEASE = re.compile(rb"Linux version ([^\s\0]+)")
_BEGINS = re.compile(rb"\d[\w.+~-]*")  # a release, at the beginning of the version
# Machine types of PE/COFF, by the processor whose programs have them
_MACHINES = {
    0x014C: "x86", 0x8664: "x64", 0x01C0: "arm", 0x01C2: "arm", 0x01C4: "arm", 0xAA64: "arm64",
    0x5032: "riscv", 0x5064: "riscv", 0x6232: "loongarch", 0x6264: "loongarch",
}  # fmt: skip
# From where BIOS firmware puts a boot file (PXE specification 2.1, 4.4.5) to the end of base memory
_BASE_MEMORY = 0xA0000 - 0x7C00  # bytes


def kernel_kind(head: bytes) -> str | None:
    """`x86`, `arm64`, `arm`, `riscv`, `EFI program` or `compressed`; None for anything else.

    Linux, Documentation/arch/x86/boot.rst (HdrS), arm64/booting.rst, riscv/boot-image-header.rst.
    """
    if head[0x202:0x206] == b"HdrS":
        return "x86"
    if head[0x38:0x3C] == b"ARM\x64":
        return "arm64"
    if head[0x38:0x3C] == b"RSC\x05":
        return "riscv"
    if head[0x24:0x28] == b"\x18\x28\x6f\x01":
        return "arm"
    if head[:2] == b"MZ":
        return "EFI program"
    return "compressed" if compression(head) == "gzip" else None


def kernel_release(data: bytes) -> str | None:
    """The release of a kernel image (Linux, Documentation/arch/x86/boot.rst, kernel_version)."""
    if data[0x202:0x206] == b"HdrS":
        at = int.from_bytes(data[0x20E:0x210], "little") + 0x200
        match = _BEGINS.match(data, at)
        return match[0].decode("ascii") if match else None
    match = _RELEASE.search(data)
    return match[1].decode("ascii", "replace") if match else None


def kernel_processor(head: bytes) -> str | None:
    """`x86`, `arm64` and so on, as in `pxe.processor`; None when the head does not say."""
    kind = kernel_kind(head)
    if kind == "EFI program":
        machine = efi_machine(head)
        return "x86" if machine == "x64" else machine
    return None if kind == "compressed" else kind


def efi_machine(head: bytes) -> str | None:
    """The processor that an EFI program is for; None for anything else (PE/COFF, section 3)."""
    at = int.from_bytes(head[0x3C:0x40], "little")
    if head[:2] != b"MZ" or head[at : at + 4] != b"PE\0\0":
        return None
    number = int.from_bytes(head[at + 4 : at + 6], "little")
    return _MACHINES.get(number, f"machine type {number:#06x}")


def misfit(head: bytes, size: int, machine: str | None) -> str | None:
    """Why firmware cannot start a boot file of `size` bytes; None when nothing speaks against it.

    `machine` is the firmware's processor for EFI programs, None for BIOS.
    """
    found = efi_machine(head)
    if machine is None:
        if found or head[:2] == b"MZ":
            return "is an EFI program, which a BIOS cannot start"
        if size > _BASE_MEMORY:
            return f"has {size:,} bytes; a BIOS has room for {_BASE_MEMORY:,}"
        return None
    if found is None:
        return "is not an EFI program"
    return None if found == machine else f"is an EFI program for {found}, not for {machine}"


def initrd_kind(head: bytes) -> str | None:
    """The format of an initrd, cpio or how it is compressed; None for anything else."""
    if head.startswith(CPIO):
        return "cpio"
    return "squashfs" if head.startswith(SQUASHFS) else compression(head)
