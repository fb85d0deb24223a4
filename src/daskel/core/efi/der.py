"""Distinguished Encoding Rules, as far as signatures need them (ITU-T X.690)."""

from __future__ import annotations

from collections.abc import Iterator

from daskel.core.reader import MalformedError

INTEGER, OCTETS, NULL, OID, SEQUENCE, SET = 0x02, 0x04, 0x05, 0x06, 0x30, 0x31
BITS = 0x03
_LONG = 0x80


def tagged(number: int) -> int:
    """The tag [number] of what is made of other values."""
    return 0xA0 | number


def der(tag: int, *parts: bytes) -> bytes:
    """A value with its tag and length."""
    body = b"".join(parts)
    size = len(body)
    if size < _LONG:
        return bytes((tag, size)) + body
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes((tag, _LONG | len(length))) + length + body


def integer(number: int) -> bytes:
    """An INTEGER that is not negative."""
    return der(INTEGER, number.to_bytes(number.bit_length() // 8 + 1, "big"))


def oid(dotted: str) -> bytes:
    """An OBJECT IDENTIFIER."""
    first, second, *rest = map(int, dotted.split("."))
    body = bytearray((40 * first + second,))
    for number in rest:
        digits = [number & 127]
        while number := number >> 7:
            digits.append(number & 127 | _LONG)
        body += bytes(reversed(digits))
    return der(OID, bytes(body))


def values(data: bytes) -> Iterator[tuple[int, bytes, bytes]]:
    """The values in `data`, one after the other: tag, content, and all of it. Raises
    MalformedError."""
    at = 0
    while at < len(data):
        try:
            tag, size = data[at], data[at + 1]
            begin = at + 2
            if size & _LONG:
                count = size & 127
                if not 0 < count <= 4:
                    raise MalformedError(f"signature: a length of {count} bytes")
                size = int.from_bytes(data[begin : begin + count], "big")
                begin += count
        except IndexError:
            raise MalformedError("signature: it ends in a length") from None
        end = begin + size
        if end > len(data):
            raise MalformedError(f"signature: {size} bytes wanted, {len(data) - begin} are left")
        yield tag, data[begin:end], data[at:end]
        at = end


def inside(data: bytes, *tags: int) -> list[bytes]:
    """The contents of the values in `data`, which have these tags; more may follow. Raises
    MalformedError."""
    found = []
    stream = values(data)
    for tag in tags:
        got, content, _ = next(stream, (0, b"", b""))
        if got != tag:
            raise MalformedError(f"signature: a value of type {got:#x}, and not {tag:#x}")
        found.append(content)
    return found
