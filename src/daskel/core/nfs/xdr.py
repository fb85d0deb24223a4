"""External data representation (RFC 4506): what `Reader` and `struct` do not have by themselves."""

from __future__ import annotations

import struct

from daskel.core.reader import Reader


def opaque(reader: Reader, limit: int) -> bytes:
    """Variable-length opaque data of at most `limit` bytes (RFC 4506 4.10). From the network."""
    length = reader.number(4)
    if length > limit:
        raise reader.fail(f"opaque data of {length} bytes, {limit} at most")
    return reader.take(length + -length % 4)[:length]


def pack_opaque(data: bytes) -> bytes:
    return len(data).to_bytes(4, "big") + data + bytes(-len(data) % 4)


def pack_u32(*numbers: int) -> bytes:
    return struct.pack(f">{len(numbers)}I", *numbers)


def pack_u64(*numbers: int) -> bytes:
    return struct.pack(f">{len(numbers)}Q", *numbers)


def pack_optional(data: bytes | None) -> bytes:
    """Optional data (RFC 4506 4.19)."""
    return pack_u32(0) if data is None else pack_u32(1) + data
