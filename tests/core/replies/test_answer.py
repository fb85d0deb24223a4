"""Which reply to which DHCP message: every situation, and no address for two machines."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from ipaddress import IPv4Address
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, rule

from daskel.core.boot.address import DECLINE_TIME, OFFER_TIME, Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, renewal, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import BROADCAST_FLAG, NOWHERE, MessageType, Packet, parse, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.dhcp.responder import BROADCAST, Destination, destination
from daskel.core.history.events import GivenBack, Refusal, Refused, Seen
from daskel.core.replies.answer import Answer, Answers
from daskel.core.site.model import Site
from tests.conftest import DEMO, site_from
from tests.core.dhcp.captured import DISCOVERS

TIDE, TIDE_10, STRANGER = "02:61:08:00:00:01", "02:61:08:00:00:0a", "02:61:ff:00:00:01"
FIXED, SERVER = IPv4Address("10.61.8.21"), IPv4Address("10.61.8.1")
BIOS = Face.of(Firmware.BIOS)


def answers(site: Site | None = None) -> Answers:
    return Answers(site or site_from(DEMO), Leases(), Ports())


def ask(who: Answers, packet: Packet, now: float = 0.0, *, unicast: bool = False) -> Answer:
    return who.dhcp("tideroom", packet, now, unicast=unicast)


def take(who: Answers, mac: str, now: float = 0.0, face: Face = SYSTEM) -> IPv4Address:
    """A whole exchange; the address."""
    offer = ask(who, discover(face, mac, 1), now).reply
    assert offer and offer.message_type is MessageType.OFFER
    ack = ask(who, request(face, offer), now).reply
    assert ack and ack.message_type is MessageType.ACK and ack.yiaddr == offer.yiaddr
    return ack.yiaddr


def test_the_same_address_whatever_client_identifier() -> None:
    who = answers()
    got = {take(who, TIDE_10, now, face) for now, face in enumerate([BIOS, SYSTEM, BIOS])}
    assert len(got) == 1
    lease = who.leases.of("tideroom", TIDE_10)
    assert lease and lease.architecture == 0  # the system's exchange does not forget it


def test_a_fixed_address_and_a_place_in_the_pool() -> None:
    who = answers()
    assert take(who, TIDE) == FIXED
    assert take(who, TIDE_10) in who.site.segments["tideroom"].network
    assert take(who, STRANGER) != take(who, TIDE_10)


def message(kind: MessageType, mac: str = TIDE, **options: IPv4Address) -> Packet:
    base = discover(SYSTEM, mac, 9)
    more = {Code[name].value: address.packed for name, address in options.items()}
    return Packet(1, 9, base.chaddr, {**base.options, 53: bytes((kind,)), **more})


R = MessageType.REQUEST
OTHER = IPv4Address("10.61.8.2")
STRAYED = IPv4Address("192.0.2.7")
REQUESTS: list[tuple[str, Callable[[], Packet], bool, MessageType | None]] = [
    ("selecting", lambda: message(R, SERVER_ID=SERVER, REQUESTED_ADDRESS=FIXED), False, MessageType.ACK),
    ("selecting what it may not have", lambda: message(R, SERVER_ID=SERVER, REQUESTED_ADDRESS=OTHER), False, MessageType.NAK),
    ("selecting another server", lambda: message(R, SERVER_ID=OTHER, REQUESTED_ADDRESS=FIXED), False, None),
    ("init-reboot", lambda: message(R, REQUESTED_ADDRESS=FIXED), False, MessageType.ACK),
    ("init-reboot, wrong address", lambda: message(R, REQUESTED_ADDRESS=OTHER), False, MessageType.NAK),
    ("init-reboot, wrong network", lambda: message(R, REQUESTED_ADDRESS=STRAYED), False, MessageType.NAK),
    ("init-reboot of a stranger, wrong network", lambda: message(R, STRANGER, REQUESTED_ADDRESS=STRAYED), False, MessageType.NAK),
    ("init-reboot of a stranger", lambda: message(R, STRANGER, REQUESTED_ADDRESS=IPv4Address("10.61.8.150")), False, None),
    ("renewing", lambda: renewal(SYSTEM, TIDE, 9, FIXED), True, MessageType.ACK),
    ("renewing the wrong one", lambda: renewal(SYSTEM, TIDE, 9, OTHER), True, MessageType.NAK),
    ("rebinding", lambda: renewal(SYSTEM, TIDE, 9, FIXED), False, MessageType.ACK),
    ("rebinding of a stranger", lambda: renewal(SYSTEM, STRANGER, 9, IPv4Address("10.61.8.150")), False, None),
    ("inform", lambda: message(MessageType.INFORM), True, MessageType.ACK),
    ("request for nothing", lambda: message(R), False, None),
    ("a server's reply", lambda: Packet(2, 9, bytes(16), {53: b"\2"}), False, None),
    ("BOOTP", lambda: Packet(1, 9, bytes(16)), False, None),
    ("not Ethernet", lambda: Packet(1, 9, bytes(16), {53: b"\1"}, htype=6), False, None),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "packet", "unicast", "kind"), REQUESTS, ids=[r[0] for r in REQUESTS]
)
def test_situations(
    name: str, packet: Callable[[], Packet], unicast: bool, kind: MessageType | None
) -> None:
    sent = packet()
    answer = ask(answers(), sent, unicast=unicast)
    assert (answer.reply.message_type if answer.reply else None) is kind, name
    if answer.reply is None:
        return
    assert answer.reply.xid == sent.xid and answer.reply.chaddr == sent.chaddr
    assert answer.reply.options.get(Code.CLIENT_ID) == sent.options.get(Code.CLIENT_ID)  # RFC 6842
    assert bool(answer.leases) is (kind is MessageType.ACK and name != "inform")
    assert (Code.LEASE_TIME in answer.reply.options) is bool(answer.leases)
    assert kind is not MessageType.NAK or answer.reply.yiaddr == answer.reply.siaddr


def test_decline_puts_aside_and_release_gives_back() -> None:
    who = answers()
    first = take(who, STRANGER)
    asked = message(MessageType.DECLINE, STRANGER, REQUESTED_ADDRESS=first)
    assert ask(who, asked).declined == first, "to be looked at on the wire"
    assert not who.leases.free_for(first, TIDE, 0.0) and who.leases.free_for(first, STRANGER, 0.0)
    declined = who.in_use(asked, first, 0.0)
    assert [e.declined for e in declined.events if isinstance(e, GivenBack)] == [True]
    assert ask(who, asked).declined is None, "once"
    assert take(who, STRANGER, 1.0) != first
    foreign = message(MessageType.DECLINE, TIDE, REQUESTED_ADDRESS=take(who, TIDE_10))
    assert ask(who, foreign).declined is None, "nobody declines another machine's address"
    assert who.leases.free_for(first, "02:61:ff:00:00:09", DECLINE_TIME + 1)

    second = take(who, STRANGER, 2.0)
    released = renewal(SYSTEM, STRANGER, 1, second)
    released = Packet(1, 1, released.chaddr, {53: b"\7"}, ciaddr=second)
    assert ask(who, released, 3.0).leases
    assert who.leases.machine_at(second, 3.0) is None
    assert take(who, STRANGER, 4.0) == second, "its former address is kept for it"


def test_offers_end_and_a_full_pool_says_so() -> None:
    who = answers(site_from(DEMO.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100")))
    ask(who, discover(SYSTEM, STRANGER, 1), 0.0)
    refused = ask(who, discover(SYSTEM, "02:61:ff:00:00:02", 1), 1.0)
    assert refused.reply is None
    assert [e.reason for e in refused.events if isinstance(e, Refused)] == [
        "the pool has no address left"
    ]
    assert ask(who, discover(SYSTEM, "02:61:ff:00:00:02", 1), OFFER_TIME + 1).reply


FILES = {
    "bios": b"loader/bios.img",
    "uefi-x64": b"loader/uefi-x64.efi",
    "uefi-x64-http": b"http://10.61.8.1/loader/uefi-x64.efi",
}


@pytest.mark.parametrize("name", DISCOVERS)
def test_real_firmware_gets_what_it_needs(name: str) -> None:
    firmware = parse(bytes.fromhex(DISCOVERS[name]))
    reply = ask(answers(), firmware).reply
    assert reply
    http = name == "uefi-x64-http"
    assert reply.options[Code.VENDOR_CLASS] == (b"HTTPClient" if http else b"PXEClient")
    assert reply.options.get(Code.VENDOR_SPECIFIC) == (None if http else b"\6\1\x08\xff")
    assert reply.options[Code.BOOT_FILE] == FILES[name]
    assert reply.file == (b"" if http else FILES[name])
    assert reply.siaddr == SERVER
    data, dropped = serialise(reply, firmware.limit)
    assert not dropped and parse(data).options == reply.options


@pytest.mark.parametrize("architecture", [7, 9])
def test_both_numbers_of_uefi_x64(architecture: int) -> None:
    asked = discover(Face.of(Firmware.UEFI), TIDE, 1)
    options = {**asked.options, Code.ARCHITECTURE: bytes((0, architecture))}
    reply = ask(answers(), Packet(1, 1, asked.chaddr, options)).reply
    assert reply and reply.file == b"loader/uefi-x64.efi"


def test_strangers_get_an_address_and_no_boot_information() -> None:
    reply = ask(answers(), discover(BIOS, STRANGER, 1)).reply
    assert reply and str(reply.yiaddr).startswith("10.61.8.1")
    boot = {Code.VENDOR_CLASS, Code.BOOT_FILE, Code.BOOT_SERVER, Code.HOST_NAME, Code.ROOT_PATH}
    assert not boot & set(reply.options) and not reply.file and reply.siaddr == IPv4Address(0)


def test_no_loader_for_the_firmware_is_said() -> None:
    """At the first message, and once for each start."""
    site = replace(
        site_from(DEMO.replace(', "uefi-arm64"', ', "uefi-x86"')), unbuilt=frozenset(["uefi-x86"])
    )
    for number, reason in (
        (11, "add it to loaders in [site]"),
        (6, "apt install grub-common grub-efi-ia32-bin"),
        (25, "name one with boot-file"),
    ):
        who, face = answers(site), Face.of_architecture(number)
        asked = discover(face, TIDE, 1)
        first = ask(who, asked)
        said = [e for e in first.events if isinstance(e, Refused)]
        assert [reason in e.reason and e.why is Refusal.NO_BOOT_FILE for e in said] == [True]
        offer = first.reply
        assert offer and not offer.file and Code.BOOT_FILE not in offer.options
        for again in (asked, request(face, offer)):
            assert not [e for e in ask(who, again).events if isinstance(e, Refused)]


def test_uboot_gets_its_script_however_it_presents_itself() -> None:
    """As on the wire of an arm64 board: U-Boot, then as PXE firmware, then without a file."""
    who, mac = answers(), bytes.fromhex(TIDE.replace(":", "")).ljust(16, b"\0")
    wanted = b"boot.scr.uimg"
    for options, file in (
        ({60: b"U-Boot.armv8", 93: b"\0\x16"}, wanted),
        ({60: b"PXEClient:Arch:00011:UNDI:003000", 93: b"\0\x0b"}, wanted),
        ({60: b"U-Boot.armv8", 93: b"\0\x16"}, b""),
        ({60: b"U-Boot"}, wanted),  # RISC-V, which tells no architecture at first
    ):
        reply = ask(who, Packet(1, 1, mac, {53: b"\1", 55: b"\1\3", **options}, file=file)).reply
        assert reply and reply.file == wanted and reply.siaddr == SERVER
        assert Code.VENDOR_SPECIFIC not in reply.options


def test_seen_names_the_firmware() -> None:
    (seen,) = (e for e in ask(answers(), discover(BIOS, TIDE, 1)).events if isinstance(e, Seen))
    assert (seen.who.name, seen.firmware, seen.segment) == ("tide-01", "x86 BIOS", "tideroom")


HARDWARE = bytes.fromhex(TIDE.replace(":", ""))
WHERE = [
    ({}, MessageType.OFFER, FIXED, Destination(FIXED, hardware=HARDWARE)),
    ({"flags": BROADCAST_FLAG}, MessageType.OFFER, FIXED, Destination(BROADCAST)),
    ({}, MessageType.OFFER, NOWHERE, Destination(BROADCAST)),  # beside another server
    ({"giaddr": IPv4Address("10.61.10.1")}, MessageType.OFFER, FIXED, Destination(IPv4Address("10.61.10.1"), relay=True)),
    ({"ciaddr": FIXED}, MessageType.ACK, FIXED, Destination(FIXED)),
    ({"ciaddr": FIXED}, MessageType.NAK, NOWHERE, Destination(BROADCAST)),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "kind", "given", "expected"), WHERE)
def test_where_replies_go(
    fields: dict[str, Any], kind: MessageType, given: IPv4Address, expected: Destination
) -> None:
    asked = Packet(1, 1, HARDWARE.ljust(16, b"\0"), **fields)
    sent = Packet(2, 1, asked.chaddr, {53: bytes((kind,))}, yiaddr=given)
    assert destination(asked, sent) == expected


class NeverTwice(RuleBasedStateMachine):
    """Machines come, go, decline and forget; no address is held by two of them."""

    def __init__(self) -> None:
        super().__init__()
        small = DEMO.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100 - 10.61.8.104")
        self.who, self.now = answers(site_from(small)), 0.0
        self.held: dict[IPv4Address, tuple[str, float]] = {}

    macs = st.integers(1, 14).map(lambda n: f"02:61:08:00:00:{n:02x}")

    @rule(mac=macs, wanted=st.integers(98, 106), face=st.sampled_from([BIOS, SYSTEM]))
    def boots(self, mac: str, wanted: int, face: Face) -> None:
        wished = message(
            MessageType.DISCOVER, mac, REQUESTED_ADDRESS=IPv4Address(f"10.61.8.{wanted}")
        )
        offer = ask(self.who, wished, self.now).reply
        if offer is not None:
            self.receive(mac, ask(self.who, request(face, offer), self.now))

    @rule(mac=macs, address=st.integers(20, 106))
    def remembers(self, mac: str, address: int) -> None:
        asked = message(R, mac, REQUESTED_ADDRESS=IPv4Address(f"10.61.8.{address}"))
        self.receive(mac, ask(self.who, asked, self.now))

    @rule(mac=macs)
    def releases(self, mac: str) -> None:
        for address, (owner, _) in list(self.held.items()):
            if owner == mac:
                chaddr = discover(SYSTEM, mac, 1).chaddr
                ask(self.who, Packet(1, 1, chaddr, {53: b"\7"}, ciaddr=address), self.now)
                del self.held[address]

    @rule(mac=macs, address=st.integers(100, 104))
    def declines(self, mac: str, address: int) -> None:
        declined = IPv4Address(f"10.61.8.{address}")
        ask(self.who, message(MessageType.DECLINE, mac, REQUESTED_ADDRESS=declined), self.now)
        if self.held.get(declined, ("", 0))[0] == mac:
            del self.held[declined]

    @rule(seconds=st.sampled_from([1, 59, 4000, 8 * 3600]))
    def time_passes(self, seconds: int) -> None:
        self.now += seconds

    @rule()
    def restarts(self) -> None:
        kept = [
            lease for a in range(256) if (lease := self.who.leases.at(IPv4Address(f"10.61.8.{a}")))
        ]
        bound = [lease for lease in kept if lease.state.value != "offered"]
        self.who = Answers(self.who.site, Leases(bound), Ports())

    def receive(self, mac: str, answer: Answer) -> None:
        if answer.reply is None or answer.reply.message_type is not MessageType.ACK:
            return
        address = answer.reply.yiaddr
        owner, until = self.held.get(address, (mac, 0.0))
        assert owner == mac or until <= self.now, f"{address} is held by {owner} and {mac}"
        assert [lease.address for lease in answer.leases] == [address]
        self.held[address] = (mac, self.now + 8 * 3600)


TestNeverTwice = NeverTwice.TestCase
TestNeverTwice.settings = settings(max_examples=60, stateful_step_count=40, deadline=None)
