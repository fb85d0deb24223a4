"""Which hardware addresses this machine's kernel knows for the addresses on its own wires."""

from __future__ import annotations

import socket
import struct
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import Protocol

_TABLE = Path("/proc/net/arp")  # proc(5)
_COMPLETE = 0x2
_HEAD = 16  # bytes of a message of netlink
_RTM_NEWNEIGH, _RTM_GETNEIGH, _NLM_F_REQUEST = 28, 30, 1
_NDA_DST, _NDA_LLADDR = 1, 2
_UNKNOWN = 0x01 | 0x20 | 0x40  # states: being asked for, failed, never to be asked for
_GOOD_FOR = 0.05  # seconds


class _Clock(Protocol):
    def monotonic(self) -> float:
        """Seconds, which only go forward."""


class Neighbours:
    """The table is read anew after a moment, and for an address that is not in it."""

    def __init__(self, clock: _Clock) -> None:
        self._clock, self._read = clock, float("-inf")
        self._table: dict[tuple[str, str], str] = {}

    def hardware(self, interface: str, address: IPv4Address | IPv6Address) -> str | None:
        """`02:61:...`; None when the kernel has not heard of the address lately."""
        if isinstance(address, IPv6Address):
            with suppress(OSError):  # as for an interface that is gone
                return _of_ipv6(socket.if_nametoindex(interface), address)
            return None
        now, asked = self._clock.monotonic(), (interface, str(address))
        if asked not in self._table or now - self._read > _GOOD_FOR:
            self._table, self._read = _parsed(_read()), now
        return self._table.get(asked)


def _of_ipv6(index: int, address: IPv6Address) -> str | None:
    """By one question to the kernel (RTM_GETNEIGH, rtnetlink(7)). Raises OSError."""
    wanted = struct.pack("=HH16s", 4 + 16, _NDA_DST, address.packed)
    about = struct.pack("=BxxxiHBB", socket.AF_INET6, index, 0, 0, 0) + wanted
    asked = struct.pack("=IHHII", _HEAD + len(about), _RTM_GETNEIGH, _NLM_F_REQUEST, 1, 0) + about
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, 0) as netlink:
        netlink.settimeout(1.0)
        netlink.send(asked)
        answer = netlink.recv(4096)
    kind = struct.unpack_from("=H", answer, 4)[0]
    if kind != _RTM_NEWNEIGH:
        return None  # an error: it does not know the address
    state = struct.unpack_from("=H", answer, _HEAD + 8)[0]
    at = _HEAD + 12
    while state & ~_UNKNOWN and at + 4 <= len(answer):
        length, attribute = struct.unpack_from("=HH", answer, at)
        if attribute == _NDA_LLADDR and length == 4 + 6:
            return answer[at + 4 : at + 10].hex(":")
        at += max(4, length + 3 & ~3)
    return None


def _read() -> str:
    try:
        return _TABLE.read_text()
    except OSError:
        return ""


def _parsed(text: str) -> dict[tuple[str, str], str]:
    rows = [line.split() for line in text.splitlines()[1:]]
    whole = [row for row in rows if len(row) >= 6 and int(row[2], 16) & _COMPLETE]
    return {(row[5], row[0]): row[3].lower() for row in whole}
