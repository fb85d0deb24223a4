"""External data representation (RFC 4506): what `Reader` and `struct` do not have by themselves."""

from __future__ import annotations

import struct


def pack_opaque(data: bytes) -> bytes:
    """Variable-length opaque data (RFC 4506 4.10)."""
    length = len(data)
    padding = -length % 4
    head = length.to_bytes(4, "big") + data
    return head + bytes(padding) if padding else head


def pack_u32(*numbers: int) -> bytes:
    """Unsigned integers of 32 bits (RFC 4506 4.2)."""
    return struct.pack(f">{len(numbers)}I", *numbers)


def pack_u64(*numbers: int) -> bytes:
    """Unsigned hyper integers of 64 bits (RFC 4506 4.5)."""
    return struct.pack(f">{len(numbers)}Q", *numbers)


def pack_optional(data: bytes | None) -> bytes:
    """Optional data (RFC 4506 4.19)."""
    return pack_u32(0) if data is None else pack_u32(1) + data
