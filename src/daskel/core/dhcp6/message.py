"""One DHCPv6 message, read (RFC 8415 section 8): who asks, for which address, and what to boot."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv6Address

from daskel.core.reader import MalformedError, Reader

_RELAYED = (12, 13)  # RELAY-FORW, RELAY-REPL
_RELAY_HEAD = 34  # bytes: type, hops, two addresses
_MOST_RELAYS = 32


class Type(IntEnum):
    """RFC 8415 7.3, without those of relay agents."""

    SOLICIT = 1
    ADVERTISE = 2
    REQUEST = 3
    CONFIRM = 4
    RENEW = 5
    REBIND = 6
    REPLY = 7
    RELEASE = 8
    DECLINE = 9
    RECONFIGURE = 10
    INFORMATION_REQUEST = 11


class Code(IntEnum):
    """RFC 8415 21, RFC 5970 3."""

    CLIENT_ID = 1
    SERVER_ID = 2
    IA_NA = 3
    IA_ADDRESS = 5
    PARAMETERS = 6
    RELAYED = 9
    STATUS = 13
    VENDOR_CLASS = 16
    BOOT_FILE_URL = 59
    ARCHITECTURE = 61


@dataclass(frozen=True, slots=True)
class Message:
    """`cut`: the end of it was missing."""

    type: Type
    xid: int
    options: Mapping[int, bytes]
    cut: bool = False

    @property
    def mac(self) -> bytes | None:
        """The hardware address in the client's identifier; None where it has none (RFC 8415 11)."""
        identifier = self.options.get(Code.CLIENT_ID, b"")
        kind, hardware = identifier[:2], identifier[2:4]
        start = {b"\0\1": 8, b"\0\3": 4}.get(kind)
        if start is None or hardware != b"\0\1" or len(identifier) < start + 6:
            return None
        return identifier[start : start + 6]

    @property
    def address(self) -> IPv6Address | None:
        """The first address of the first IA_NA."""
        given = self._given
        return IPv6Address(given[:16]) if len(given) >= 16 else None

    @property
    def lease(self) -> int:
        """Seconds that the address is valid for."""
        return int.from_bytes(self._given[20:24], "big")

    @property
    def _given(self) -> bytes:
        """The first IA Address option: address, two lifetimes (RFC 8415 21.4, 21.6)."""
        inside = self.options.get(Code.IA_NA, b"")[12:]
        return _options(inside)[0].get(Code.IA_ADDRESS, b"")

    @property
    def architecture(self) -> int | None:
        """The processor architecture type (RFC 5970 3.3)."""
        value = self.options.get(Code.ARCHITECTURE, b"")
        return int.from_bytes(value[:2], "big") if len(value) >= 2 else None

    @property
    def boot_file(self) -> str:
        """The URL of the boot file; empty when the message names no file."""
        return self.options.get(Code.BOOT_FILE_URL, b"").decode("utf-8", "replace")

    @property
    def vendor_class(self) -> bytes:
        """The first class of option 16 (RFC 8415 21.16)."""
        data = self.options.get(Code.VENDOR_CLASS, b"")[4:]
        return data[2 : 2 + int.from_bytes(data[:2], "big")]


def parse(data: bytes) -> Message:
    """Read a datagram, out of those of relay agents when it is in them; of one that is cut, as
    far as it goes. Raises MalformedError."""
    for _ in range(_MOST_RELAYS):
        if not data or data[0] not in _RELAYED:
            break
        inside = _options(data[_RELAY_HEAD:])[0].get(Code.RELAYED)
        if inside is None:
            raise MalformedError("DHCPv6 message: a relay agent's without a client's in it")
        data = inside
    reader = Reader(data, "DHCPv6 message")
    kind, xid = reader.number(1), reader.number(3)
    with suppress(ValueError):
        options, cut = _options(reader.rest())
        return Message(Type(kind), xid, options, cut)
    raise reader.fail(f"type {kind}, expected 1 to 11")


def _options(data: bytes) -> tuple[dict[int, bytes], bool]:
    """The first of each code, and whether the last one was cut."""
    found: dict[int, bytes] = {}
    at = 0
    while at + 4 <= len(data):
        code, length = (int.from_bytes(data[at + i : at + i + 2], "big") for i in (0, 2))
        value = data[at + 4 : at + 4 + length]
        if len(value) < length:
            return found, True
        found.setdefault(code, value)
        at += 4 + length
    return found, at != len(data)
