"""The relay agent's option 82: read where it changes an answer, else given back as it came.

RFC 3046 (the option), RFC 3527 (link selection), RFC 5107 (server identifier override).
"""

from __future__ import annotations

from ipaddress import IPv4Address

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet

CIRCUIT_ID, REMOTE_ID, LINK_SELECTION, SERVER_OVERRIDE = 1, 2, 5, 11


def suboptions(value: bytes) -> dict[int, bytes]:
    """What is inside of an option 82 from the network, as far as it can be read."""
    return _read(value)[0]


def cut_short(packet: Packet) -> bool:
    """The relay agent's option ends in the middle of a sub-option."""
    return not _read(packet.options.get(Code.RELAY_AGENT, b""))[1]


def _read(value: bytes) -> tuple[dict[int, bytes], bool]:
    """The sub-options, and whether the last one is whole (RFC 3046 section 2.0)."""
    found: dict[int, bytes] = {}
    at = 0
    while at < len(value):
        if at + 2 > len(value) or at + 2 + value[at + 1] > len(value):
            return found, False
        found.setdefault(value[at], value[at + 2 : at + 2 + value[at + 1]])
        at += 2 + value[at + 1]
    return found, True


def address_inside(packet: Packet, code: int) -> IPv4Address | None:
    """The address that a sub-option holds; None where there is none of four bytes."""
    value = suboptions(packet.options.get(Code.RELAY_AGENT, b"")).get(code, b"")
    return IPv4Address(value) if len(value) == 4 and any(value) else None


def described(packet: Packet) -> str:
    """The relay agent and what it says of the port that the client is on, for people."""
    inside = suboptions(packet.options.get(Code.RELAY_AGENT, b""))
    ids = [inside[code] for code in (CIRCUIT_ID, REMOTE_ID) if inside.get(code)]
    shown = [i.decode() if i.isascii() and i.decode().isprintable() else i.hex() for i in ids]
    return " ".join([str(packet.giaddr), *shown])
