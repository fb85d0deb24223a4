"""The datagrams of a transmission (docs/multicast.md): blocks of the file and end marks to the
group, reports back to the server."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from daskel.core.reader import MalformedError

HEAD = 16  # bytes before those of the file
BLOCK = 1500 - 20 - 8 - HEAD  # bytes of the file in a datagram, so that it fits into a frame
END = 0xFFFFFFFF  # instead of a block's number: a pass is over
_HEAD = struct.Struct(">4sIII")
_REPORT = struct.Struct(">4sIIII")
_TO_ALL, _BACK = b"DSKL", b"DSKR"


@dataclass(frozen=True, slots=True)
class Report:
    """How many datagrams one receiver got, and how many it missed, since its last report; and the
    sequence of the newest one."""

    transmission: int
    received: int
    missed: int
    sequence: int

    def serialise(self) -> bytes:
        """As it is sent back."""
        numbers = self.transmission, self.received, self.missed, self.sequence
        return _REPORT.pack(_BACK, *numbers)

    @classmethod
    def parse(cls, data: bytes) -> Report:
        """From the network. Raises MalformedError."""
        if len(data) != _REPORT.size:
            raise MalformedError(f"multicast: a report of {len(data)} bytes")
        magic, *numbers = _REPORT.unpack(data)
        if magic != _BACK:
            raise MalformedError("multicast: not a report")
        return cls(*numbers)


def write_head(into: memoryview, transmission: int, number: int, sequence: int) -> None:
    """What comes before the bytes of block `number`. `sequence` counts the datagrams of a
    transmission, so that a receiver sees what it missed."""
    _HEAD.pack_into(into, 0, _TO_ALL, transmission, number, sequence & 0xFFFFFFFF)


def parse(data: bytes) -> tuple[int, int, int, bytes]:
    """Transmission, block, sequence and bytes of a datagram to the group. Raises MalformedError."""
    if len(data) < HEAD:
        raise MalformedError(f"multicast: a datagram of {len(data)} bytes")
    magic, transmission, number, sequence = _HEAD.unpack_from(data)
    if magic != _TO_ALL:
        raise MalformedError("multicast: not a block")
    return transmission, number, sequence, data[HEAD:]
