"""Frames and messages: dump/load (protocol 60-01) and remote console (60-02), Ethernet II with a
length before the message, or 802.3 with SNAP.

Checked against what a VAX's ROM sends and takes (tests/core/capture/others). Numbers inside of
messages are little endian. Items whose length does not fit are what real machines send, too: they
are kept apart, and the rest of the message counts.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum, IntEnum

from daskel.core.reader import MalformedError

LOAD_GROUP = bytes.fromhex("ab0000010000")  # where a request for a system goes
CONSOLE_GROUP = bytes.fromhex("ab0000020000")
LARGEST_BLOCK = 1024  # bytes of an image in a message: more is not acknowledged
_SHORTEST = 60  # bytes of a frame, without its checksum
_SNAP = bytes.fromhex("aaaa0308002b")
_LARGEST_LENGTH = 1500  # in the type field: more is a type
_MOST_SHOWN = 16  # bytes of an item
_ITEM = struct.Struct("<HB")


class Protocol(IntEnum):
    """Ethernet types, and SNAP identifiers."""

    LOAD = 0x6001
    CONSOLE = 0x6002


class Framing(Enum):
    """How a message is put into a frame."""

    ETHERNET = "Ethernet II"
    SNAP = "802.3 with SNAP"


class Code(IntEnum):
    """First byte of a message."""

    LOAD_LAST = 0x00  # memory load with transfer address
    LOAD = 0x02
    VOLUNTEER = 0x03
    REQUEST_ID = 0x05
    SYSTEM_ID = 0x07
    REQUEST_PROGRAM = 0x08
    REQUEST_LOAD = 0x0A
    PARAMETERS = 0x14


class Program(IntEnum):
    """What a request for a program is for."""

    SECONDARY_LOADER = 0
    TERTIARY_LOADER = 1
    SYSTEM = 2
    MANAGEMENT = 3


class Standard(IntEnum):
    """A standard image, instead of a name."""

    SYSTEM = -1
    MAINTENANCE = -2


class Info(IntEnum):
    """Items of a system id, and of a request for a program."""

    VERSION = 1
    FUNCTIONS = 2
    CONSOLE_USER = 3
    HARDWARE_ADDRESS = 7
    DEVICE = 100


_FUNCTIONS = ("loop", "dump", "primary loader", "multi-block loader", "boot", "console carrier",
              "data link counters", "console reservation")  # fmt: skip
_DEVICES = {  # by the number that a machine tells; of others the number is shown
    0x05: "DEUNA", 0x0B: "DELUA", 0x25: "DELQA or DESQA", 0x29: "MicroVAX on-board (LANCE)",
    0x49: "terminal server (DS200)",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame of one of the two protocols."""

    target: bytes
    source: bytes
    protocol: Protocol
    framing: Framing
    message: bytes


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a machine tells of itself."""

    kind: int
    value: bytes


@dataclass(frozen=True, slots=True)
class RequestProgram:
    """A machine wants a system: by name, a standard one, or any (`software` is None)."""

    device: int
    program: int
    software: str | Standard | None
    items: tuple[Item, ...] = ()
    broken: bytes = b""  # what follows the last item that could be read

    @property
    def asked(self) -> str:
        """What it asks for, in words."""
        if isinstance(self.software, Standard):
            return f"the standard {self.software.name.lower()}"
        return f'"{self.software}"' if self.software else "a system"


@dataclass(frozen=True, slots=True)
class SystemId:
    """A machine says what it is."""

    receipt: int
    items: tuple[Item, ...]
    broken: bytes = b""

    @property
    def functions(self) -> tuple[str, ...]:
        """What it can do, in words."""
        bits = _first(self.items, Info.FUNCTIONS)
        return tuple(name for n, name in enumerate(_FUNCTIONS) if bits >> n & 1)

    @property
    def device(self) -> str:
        """What it is, in words."""
        return device_name(_first(self.items, Info.DEVICE))

    @property
    def more(self) -> tuple[str, ...]:
        """What else it tells, in words: also what nobody knows, and what cannot be read."""
        shown = [_shown(i) for i in self.items if i.kind not in (Info.FUNCTIONS, Info.DEVICE)]
        return (*shown, *([f"unreadable: {_hex(self.broken)}"] if self.broken.strip(b"\0") else []))

    def serialise(self) -> bytes:
        """As a simulated machine sends it."""
        head = struct.pack("<BBH", Code.SYSTEM_ID, 0, self.receipt)
        told = (_ITEM.pack(item.kind, len(item.value)) + item.value for item in self.items)
        return head + b"".join(told) + self.broken


@dataclass(frozen=True, slots=True)
class RequestLoad:
    """A machine has taken a block and wants the next one, or says what was wrong with it."""

    number: int  # of the block that it wants, modulo 256
    error: int = 0


def _shown(item: Item) -> str:
    if item.kind == Info.VERSION:
        return f"version {'.'.join(map(str, item.value[:3]))}"
    if item.kind in (Info.HARDWARE_ADDRESS, Info.CONSOLE_USER):
        what = "address" if item.kind == Info.HARDWARE_ADDRESS else "console user"
        return f"{what} {item.value[:6].hex(':')}"
    return f"item {item.kind:X}h: {_hex(item.value)}"


def _hex(data: bytes) -> str:
    return data[:_MOST_SHOWN].hex() + ("..." if len(data) > _MOST_SHOWN else "")


def device_name(number: int) -> str:
    """Of a communication device, by its number."""
    return _DEVICES.get(number, f"device {number:02X}h")


def _first(items: Sequence[Item], kind: Info) -> int:
    value = next((item.value for item in items if item.kind == kind), b"")
    return int.from_bytes(value, "little")


def parse_frame(data: bytes) -> Frame | None:
    """A frame of these protocols, None for any other. Raises MalformedError."""
    if len(data) < 14:
        return None
    kind = int.from_bytes(data[12:14], "big")
    if kind in (Protocol.LOAD, Protocol.CONSOLE):
        length = int.from_bytes(data[14:16], "little")
        return _frame(data, Protocol(kind), Framing.ETHERNET, data[16:], length)
    if kind > _LARGEST_LENGTH or data[14:20] != _SNAP:
        return None
    protocol = int.from_bytes(data[20:22], "big")
    if protocol not in (Protocol.LOAD, Protocol.CONSOLE):
        return None
    return _frame(data, Protocol(protocol), Framing.SNAP, data[22:], kind - len(_SNAP) - 2)


def _frame(
    data: bytes, protocol: Protocol, framing: Framing, rest: bytes, length: int
) -> Frame:  # fmt: skip
    if not 0 < length <= len(rest):
        raise MalformedError(f"mop: a message of {length} bytes in {len(rest)}")
    return Frame(data[:6], data[6:12], protocol, framing, rest[:length])


def serialise_frame(frame: Frame) -> bytes:
    """As it is sent: filled up to the least length of a frame."""
    head, message = frame.target + frame.source, frame.message
    kind = int(frame.protocol).to_bytes(2, "big")
    if frame.framing is Framing.ETHERNET:
        data = head + kind + len(message).to_bytes(2, "little") + message
    else:
        body = _SNAP + kind + message
        data = head + len(body).to_bytes(2, "big") + body
    return data.ljust(_SHORTEST, b"\0")


def parse(message: bytes) -> RequestProgram | SystemId | RequestLoad | None:
    """What a client says; None for what is not dealt with. Raises MalformedError."""
    code = message[0] if message else -1
    if code == Code.REQUEST_PROGRAM:
        return _request_program(message)
    if code == Code.REQUEST_LOAD:
        if len(message) < 2:
            raise MalformedError("mop: a request for a block without its number")
        return RequestLoad(message[1], message[2] if len(message) > 2 else 0)
    if code == Code.SYSTEM_ID:
        if len(message) < 4:
            raise MalformedError("mop: a system id without a receipt number")
        return SystemId(int.from_bytes(message[2:4], "little"), *_items(message[4:]))
    return None


def _request_program(message: bytes) -> RequestProgram:
    if len(message) < 5:
        raise MalformedError(f"mop: a request for a program of {len(message)} bytes")
    device, program, length = message[1], message[3], message[4]
    if length > 0x7F:
        standard = Standard.SYSTEM if length == 0xFF else Standard.MAINTENANCE
        software: str | Standard | None = standard if length >= 0xFE else None
        rest = message[5:]
    else:
        if 5 + length > len(message):
            raise MalformedError("mop: a name that is longer than its message")
        name = message[5 : 5 + length].rstrip(b"\0 ").decode("latin-1")
        if not name.isprintable():
            raise MalformedError("mop: a name with control characters in it")
        software, rest = name or None, message[5 + length :]
    return RequestProgram(device, program, software, *_items(rest[1:]))  # after it: the processor


def _items(data: bytes) -> tuple[tuple[Item, ...], bytes]:
    """Items, and what cannot be read behind them."""
    found = []
    while len(data) >= _ITEM.size:
        kind, length = _ITEM.unpack_from(data)
        if kind == 0 or _ITEM.size + length > len(data):
            break
        found.append(Item(kind, data[_ITEM.size : _ITEM.size + length]))
        data = data[_ITEM.size + length :]
    return tuple(found), data


def volunteer() -> bytes:
    """The answer to a request that went to all: ask me."""
    return bytes((Code.VOLUNTEER,))


def memory_load(number: int, address: int, data: bytes) -> bytes:
    """A block of an image. `number` is taken modulo 256."""
    return struct.pack("<BBI", Code.LOAD, number & 0xFF, address) + data


def parameters(number: int, transfer: int, host: str = "") -> bytes:
    """The end of a load: the address to begin at, and the name of the host."""
    name = host.encode("ascii", "replace")[:16]
    told = struct.pack("<BB", 3, len(name)) + name if name else b""  # 3: the host's name
    return bytes((Code.PARAMETERS, number & 0xFF)) + told + b"\0" + struct.pack("<I", transfer)


def request_id(receipt: int) -> bytes:
    """Who are you?"""
    return struct.pack("<BBH", Code.REQUEST_ID, 0, receipt)


def request_program(name: str, device: int = 0x25) -> bytes:
    """What a simulated client asks; an empty name: any system."""
    told = name.encode("latin-1")
    head = bytes((Code.REQUEST_PROGRAM, device, 1, Program.SYSTEM, len(told)))
    return head + told + b"\0"


def request_load(number: int, error: int = 0) -> bytes:
    """What a simulated client acknowledges with."""
    return bytes((Code.REQUEST_LOAD, number & 0xFF, error))
