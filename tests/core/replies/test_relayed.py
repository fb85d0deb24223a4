"""Answers through a relay agent."""

from __future__ import annotations

from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, parse, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.dhcp.relay import described, suboptions
from daskel.core.history.events import Seen
from tests.core.boot.test_segments import ASKS
from tests.core.replies.asking import BUOY, LINK, RELAY, answers, arrive, relayed


def test_through_a_relay_agent() -> None:
    """An address of the far network; option 82 comes back byte for byte, and last."""
    who = answers()
    odd = LINK + b"\x97\0\xfe"  # an unknown sub-option, and one that is cut short
    offer = arrive(who, relayed(discover(Face.of(Firmware.ARM64), BUOY, 1), RELAY, odd)).reply
    assert (
        offer and offer.yiaddr in who.site.segments["boathouse"].network and offer.giaddr == RELAY
    )
    data, dropped = serialise(offer, 1472)
    relay_option = bytes((82, len(odd))) + odd + b"\xff"
    assert not dropped and data.rstrip(b"\0").endswith(relay_option)
    asked = relayed(request(SYSTEM, offer), RELAY, odd)
    ack = arrive(who, asked)
    assert ack.reply and ack.reply.options[82] == odd and ack.leases[0].segment == "boathouse"
    seen = next(e for e in arrive(who, relayed(ASKS, RELAY, LINK)).events if isinstance(e, Seen))
    assert seen.relay == "10.61.10.1 ge1"


def test_option_82_is_kept_when_there_is_hardly_room() -> None:
    long = bytes((1, 200)) + bytes(200)
    many = {200 + n: bytes(60) for n in range(20)}
    data, dropped = serialise(Packet(2, 1, bytes(16), {53: b"\2", **many, 82: long}), 548)
    assert dropped and len(data) <= 548 and parse(data).options[82] == long


def test_a_relay_agent_that_wants_to_be_the_server() -> None:
    """RFC 5107: it is named as the server, and the REQUEST that names it is for this server."""
    who = answers()
    override = bytes((11, 4)) + RELAY.packed
    offer = arrive(who, relayed(ASKS, RELAY, override)).reply
    assert offer and offer.address_option(Code.SERVER_ID) == RELAY
    ack = arrive(who, relayed(request(SYSTEM, offer), RELAY, override)).reply
    assert ack and ack.message_type is MessageType.ACK and ack.yiaddr == offer.yiaddr
    elsewhere = arrive(who, relayed(request(SYSTEM, offer), RELAY, b"")).reply
    assert elsewhere is None


def test_suboptions_and_how_they_are_shown() -> None:
    assert suboptions(LINK) == {1: b"ge1", 5: bytes((10, 61, 10, 0))}
    assert suboptions(b"") == suboptions(b"\1") == suboptions(b"\1\2x") == {}
    packet = relayed(ASKS, RELAY, bytes((1, 2, 0, 7, 2, 3)) + b"sw1")
    assert described(packet) == "10.61.10.1 0007 sw1"
