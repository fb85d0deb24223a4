"""Requests as the tests of replies make them, and a server that answers them."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.packet import Packet
from daskel.core.replies.answer import Answer, Answers
from tests.conftest import DEMO, site_from

RELAY, LIB, BUOY = IPv4Address("10.61.10.1"), "02:61:09:00:00:01", "02:61:0a:00:00:01"
SERVER, STRANGER = IPv4Address("10.61.8.1"), "02:61:ff:00:00:01"
FAR = IPv4Address("10.61.200.1")  # a relay agent's address that is in no segment
LINK = bytes((1, 3)) + b"ge1" + bytes((5, 4)) + IPv4Address("10.61.10.0").packed


def answers(text: str = DEMO) -> Answers:
    return Answers(site_from(text), Leases(), Ports())


def arrive(
    who: Answers, packet: Packet, *wire: str, unicast: bool = False, pxe: bool = False
) -> Answer:
    return who.receive(wire, packet, 0.0, unicast=unicast, pxe=pxe)


def relayed(packet: Packet, relay: IPv4Address = RELAY, inside: bytes | None = None) -> Packet:
    options = dict(packet.options) if inside is None else {**packet.options, 82: inside}
    return replace(packet, giaddr=relay, options=options)
