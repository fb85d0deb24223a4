"""DHCPv6 messages (RFC 8415): who asks, for which addresses, and what to boot; and replies."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv6Address

from daskel.core.reader import MalformedError, Reader

_RELAY_FORWARD, _RELAY_REPLY = 12, 13
_RELAY_HEAD = 34  # bytes: type, hops, two addresses
_MOST_RELAYS = 32
_MOST_IN_ONE = 8  # identity associations of a message, and addresses of one, that are looked at


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
    """RFC 8415 21, RFC 5970 3, RFC 3646, RFC 6939."""

    CLIENT_ID = 1
    SERVER_ID = 2
    IA_NA = 3
    IA_TA = 4
    IA_ADDRESS = 5
    PARAMETERS = 6
    PREFERENCE = 7
    RELAYED = 9
    STATUS = 13
    RAPID_COMMIT = 14
    VENDOR_CLASS = 16
    INTERFACE_ID = 18
    DOMAINS = 24
    IA_PD = 25
    BOOT_FILE_URL = 59
    ARCHITECTURE = 61
    CLIENT_HARDWARE = 79


class Status(IntEnum):
    """RFC 8415 21.13."""

    SUCCESS = 0
    NO_ADDRESSES = 2
    NO_BINDING = 3
    NOT_ON_LINK = 4
    NO_PREFIXES = 6


@dataclass(frozen=True, slots=True)
class Association:
    """An identity association for addresses that are not temporary (RFC 8415 21.4), as asked."""

    iaid: int
    addresses: tuple[IPv6Address, ...]


@dataclass(frozen=True, slots=True)
class Relay:
    """A relay agent's part of a message (RFC 8415 9), which the reply goes back in."""

    hops: int
    link: IPv6Address  # unspecified: the one before it says which
    peer: IPv6Address
    interface: bytes | None
    hardware: bytes = b""  # of the client (RFC 6939)


@dataclass(frozen=True, slots=True)
class Message:
    """`cut`: the end of it was missing. `relays`: from the server's side to the client's."""

    type: Type
    xid: int
    options: Mapping[int, bytes]  # the first of each code
    cut: bool = False
    relays: tuple[Relay, ...] = ()
    associations: tuple[Association, ...] = ()
    refused: tuple[tuple[int, int], ...] = ()  # IA_TA and IA_PD: nobody gets those. Code, and IAID

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
        return next((v for code, v in _options(inside)[0] if code == Code.IA_ADDRESS), b"")

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

    def asks_for(self, code: Code) -> bool:
        """Whether the option is in its list of wanted ones (RFC 8415 21.7)."""
        asked = self.options.get(Code.PARAMETERS, b"")
        return code in {int.from_bytes(asked[i : i + 2], "big") for i in range(0, len(asked), 2)}


def parse(data: bytes) -> Message:
    """Read a datagram, out of those of relay agents when it is in them; of one that is cut, as
    far as it goes. Raises MalformedError."""
    relays: list[Relay] = []
    while data and data[0] in (_RELAY_FORWARD, _RELAY_REPLY):
        if len(relays) == _MOST_RELAYS or len(data) < _RELAY_HEAD:
            raise MalformedError("DHCPv6 message: of too many relay agents, or cut short")
        inside = dict(reversed(_options(data[_RELAY_HEAD:])[0]))
        hardware = inside.get(Code.CLIENT_HARDWARE, b"")
        relays.append(Relay(
            data[1], IPv6Address(data[2:18]), IPv6Address(data[18:34]),
            inside.get(Code.INTERFACE_ID), hardware[2:8] if hardware[:2] == b"\0\1" else b"",
        ))  # fmt: skip
        if Code.RELAYED not in inside:
            raise MalformedError("DHCPv6 message: a relay agent's without a client's in it")
        data = inside[Code.RELAYED]
    reader = Reader(data, "DHCPv6 message")
    kind, xid = reader.number(1), reader.number(3)
    with suppress(ValueError):
        known = Type(kind)
        options, cut = _options(reader.rest())
        asked = [v for code, v in options if code == Code.IA_NA and len(v) >= 12]
        others = [(c, v) for c, v in options if c in (Code.IA_TA, Code.IA_PD) and len(v) >= 4]
        return Message(
            known, xid, dict(reversed(options)), cut, tuple(relays),
            tuple(map(_association, asked[:_MOST_IN_ONE])),
            tuple((c, int.from_bytes(v[:4], "big")) for c, v in others[:_MOST_IN_ONE]),
        )  # fmt: skip
    raise reader.fail(f"type {kind}, expected 1 to 11")


def _association(data: bytes) -> Association:
    named = [v for code, v in _options(data[12:])[0] if code == Code.IA_ADDRESS and len(v) >= 24]
    addresses = tuple(IPv6Address(value[:16]) for value in named[:_MOST_IN_ONE])
    return Association(int.from_bytes(data[:4], "big"), addresses)


def _options(data: bytes) -> tuple[list[tuple[int, bytes]], bool]:
    """Code and value of each, and whether the last one was cut."""
    found: list[tuple[int, bytes]] = []
    at = 0
    while at + 4 <= len(data):
        code, length = (int.from_bytes(data[at + i : at + i + 2], "big") for i in (0, 2))
        value = data[at + 4 : at + 4 + length]
        if len(value) < length:
            return found, True
        found.append((code, value))
        at += 4 + length
    return found, at != len(data)


# --- replies ---


def option(code: int, value: bytes) -> bytes:
    """An option as it is sent (RFC 8415 21.1)."""
    return code.to_bytes(2, "big") + len(value).to_bytes(2, "big") + value


def status(code: Status, text: str) -> bytes:
    """A status with words for people (RFC 8415 21.13)."""
    return option(Code.STATUS, code.to_bytes(2, "big") + text.encode())


def granted(iaid: int, addresses: Iterable[tuple[IPv6Address, int]], said: bytes = b"") -> bytes:
    """An IA_NA with addresses, and for how many seconds each (RFC 8415 21.4, 21.6); `said`: a
    status. It is to be renewed at half of the shortest time, from anybody at four fifths."""
    given = list(addresses)
    least = min((seconds for _, seconds in given if seconds), default=0)
    times = b"".join(n.to_bytes(4, "big") for n in (iaid, least // 2, least * 4 // 5))
    inside = b"".join(
        option(Code.IA_ADDRESS, address.packed + seconds.to_bytes(4, "big") * 2)
        for address, seconds in given
    )
    return option(Code.IA_NA, times + inside + said)


def refused(code: int, iaid: int) -> bytes:
    """The answer to an IA_TA or IA_PD: nobody is given a temporary address or a prefix."""
    number = iaid.to_bytes(4, "big")
    if code == Code.IA_PD:
        return option(code, number + bytes(8) + status(Status.NO_PREFIXES, "no prefixes here"))
    return option(code, number + status(Status.NO_ADDRESSES, "no temporary addresses here"))


def reply(kind: Type, request: Message, options: Sequence[bytes]) -> bytes:
    """A reply with these options, in the messages of the relay agents that the question came in
    (RFC 8415 19.3)."""
    data = bytes((kind,)) + request.xid.to_bytes(3, "big") + b"".join(options)
    for relay in reversed(request.relays):
        head = bytes((_RELAY_REPLY, relay.hops)) + relay.link.packed + relay.peer.packed
        back = option(Code.INTERFACE_ID, relay.interface) if relay.interface is not None else b""
        data = head + back + option(Code.RELAYED, data)
    return data


def with_lifetimes(data: bytes, seconds: int) -> bytes:
    """A reply, also one for a relay agent, with addresses that last no longer than that. As `reply`
    makes them: nothing in it is cut."""
    changed = bytearray(data)
    _shorten(changed, _RELAY_HEAD if data[0] == _RELAY_REPLY else 4, len(data), seconds)
    return bytes(changed)


def _shorten(data: bytearray, at: int, end: int, seconds: int) -> None:
    while at + 4 <= end:
        code, length = (int.from_bytes(data[at + i : at + i + 2], "big") for i in (0, 2))
        at += 4
        if code == Code.RELAYED:
            _shorten(
                data, at + (_RELAY_HEAD if data[at] == _RELAY_REPLY else 4), at + length, seconds
            )
        elif code == Code.IA_NA:
            _at_most(data, at + 4, seconds // 2)
            _at_most(data, at + 8, seconds * 4 // 5)
            _shorten(data, at + 12, at + length, seconds)
        elif code == Code.IA_ADDRESS:
            _at_most(data, at + 16, seconds)
            _at_most(data, at + 20, seconds)
        at += length


def _at_most(data: bytearray, at: int, seconds: int) -> None:
    least = min(int.from_bytes(data[at : at + 4], "big"), seconds)
    data[at : at + 4] = least.to_bytes(4, "big")


def hardware_in(address: IPv6Address) -> bytes | None:
    """The hardware address that a link-local address was made of (RFC 4291, appendix A); None where
    it was made otherwise."""
    if not address.is_link_local or address.packed[11:13] != b"\xff\xfe":
        return None
    last = address.packed[8:]
    return bytes((last[0] ^ 2,)) + last[1:3] + last[5:]
