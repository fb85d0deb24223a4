"""One DHCP message, read and written (RFC 2131 section 2). What options mean is in `options`."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from enum import IntEnum
from ipaddress import IPv4Address

from daskel.core.dhcp.options import Code
from daskel.core.reader import MalformedError

COOKIE = b"\x63\x82\x53\x63"
NOWHERE = IPv4Address(0)
BROADCAST_FLAG = 0x8000
BOOTP_MINIMUM = 300  # bytes of UDP payload, RFC 1542 2.1
DEFAULT_LIMIT = 548  # bytes of UDP payload: 576 less the IP and UDP headers, RFC 2131 2
HEADERS = 28  # bytes of IP and UDP headers that option 57 counts in
ETHERNET_LIMIT = 1472  # bytes of UDP payload that fit one Ethernet frame
_HEADER = struct.Struct("!BBBBIHH4s4s4s4s16s64s128s4s")  # RFC 2131 2, figure 1, and the cookie
_FIXED = 240
_PAD, _END, _ZERO = 0, 255, bytes(4)
_TYPE, _RELAY = int(Code.MESSAGE_TYPE), int(Code.RELAY_AGENT)  # to look one up takes a while
_SNAME, _FILE = 64, 128
_TO_HARDWARE = 34  # bytes until the end of a hardware address of six bytes


class MessageType(IntEnum):
    """RFC 2132 9.6."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


_TYPES = {bytes((kind,)): kind for kind in MessageType}


@dataclass(frozen=True, slots=True)
class Packet:
    """A BOOTP or DHCP message. `options` maps codes to whole values (RFC 3396 joined)."""

    op: int  # 1 from a client, 2 from a server
    xid: int
    chaddr: bytes  # 16 bytes; the first `hlen` are the hardware address
    options: Mapping[int, bytes] = field(default_factory=dict)
    htype: int = 1
    hlen: int = 6
    hops: int = 0
    secs: int = 0
    flags: int = 0
    ciaddr: IPv4Address = NOWHERE
    yiaddr: IPv4Address = NOWHERE
    siaddr: IPv4Address = NOWHERE
    giaddr: IPv4Address = NOWHERE
    sname: bytes = b""
    file: bytes = b""

    @property
    def message_type(self) -> MessageType | None:
        """None for a BOOTP message and for types that are not in RFC 2132."""
        return _TYPES.get(self.options.get(_TYPE, b""))

    def address_option(self, code: int) -> IPv4Address | None:
        """The address in an option; None when it is not there, or is not of four bytes."""
        value = self.options.get(code, b"")
        return IPv4Address(value) if len(value) == 4 else None

    @property
    def limit(self) -> int:
        """Bytes of UDP payload that the sender of this message accepts (option 57)."""
        value = self.options.get(Code.MAXIMUM_SIZE, b"")
        asked = int.from_bytes(value, "big") - HEADERS if len(value) == 2 else 0
        return min(max(asked, DEFAULT_LIMIT), ETHERNET_LIMIT)


def parse(data: bytes) -> Packet:
    """Read a datagram from the network. Raises MalformedError."""
    if len(data) < _FIXED:
        raise MalformedError(f"DHCP message: {len(data)} bytes, {_FIXED} at least")
    (op, htype, hlen, hops, xid, secs, flags, ciaddr, yiaddr, siaddr, giaddr, chaddr, sname, file,
     cookie) = _HEADER.unpack_from(data)  # fmt: skip
    if op not in (1, 2):
        raise MalformedError(f"DHCP message: op is {op}, expected 1 or 2")
    if hlen > 16:
        raise MalformedError(f"DHCP message: hardware address of {hlen} bytes, 16 at most")
    if cookie != COOKIE:
        raise MalformedError("DHCP message: magic cookie is not 99.130.83.99")
    options = _joined(data[_FIXED:], sname, file)
    overload = options.pop(Code.OVERLOAD, b"\0")[0]
    return Packet(
        op, xid, chaddr, options, htype, hlen, hops, secs, flags,
        _address(ciaddr), _address(yiaddr), _address(siaddr), _address(giaddr),
        sname=b"" if overload & 2 else sname.split(b"\0", 1)[0],
        file=b"" if overload & 1 else file.split(b"\0", 1)[0],
    )  # fmt: skip


def parse_part(data: bytes) -> Packet:
    """Read a message whose end may be missing, as captures have them, as far as it goes: at least
    to the hardware address. Raises MalformedError."""
    try:
        return parse(data)
    except MalformedError:
        if len(data) < _TO_HARDWARE or (
            len(data) >= _FIXED and data[_FIXED - 4 : _FIXED] != COOKIE
        ):
            raise
    whole = data[:_FIXED].ljust(_FIXED, b"\0")
    options: dict[int, bytes] = {}
    with suppress(MalformedError):
        read_area(data[_FIXED:], "options", options)
    options = {code: value for code, value in options.items() if value or code == _PAD}
    head = parse(whole[:-4] + COOKIE + bytes((_END,)))
    return replace(head, options=options)


def _packed(address: IPv4Address) -> bytes:
    return _ZERO if address is NOWHERE else address.packed


def _address(packed: bytes) -> IPv4Address:
    return NOWHERE if packed == _ZERO else IPv4Address(packed)


def _joined(area: bytes, sname: bytes, file: bytes) -> dict[int, bytes]:
    """The options of all areas; repeated codes are one value (RFC 3396 section 7)."""
    options: dict[int, bytes] = {}
    read_area(area, "options", options)
    overload = options.get(Code.OVERLOAD, b"\0")
    if len(overload) != 1:
        raise MalformedError("DHCP message: option 52 (overload) is not one byte")
    if overload[0] & 1:
        read_area(file, "file field", options)
    if overload[0] & 2:
        read_area(sname, "sname field", options)
    return options


def read_area(area: bytes, where: str, options: dict[int, bytes]) -> None:
    """Add what stands in an area of options, `where` in words; until the damage in a damaged one.
    Raises MalformedError."""
    at, end = 0, len(area)
    while at < end:
        code = area[at]
        if code == _PAD:
            at += 1
            continue
        if code == _END:
            return
        value = at + 2
        if value > end or value + area[at + 1] > end:
            raise MalformedError(f"DHCP {where}: option {code} is cut short")
        at = value + area[at + 1]
        options[code] = options[code] + area[value:at] if code in options else area[value:at]


def kind_and_server(data: bytes) -> tuple[int | None, bytes | None]:
    """The message type, and the server that a message is for (RFC 2132 9.6, 9.7), without reading
    the rest; None for what is not there, or not where it is usual."""
    kind = _find(data, 53, 1)
    server = _find(data, 54, 4)
    return data[kind] if kind else None, data[server : server + 4] if server else None


def with_lease_time(data: bytes, seconds: int) -> bytes:
    """A reply with another lease time (RFC 2132 9.2); as it is where it has none."""
    at = _find(data, 51, 4)
    return data[:at] + seconds.to_bytes(4, "big") + data[at + 4 :] if at else data


def _find(data: bytes, code: int, length: int) -> int | None:
    """Where the value of an option of this length is, in the area for options."""
    at, size = _FIXED, len(data)
    while at + 1 < size and data[at] != _END:
        if data[at] == _PAD:
            at += 1
        elif data[at] == code:
            return at + 2 if data[at + 1] == length and at + 2 + length <= size else None
        else:
            at += 2 + data[at + 1]
    return None


def encode_option(code: int, value: bytes) -> bytes:
    """Code, length, value; values beyond 255 bytes are split (RFC 3396 section 5)."""
    pieces = [value[i : i + 255] for i in range(0, len(value), 255)] or [b""]
    return b"".join(bytes((code, len(piece))) + piece for piece in pieces)


def serialise(packet: Packet, limit: int = DEFAULT_LIMIT) -> tuple[bytes, tuple[int, ...]]:
    """The datagram of at most `limit` bytes, and the codes of options that did not fit.

    Options come in the order of the mapping, which is also their rank: what does not fit into
    the options field goes into sname, then file (RFC 2131 4.1, option 52), and the rest is left
    out from the end. A boot file name gives way to the options and becomes option 67. The relay
    agent's option is never left out, and is the last one (RFC 3046 2.2).
    """
    plain = _plain(packet.options)
    dropped: tuple[int, ...] = ()
    areas = {"options": plain}
    if len(plain) > limit - _FIXED:
        for overload in (0, 2, 3):
            areas, dropped = _fill(packet, limit, overload)
            if not dropped or overload == 3:
                break
    file, sname = areas.get("file", packet.file), areas.get("sname", packet.sname)
    header = _HEADER.pack(
        packet.op, packet.htype, packet.hlen, packet.hops, packet.xid, packet.secs, packet.flags,
        _packed(packet.ciaddr), packet.yiaddr.packed, packet.siaddr.packed, _packed(packet.giaddr),
        packet.chaddr, sname, file, COOKIE,
    )  # fmt: skip
    return (header + areas["options"]).ljust(BOOTP_MINIMUM, b"\0"), dropped


def _plain(options: Mapping[int, bytes]) -> bytes:
    """All options one after the other, as they nearly always fit."""
    parts = [
        bytes((code, len(value))) + value if len(value) < 256 else encode_option(code, value)
        for code, value in options.items()
        if code != _RELAY
    ]
    if _RELAY in options:
        parts.append(encode_option(_RELAY, options[_RELAY]))
    return b"".join(parts) + b"\xff"


def _fill(packet: Packet, limit: int, overload: int) -> tuple[dict[str, bytes], tuple[int, ...]]:
    """What each area of the message holds, and the codes of options that found no place."""
    options = dict(packet.options)
    relay = options.pop(Code.RELAY_AGENT, None)
    last = encode_option(Code.RELAY_AGENT, relay) if relay is not None else b""
    if overload & 1 and packet.file:
        options = _after_type(options, Code.BOOT_FILE, packet.file)
    room = {"options": limit - _FIXED - 1 - (3 if overload else 0) - len(last)}
    if overload & 1:
        room["file"] = _FILE - 1
    if overload & 2 and not packet.sname:
        room["sname"] = _SNAME - 1
    areas, dropped = dict.fromkeys(room, b""), []
    for code, value in options.items():
        encoded = encode_option(code, value)
        place = next((a for a in room if len(areas[a]) + len(encoded) <= room[a]), None)
        if place is None:
            dropped.append(code)
        else:
            areas[place] += encoded
    used = sum(bit for name, bit in (("file", 1), ("sname", 2)) if areas.get(name))
    areas = {name: area for name, area in areas.items() if area or name == "options"}
    if used:
        areas["options"] += encode_option(Code.OVERLOAD, bytes((used,)))
    areas["options"] += last
    return {name: area + bytes((Code.END,)) for name, area in areas.items()}, tuple(dropped)


def _after_type(options: dict[int, bytes], code: int, value: bytes) -> dict[int, bytes]:
    """`options` with `code` right behind the message type, so that it is not left out."""
    first = {c: v for c, v in options.items() if c == Code.MESSAGE_TYPE}
    return (
        first | {code: value} | {c: v for c, v in options.items() if c not in first | {code: b""}}
    )
