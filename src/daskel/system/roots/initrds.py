"""What is in an initrd, however it is packed."""

from __future__ import annotations

import gzip
import lzma
import shutil
import subprocess
import zlib

from daskel.core.roots.inspect import cpio_names
from daskel.core.roots.magic import compression

_LARGEST = 512 << 20  # bytes, unpacked


def initrd_names(data: bytes) -> list[str] | None:
    """The names in an initrd; None when it is packed in a way that cannot be read here."""
    try:
        names, end = cpio_names(data)
        rest = data[end:]
        if not rest.strip(b"\0"):
            return names
        plain = _unpacked(rest)
        return None if plain is None else names + cpio_names(plain)[0]
    except ValueError:  # begins like an archive, and is not one
        return None


def _unpacked(data: bytes) -> bytes | None:
    packed = compression(data)
    try:
        if packed == "gzip":
            return gzip.decompress(data)
        if packed in ("xz", "lzma"):
            return lzma.decompress(data)
    except (OSError, EOFError, zlib.error, lzma.LZMAError):
        return None
    if packed not in ("zstd", "lz4") or not shutil.which(packed):
        return None
    done = subprocess.run([packed, "-dc"], input=data, capture_output=True, check=False)
    return done.stdout[:_LARGEST] if done.returncode == 0 else None
