"""Which hardware address this machine's kernel knows for an address on its own wires."""

from __future__ import annotations

from ipaddress import IPv4Address
from pathlib import Path

_TABLE = Path("/proc/net/arp")  # proc(5)
_COMPLETE = 0x2


def hardware_of(address: IPv4Address) -> str | None:
    """`02:61:...`; None when the kernel has not heard of the address lately."""
    try:
        lines = _TABLE.read_text().splitlines()[1:]
    except OSError:
        return None
    for line in lines:
        ip, _, flags, mac, *_ = line.split()
        if ip == str(address) and int(flags, 16) & _COMPLETE:
            return mac.lower()
    return None
