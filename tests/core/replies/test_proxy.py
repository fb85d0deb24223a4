"""Beside another DHCP server, behind relay agents, on shared wires: which segment, which answer,
which boot file, and what must be typed into somebody else's server."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.address import LeaseState
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, renewal, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, parse
from daskel.core.dhcp.pxe import Firmware
from daskel.core.history.events import Addressed, GivenBack, Refused
from daskel.core.replies.answer import Answer
from tests.conftest import DEMO
from tests.core.dhcp.captured import ASKS_4011
from tests.core.replies.asking import LIB, STRANGER, answers, arrive

BOOTS = [
    (Firmware.BIOS, b"PXEClient"),
    (Firmware.UEFI, b"PXEClient"),
    (Firmware.UEFI_HTTP, b"HTTPClient"),
]


@pytest.mark.parametrize(("firmware", "vendor_class"), BOOTS)
def test_an_offer_without_an_address(firmware: Firmware, vendor_class: bytes) -> None:
    who, face = answers(), Face.of(firmware)
    answer = arrive(who, discover(face, LIB, 7), "library")
    offer = answer.reply
    assert offer and offer.message_type is MessageType.OFFER and not answer.leases
    assert (str(offer.yiaddr), str(offer.siaddr)) == ("0.0.0.0", "10.61.9.1")
    assert offer.options[Code.VENDOR_CLASS] == vendor_class
    assert offer.address_option(Code.SERVER_ID) == IPv4Address("10.61.9.1")
    named = offer.options.get(Code.BOOT_FILE, offer.file).decode()
    assert named.endswith("bios.img" if firmware is Firmware.BIOS else "uefi-x64.efi")
    assert named.startswith("http://10.61.9.1/") is (firmware is Firmware.UEFI_HTTP)
    others = {Code.LEASE_TIME, Code.SUBNET_MASK, Code.ROUTER, Code.HOST_NAME, Code.ROOT_PATH}
    assert not others & set(offer.options)
    if vendor_class == b"PXEClient":
        assert offer.options[Code.MACHINE_ID] == bytes(17) and Code.VENDOR_SPECIFIC in offer.options


def test_what_the_other_server_does_is_heard() -> None:
    """Its clients' addresses are known when they come for files; nothing is answered to systems."""
    who, own, other = answers(), IPv4Address("10.61.9.77"), IPv4Address("10.61.9.250")
    assert arrive(who, discover(SYSTEM, LIB, 1), "library").reply is None
    given = Packet(2, 1, discover(SYSTEM, LIB, 1).chaddr, {54: other.packed}, yiaddr=own)
    answer = arrive(who, request(SYSTEM, given), "library")
    (event,) = answer.events
    assert answer.reply is None and isinstance(event, Addressed)
    assert (event.address, event.by, event.lease) == (own, other, 0)
    (claim,) = answer.claims
    assert (claim.address, claim.mac, claim.state) == (own, LIB, LeaseState.ELSEWHERE)
    assert not answer.leases and who.leases.at(own) is None, "until the wire confirms it"
    outside = replace(given, yiaddr=IPv4Address("192.0.2.1"))
    assert not arrive(who, request(SYSTEM, outside), "library").claims


def test_port_4011() -> None:
    who, face = answers(), Face.of(Firmware.UEFI)
    own = IPv4Address("10.61.9.77")
    asks = renewal(face, LIB, 5, own)
    answer = arrive(who, asks, "library", unicast=True, pxe=True)
    ack = answer.reply
    assert ack and ack.message_type is MessageType.ACK and ack.ciaddr == own
    assert ack.file == b"loader/uefi-x64.efi" and str(ack.yiaddr) == "0.0.0.0"
    assert [(c.address, c.mac) for c in answer.claims] == [(own, LIB)]
    inform = replace(asks, options={**asks.options, 53: bytes((MessageType.INFORM,))})
    again = arrive(who, inform, "library", unicast=True, pxe=True).reply
    assert again and again.file == ack.file
    assert (
        arrive(who, renewal(SYSTEM, LIB, 5, own), "library", unicast=True, pxe=True).reply is None
    )
    full = renewal(face, "02:61:08:00:00:01", 5, IPv4Address("10.61.8.21"))
    tide = arrive(who, full, "tideroom", unicast=True, pxe=True)
    assert tide.reply and tide.reply.file == b"loader/uefi-x64.efi" and not tide.leases


def test_port_4011_as_real_firmware_asks() -> None:
    who, own = (
        answers(DEMO.replace('dhcp = "full"', 'dhcp = "proxy"', 1)),
        IPv4Address("10.61.8.72"),
    )
    asked = parse(bytes.fromhex(ASKS_4011))
    answer = arrive(who, asked, "tideroom", unicast=True, pxe=True)
    assert answer.reply and answer.reply.file == b"loader/uefi-x64.efi"
    assert answer.reply.ciaddr == own and answer.reply.xid == asked.xid
    assert [(c.address, c.mac) for c in answer.claims] == [(own, "02:61:08:00:00:02")]


def test_who_gets_no_offer_beside_another_server() -> None:
    who, face = answers(), Face.of(Firmware.BIOS)
    assert arrive(who, discover(face, STRANGER, 1), "library").reply is None
    lobby = answers(DEMO.replace('dhcp = "proxy"', 'dhcp = "proxy"\nunknown = "lobby"'))
    waits = arrive(lobby, discover(face, STRANGER, 1), "library").reply
    assert waits and waits.file == b"loader/bios.img"
    silent = answers(DEMO.replace('dhcp = "proxy"', 'dhcp = "off"'))
    assert arrive(silent, discover(face, LIB, 1), "library") == Answer()


def test_an_address_that_somebody_else_has() -> None:
    who = answers()
    first = arrive(who, discover(SYSTEM, STRANGER, 1), "tideroom")
    assert first.probe and first.reply and first.probe == first.reply.yiaddr
    taken = who.in_use(discover(SYSTEM, STRANGER, 1), first.probe, 0.0)
    (event,) = taken.events
    assert (
        isinstance(event, GivenBack)
        and event.declined
        and taken.leases[0].state is LeaseState.DECLINED
    )
    second = arrive(who, discover(SYSTEM, STRANGER, 1), "tideroom")
    assert second.probe not in (None, first.probe)
    assert second.reply
    arrive(who, request(SYSTEM, second.reply), "tideroom")
    assert arrive(who, discover(SYSTEM, STRANGER, 2), "tideroom").probe is None, "it has it already"


def test_refusals_say_why() -> None:
    text = DEMO.replace('dhcp = "proxy"', 'dhcp = "proxy"\nrefuse = ["02:61:09"]')
    (event,) = arrive(answers(text), discover(SYSTEM, LIB, 1), "library").events
    assert isinstance(event, Refused) and "daskel.toml" in event.reason
