"""Frames and messages of remote program load: vectors in frames of 802.3 with LLC (SAP FC).

What is read and written here is what tshark's dissector knows (tests/core/capture/others). **No
real client has confirmed it yet**, in particular the flags of a block, and what a client does at a
gap; so what comes is read tolerantly, and vectors that nobody knows are left out. Numbers are big
endian.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass
from enum import IntEnum, IntFlag

from daskel.core.reader import MalformedError

GROUP = bytes.fromhex("030002000000")  # where a machine looks for a server
LARGEST_BLOCK = 1440  # bytes of an image in a frame
BLOCK_HEAD = 32  # bytes of LLC and vectors before them
_SAPS = (0xFC, 0xF8)  # some machines look for a server at the second one
_SAP, _UNNUMBERED = 0xFC, 0x03  # LLC: unnumbered information
_SHORTEST, _LARGEST = 60, 1500  # bytes of a frame, and of what is in it
_VECTOR = struct.Struct(">HH")
_DEPTH = 3  # of vectors in vectors


class Kind(IntEnum):
    """Vectors, and what is inside of them."""

    FIND = 0x0001
    FOUND = 0x0002
    SEARCH = 0x0004
    CONNECTION = 0x0008
    SEND_FILE = 0x0010
    FILE_DATA = 0x0020
    CORRELATOR = 0x4003
    ADDRESS = 0x4006
    SAP = 0x4007
    LARGEST_FRAME = 0x4009
    CONNECTION_CLASS = 0x400A
    RESPONSE = 0x400B
    SET_ADDRESS = 0x400C
    SEQUENCE = 0x4011
    DATA = 0x4018
    LOADER = 0xC005
    PLACE = 0xC014


_NESTED = (Kind.FIND, Kind.FOUND, Kind.SEARCH, Kind.CONNECTION, Kind.SEND_FILE, Kind.FILE_DATA)


class Flags(IntFlag):
    """Of a block."""

    LAST = 0x80
    BEGIN = 0x40  # the machine is to run what it has got
    ACKNOWLEDGE = 0x20


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame with one message; `source_sap` is where an answer goes."""

    target: bytes
    source: bytes
    source_sap: int
    message: bytes


@dataclass(frozen=True, slots=True)
class Find:
    """A machine looks for a server. `name`: what its boot ROM calls itself."""

    correlator: int
    largest_frame: int  # bytes that it takes; 0: it does not say
    name: str


@dataclass(frozen=True, slots=True)
class SendFile:
    """A machine wants the blocks from one sequence on: it has all before."""

    sequence: int
    largest_frame: int
    name: str


@dataclass(frozen=True, slots=True)
class FileData:
    """A block: where it goes in the machine's memory, and where that begins to run."""

    sequence: int
    place: int
    begin: int
    flags: Flags
    data: bytes


def parse_frame(data: bytes) -> Frame | None:
    """A frame of this protocol, None for any other. Raises MalformedError."""
    if len(data) < 17:
        return None
    length = int.from_bytes(data[12:14], "big")
    target_sap, source_sap, control = data[14:17]
    if length > _LARGEST or target_sap not in _SAPS or source_sap & 0xFE not in _SAPS:
        return None
    if control != _UNNUMBERED:
        return None
    if not 3 <= length <= len(data) - 14:
        raise MalformedError(f"rpl: a message of {length} bytes in {len(data) - 14}")
    return Frame(data[:6], data[6:12], source_sap & 0xFE, data[17 : 14 + length])


def serialise_frame(target: bytes, source: bytes, message: bytes, sap: int = _SAP) -> bytes:
    """As it is sent, filled up to the least length of a frame."""
    body = bytes((sap, _SAP, _UNNUMBERED)) + message
    return (target + source + len(body).to_bytes(2, "big") + body).ljust(_SHORTEST, b"\0")


def parse(message: bytes) -> Find | SendFile | FileData | None:
    """What is said; None for what is not dealt with. Raises MalformedError."""
    found: dict[int, bytes] = {}
    kind = _read(message, found, 0)
    if kind == Kind.FIND:
        return Find(
            _number(found, Kind.CORRELATOR), _number(found, Kind.LARGEST_FRAME), _name(found)
        )
    if kind == Kind.SEND_FILE:
        if Kind.SEQUENCE not in found:
            raise MalformedError("rpl: a request for a file without a sequence")
        sequence = _number(found, Kind.SEQUENCE)
        return SendFile(sequence, _number(found, Kind.LARGEST_FRAME), _name(found))
    if kind == Kind.FILE_DATA:
        place = found.get(Kind.PLACE, b"")
        if len(place) != 9:
            raise MalformedError("rpl: a block without its place")
        at, begin, flags = struct.unpack(">IIB", place)
        sequence = _number(found, Kind.SEQUENCE)
        return FileData(sequence, at, begin, Flags(flags & 0xE0), found.get(Kind.DATA, b""))
    return None


def _read(data: bytes, found: dict[int, bytes], depth: int) -> int:
    """The values of all vectors, by kind; the kind of the first."""
    if len(data) < _VECTOR.size:
        raise MalformedError(f"rpl: a vector of {len(data)} bytes")
    first = int.from_bytes(data[2:4], "big")
    while len(data) >= _VECTOR.size:
        length, kind = _VECTOR.unpack_from(data)
        if not _VECTOR.size <= length <= len(data):
            raise MalformedError(f"rpl: a vector of {length} bytes in {len(data)}")
        value = data[_VECTOR.size : length]
        found.setdefault(kind, value)
        if kind in _NESTED and value and depth < _DEPTH:
            _read(value, found, depth + 1)
        data = data[length:]
    return first


def _number(found: Mapping[int, bytes], kind: Kind) -> int:
    return int.from_bytes(found.get(kind, b"")[:4], "big")


def _name(found: Mapping[int, bytes]) -> str:
    """The short name at the end of what the boot ROM says of itself."""
    text = found.get(Kind.LOADER, b"")[-10:].decode("latin-1").rstrip("\0 ")
    return text if text.isprintable() else ""


def _vector(kind: Kind, *parts: bytes) -> bytes:
    value = b"".join(parts)
    return _VECTOR.pack(len(value) + _VECTOR.size, kind) + value


def _connection(largest: int) -> bytes:
    size = _vector(Kind.LARGEST_FRAME, largest.to_bytes(2, "big"))
    return _vector(Kind.CONNECTION, size, _vector(Kind.CONNECTION_CLASS, b"\0\1"))


def found(asked: Find, client: bytes, own: bytes, largest: int) -> bytes:
    """The answer to one who looks for a server."""
    return _vector(
        Kind.FOUND,
        _vector(Kind.CORRELATOR, asked.correlator.to_bytes(4, "big")),
        _vector(Kind.RESPONSE, b"\0"),
        _vector(Kind.SET_ADDRESS, client),
        _connection(largest),
        _vector(Kind.ADDRESS, own),
        _vector(Kind.SAP, bytes((_SAP,))),
    )


def file_data(block: FileData) -> bytes:
    """A block."""
    place = struct.pack(">IIB", block.place, block.begin, block.flags)
    return _vector(
        Kind.FILE_DATA,
        _vector(Kind.SEQUENCE, block.sequence.to_bytes(4, "big")),
        _vector(Kind.PLACE, place),
        _vector(Kind.DATA, block.data),
    )


def find(own: bytes, name: str, largest: int = 1478) -> bytes:
    """What a simulated machine asks."""
    return _vector(
        Kind.FIND, _vector(Kind.CORRELATOR, bytes((0, 0, 0, 1))), *_about(own, name, largest)
    )


def send_file(own: bytes, sequence: int, name: str, largest: int = 1478) -> bytes:
    """What a simulated machine asks, and acknowledges with."""
    wanted = _vector(Kind.SEQUENCE, sequence.to_bytes(4, "big"))
    return _vector(Kind.SEND_FILE, wanted, *_about(own, name, largest))


def _about(own: bytes, name: str, largest: int) -> tuple[bytes, ...]:
    rom = bytes(22) + name.encode("latin-1").ljust(10)[:10]
    search = _vector(Kind.SEARCH, _vector(Kind.LOADER, rom))
    sap = _vector(Kind.SAP, bytes((_SAP,)))
    return _connection(largest), _vector(Kind.ADDRESS, own), sap, search
