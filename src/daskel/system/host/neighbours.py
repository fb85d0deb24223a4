"""Which hardware addresses this machine's kernel knows for the addresses on its own wires."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path
from typing import Protocol

_TABLE = Path("/proc/net/arp")  # proc(5)
_COMPLETE = 0x2
_GOOD_FOR = 0.05  # seconds


class _Clock(Protocol):
    def monotonic(self) -> float:
        """Seconds, which only go forward."""


class Neighbours:
    """The table is read anew after a moment, and for an address that is not in it."""

    def __init__(self, clock: _Clock) -> None:
        self._clock, self._read = clock, float("-inf")
        self._table: dict[tuple[str, str], str] = {}

    def hardware(self, interface: str, address: IPv4Address) -> str | None:
        """`02:61:...`; None when the kernel has not heard of the address lately."""
        now, asked = self._clock.monotonic(), (interface, str(address))
        if asked not in self._table or now - self._read > _GOOD_FOR:
            self._table, self._read = _parsed(_read()), now
        return self._table.get(asked)


def _read() -> str:
    try:
        return _TABLE.read_text()
    except OSError:
        return ""


def _parsed(text: str) -> dict[tuple[str, str], str]:
    rows = [line.split() for line in text.splitlines()[1:]]
    whole = [row for row in rows if len(row) >= 6 and int(row[2], 16) & _COMPLETE]
    return {(row[5], row[0]): row[3].lower() for row in whole}
