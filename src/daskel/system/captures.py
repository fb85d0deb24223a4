"""Captures on the disk: read by dpkt, in the formats pcap and pcapng, and written as pcap."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

_NOBODY = bytes(6)
_IPV4 = b"\x08\x00"
_IPV6 = b"\x86\xdd"
_ETHERNET, _COOKED, _COOKED_2 = 1, 113, 276  # link types; the last two: of the any-interface
_RAW = (12, 101, 228, 229)  # link types without a frame around the packet


def read_frames(path: Path) -> Iterator[tuple[float, bytes]]:
    """Each packet's time in seconds since 1970, and its Ethernet frame. Raises OSError, and
    ValueError for what is not a capture, also after the packets before the damage."""
    import dpkt  # its 74 modules take 3 MiB, which a server that only writes does without

    with path.open("rb") as file:
        try:
            reader = dpkt.pcap.UniversalReader(file)
            link = reader.datalink()
            if link not in (_ETHERNET, _COOKED, _COOKED_2, *_RAW):
                raise ValueError(f"its link type is {link}")
            for at, data in reader:
                yield float(at), _ethernet(link, bytes(data))
        except (dpkt.UnpackError, ValueError, IndexError) as error:
            raise ValueError(str(error) or "it is cut short") from None


def _ethernet(link: int, data: bytes) -> bytes:
    """A frame as Ethernet has it."""
    if link == _COOKED:
        return _NOBODY + data[6:12] + data[14:]
    if link == _COOKED_2:
        return _NOBODY + data[12:18] + data[0:2] + data[20:]
    if link in _RAW:
        return _NOBODY * 2 + (_IPV6 if data[:1] >= b"\x60" else _IPV4) + data
    return data


# A file in the format pcap, of Ethernet frames with times in microseconds.
FILE_HEAD = struct.pack("=IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)


def packet_head(at: float, kept: int, length: int) -> bytes:
    """What stands before a packet of which the first `kept` bytes of `length` follow."""
    seconds, rest = divmod(round(at * 1e6), 1_000_000)
    return struct.pack("=IIII", seconds, rest, kept, length)
