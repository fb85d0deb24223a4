"""What a file is, by its first bytes: kernels and initrds."""

from __future__ import annotations

HEAD = 4096  # bytes that are enough to tell

_INITRDS = {
    b"070701": "cpio",
    b"070702": "cpio",
    b"\x1f\x8b": "gzip",
    b"\xfd7zXZ\0": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"\x02\x21\x4c\x18": "lz4",
    b"\x04\x22\x4d\x18": "lz4",
    b"BZh": "bzip2",
    b"\x5d\0\0": "lzma",
    b"\x89LZO": "lzo",
    b"hsqs": "squashfs",
}


def kernel_kind(head: bytes) -> str | None:
    """`x86`, `arm64`, `arm`, `riscv`, `EFI program` or `compressed`; None when it is no kernel.

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
    return "compressed" if head[:2] == b"\x1f\x8b" else None


def initrd_kind(head: bytes) -> str | None:
    """The format of an initrd, cpio or how it is compressed; None when it is none."""
    return next((kind for magic, kind in _INITRDS.items() if head.startswith(magic)), None)
