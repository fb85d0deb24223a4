"""By which first bytes files are told apart: how they are compressed, and what archives begin with.

gzip: RFC 1952; zstd: RFC 8878; the others by the sources of their own programs.
"""

from __future__ import annotations

SQUASHFS = b"hsqs"
CPIO = (b"070701", b"070702")  # newc, without and with checksums
COMPRESSED = {
    b"\x1f\x8b": "gzip",
    b"\xfd7zXZ\0": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"\x02\x21\x4c\x18": "lz4",
    b"\x04\x22\x4d\x18": "lz4",
    b"BZh": "bzip2",
    b"\x5d\0\0": "lzma",
    b"\x89LZO": "lzo",
}


def compression(head: bytes) -> str | None:
    """gzip, xz, zstd, lz4, bzip2, lzma or lzo; None for what is not compressed."""
    return next((name for magic, name in COMPRESSED.items() if head.startswith(magic)), None)
