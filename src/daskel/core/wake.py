"""Magic packets, which switch machines on, and how far apart they are sent."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from ipaddress import IPv4Address

from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site

PORT = 9  # discard: nothing answers there
ASKED_AGAIN = (60.0, 180.0)  # seconds after the first time
PACES = (0.0, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 30.0)  # seconds between two machines
_SLOWER = 1.25  # than alone, which is still good


def magic_packet(mac: str) -> bytes:
    """Six bytes FF, and the address 16 times (AMD, Magic Packet Technology, 1995)."""
    return b"\xff" * 6 + bytes.fromhex(mac.replace(":", "")) * 16


def target(site: Site, name: str) -> tuple[IPv4Address, IPv4Address] | None:
    """The server's address that a client's packet is sent from, and where to; None without a
    segment."""
    segment = site.segments.get(segment_name(site, site.clients[name]) or "")
    if segment is None:
        return None
    return segment.server, segment.wake_through or segment.network.broadcast_address


def carried(alone: float, whole: Callable[[float], Sequence[float]]) -> float:
    """The shortest pause between two machines at which each boots nearly as fast as alone.

    `alone`: seconds of one boot; `whole`: those of all, begun with a pause between them.
    """
    for pause in PACES:
        if max(whole(pause)) <= alone * _SLOWER:
            return pause
    return PACES[-1]
