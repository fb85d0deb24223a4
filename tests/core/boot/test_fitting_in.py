"""Beside another DHCP server, behind relay agents, on shared wires: which segment, which answer,
which boot file, and what must be typed into somebody else's server."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.address import Leases, LeaseState
from daskel.core.boot.answer import Answer, Answers
from daskel.core.boot.bootfile import check_boot_files
from daskel.core.boot.handoff import ALWAYS, handoff, machines, zone
from daskel.core.boot.segments import where
from daskel.core.boot.stages import Addressed, GivenBack, Refused, Seen
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, parse, serialise
from daskel.core.dhcp.pxe import ARCHITECTURES, BootRequest, Firmware, architecture_name
from daskel.core.dhcp.relay import described, suboptions
from daskel.rehearse.firmware import LOADER, SYSTEM, Face, discover, renewal, request
from tests.conftest import DEMO, site_from
from tests.core.dhcp.captured import ASKS_4011

RELAY, LIB, BUOY = IPv4Address("10.61.10.1"), "02:61:09:00:00:01", "02:61:0a:00:00:01"
SERVER, STRANGER = IPv4Address("10.61.8.1"), "02:61:ff:00:00:01"
FAR = IPv4Address("10.61.200.1")  # a relay agent's address that is in no segment
LINK = bytes((1, 3)) + b"ge1" + bytes((5, 4)) + IPv4Address("10.61.10.0").packed


def answers(text: str = DEMO) -> Answers:
    return Answers(site_from(text), Leases(), Ports())


def arrive(
    who: Answers, packet: Packet, *wire: str, unicast: bool = False, pxe: bool = False
) -> Answer:
    return who.arrived(wire, packet, 0.0, unicast=unicast, pxe=pxe)


def relayed(packet: Packet, relay: IPv4Address = RELAY, inside: bytes | None = None) -> Packet:
    options = dict(packet.options) if inside is None else {**packet.options, 82: inside}
    return replace(packet, giaddr=relay, options=options)


# --- which segment ---

ASKS = discover(SYSTEM, BUOY, 1)
PLACES: list[tuple[Packet, tuple[str, ...], tuple[str, ...], str]] = [
    (ASKS, ("tideroom",), ("tideroom",), ""),
    (ASKS, (), (), "without a relay agent"),
    (relayed(ASKS), ("tideroom",), ("boathouse",), ""),
    (relayed(ASKS, FAR), ("tideroom",), (), "in no segment's network"),
    (relayed(ASKS, RELAY, LINK), (), ("boathouse",), ""),
    (relayed(ASKS, FAR, LINK), (), (), "is not among those of boathouse"),
    (relayed(ASKS, RELAY, b"\5\4\0\0\0\0"), (), ("boathouse",), ""),
    (relayed(ASKS, RELAY, b"\5\xff\1"), (), ("boathouse",), ""),
    (replace(ASKS, ciaddr=IPv4Address("10.61.10.120")), ("tideroom",), ("boathouse",), ""),
    (replace(ASKS, ciaddr=FAR), ("tideroom",), ("tideroom",), ""),
]  # fmt: skip


@pytest.mark.parametrize(("packet", "wire", "segments", "problem"), PLACES)
def test_which_segment(
    packet: Packet, wire: tuple[str, ...], segments: tuple[str, ...], problem: str
) -> None:
    found = where(site_from(DEMO), packet, wire)
    assert (
        found.segments == segments and problem in found.problem and bool(problem) == (not segments)
    )


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


SHARED = DEMO.replace("[segment.library]", """[segment.annexe]
network = "10.61.11.0/24"
server = "10.61.11.1"
shares = "tideroom"
dhcp = "full"
pool = ["10.61.11.100 - 10.61.11.101"]

[segment.library]""").replace('"10.61.8.100 - 10.61.8.199"', '"10.61.8.100 - 10.61.8.109"')  # fmt: skip


def test_two_networks_on_one_wire() -> None:
    """The client's own segment first; then the network that it asks for; a full pool passes on."""
    text = SHARED.replace(
        '[client.tide-12]\nmac = "02:61:08:00:00:0c"',
        '[client.tide-12]\nsegment = "annexe"\nmac = "02:61:08:00:00:0c"',
    )
    who, wire = answers(text), ("tideroom", "annexe")

    def offered(mac: str, wish: str | None = None) -> str:
        packet = discover(SYSTEM, mac, 1)
        options = dict(packet.options) | ({50: IPv4Address(wish).packed} if wish else {})
        reply = arrive(who, replace(packet, options=options), *wire).reply
        return str(reply.yiaddr) if reply else ""

    assert offered("02:61:08:00:00:0c").startswith("10.61.11.")
    assert offered("02:61:08:00:00:01") == "10.61.8.21"
    assert offered(STRANGER, "10.61.11.101") == "10.61.11.101"
    got = [offered(f"02:61:ff:00:01:{n:02x}") for n in range(8)]
    assert sum(a.startswith("10.61.8.") for a in got) == 5, (
        "half of that pool is for known machines"
    )


# --- beside another DHCP server ---

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
    assert (
        answer.leases[0].state is LeaseState.ELSEWHERE and who.leases.machine_at(own, 10.0) == LIB
    )
    outside = replace(given, yiaddr=IPv4Address("192.0.2.1"))
    assert not arrive(who, request(SYSTEM, outside), "library").leases


def test_port_4011() -> None:
    who, face = answers(), Face.of(Firmware.UEFI)
    own = IPv4Address("10.61.9.77")
    asks = renewal(face, LIB, 5, own)
    answer = arrive(who, asks, "library", unicast=True, pxe=True)
    ack = answer.reply
    assert ack and ack.message_type is MessageType.ACK and ack.ciaddr == own
    assert ack.file == b"loader/uefi-x64.efi" and str(ack.yiaddr) == "0.0.0.0"
    assert who.leases.machine_at(own, 1.0) == LIB
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
    assert who.leases.machine_at(own, 1.0) == "02:61:08:00:00:02"


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


# --- boot files ---

WRITTEN = DEMO.replace("[group.tide]", """[firmware.desk]
vendor-class = "PXEClient:Arch:00000:*"
user-class = "desk-*"

[firmware.old-board]
architecture = [21, "arm-64-u-boot"]

[group.tide]
boot-file = { desk = "desk/start.bin", uefi-x64 = "own/{{ client.name }}.efi", arm-rpiboot = "none" }""").replace(
    'name = "Skerry Point"', 'name = "Skerry Point"\nboot-file = { old-board = "boards/start.bin", default = "none" }'
)  # fmt: skip
WRITTEN = WRITTEN.replace("[client.tide-02]", '[client.tide-02]\nboot-file = "own.bin"')


def firmware(architecture: int, user: bytes = b"", http: bool = False) -> BootRequest:
    protocol = "HTTPClient" if http else "PXEClient"
    return BootRequest(
        architecture, f"{protocol}:Arch:{architecture:05}:UNDI:002001".encode(), b"", user
    )


FILES: list[tuple[str, BootRequest, str | None]] = [
    ("tide-01", firmware(0, b"\x07desk-01"), "desk/start.bin"),
    ("tide-01", firmware(0, b"desk-01"), "desk/start.bin"),  # as some firmware writes it
    ("tide-01", firmware(0, b"\x03abc\x07desk-02"), "desk/start.bin"),
    ("tide-01", firmware(0), None),
    ("tide-01", firmware(7), "own/tide-01.efi"),
    ("tide-01", firmware(9), "own/tide-01.efi"),
    ("tide-01", firmware(16, http=True), None),
    ("tide-01", firmware(21), "boards/start.bin"),
    ("tide-01", firmware(22), "boards/start.bin"),
    ("tide-01", firmware(41), None),
    ("tide-01", firmware(999), None),
    ("tide-02", firmware(0, b"desk-01"), "own.bin"),
    ("tide-02", firmware(16, http=True), "http://10.61.8.1/own.bin"),
]


@pytest.mark.parametrize(("name", "boot", "expected"), FILES)
def test_boot_files(name: str, boot: BootRequest, expected: str | None) -> None:
    who = answers(WRITTEN)
    assert not list(check_boot_files(who.site))
    asks = discover(LOADER, who.site.clients[name].mac, 1)
    options = {60: boot.vendor_class, 93: boot.architecture.to_bytes(2, "big")}
    if boot.user_class:
        options[77] = boot.user_class
    reply = arrive(who, replace(asks, options={**asks.options, **options}), "tideroom").reply
    assert reply and reply.yiaddr
    found = reply.file or reply.options.get(Code.BOOT_FILE, b"")
    assert found.decode() == (expected or "")
    assert (Code.VENDOR_CLASS in reply.options) is (expected is not None)


def test_names_of_architectures() -> None:
    names = [architecture_name(number) for number in ARCHITECTURES]
    assert len(set(names)) == len(names) - 1, "only 7 and 9 are the same"
    assert architecture_name(41) == "arm-rpiboot" and architecture_name(999) == "type-999"


WRONG_FIRMWARE = [
    (
        'user-class = "desk-*"',
        'user-class = "desk-*"\narchitecture = ["uefi-x46"]',
        "there is no architecture 'uefi-x46'",
    ),
    ('architecture = [21, "arm-64-u-boot"]', "", "says nothing that a machine could be known by"),
    ("{ desk = ", "{ dest = ", "there is no firmware 'dest'"),
]


@pytest.mark.parametrize(("old", "new", "problem"), WRONG_FIRMWARE)
def test_wrong_firmware(old: str, new: str, problem: str) -> None:
    (finding,) = check_boot_files(site_from(WRITTEN.replace(old, new)))
    assert problem in finding.problem and finding.origin.line > 1 and finding.remedy


# --- typed into somebody else's server ---


def test_handoff_says_what_the_server_would_send() -> None:
    """The rows are those of Daskel's own replies to the same firmware."""
    site = site_from(DEMO)
    common, *rest = handoff(site, "tideroom", ["tide-01", "tide-02"])
    assert not rest and not common.clients
    always = {row.number: row.data for row in common.rows if row.condition == ALWAYS}
    who = Answers(site, Leases(), Ports())
    for firmware_kind in (Firmware.BIOS, Firmware.UEFI, Firmware.UEFI_HTTP):
        reply = arrive(
            who, discover(Face.of(firmware_kind), "02:61:08:00:00:01", 1), "tideroom"
        ).reply
        assert reply
        assert all(reply.options[number] == data for number, data in always.items() if number)
        condition = f"option 93 = {firmware_kind.architecture:04x}"
        rows = [row for row in common.rows if condition in row.condition]
        assert rows and {row.data for row in rows if row.number == 67} == {
            reply.options.get(67, reply.file)
        }
        assert {row.number for row in rows} == (
            {60, 67} if firmware_kind.over_http else {None, 66, 67}
        )
    assert [(m.name, str(m.address)) for m in machines(site, ["tide-01", "tide-10"])] == [
        ("tide-01", "10.61.8.21"), ("tide-10", "None"),
    ]  # fmt: skip


def test_what_one_client_needs_alone_stands_by_itself() -> None:
    text = DEMO.replace(
        "[client.tide-02]", '[client.tide-02]\noptions = { desk-broker = "other.example" }'
    )
    parts = handoff(site_from(text), "tideroom", ["tide-01", "tide-02"])
    alone = {part.clients: [(r.number, r.value) for r in part.rows] for part in parts[1:]}
    assert alone == {
        ("tide-01",): [(224, "broker.skerry.example")], ("tide-02",): [(224, "other.example")],
    }  # fmt: skip


def test_dns_records() -> None:
    lines = zone(site_from(DEMO), "tideroom", ["tide-01"])
    assert [line.split() for line in lines] == [
        ["$ORIGIN", "tide.skerry.example."],
        ["boot", "IN", "A", "10.61.8.1"],
        ["tide-01", "IN", "A", "10.61.8.21"],
        ["_tftp._udp", "IN", "SRV", "0", "0", "69", "boot"],
        ["_desk-broker._tcp", "IN", "SRV", "0", "0", "4172", "broker.skerry.example."],
        ["_ntp._udp", "IN", "SRV", "0", "0", "123", "boot"],
    ]
    with pytest.raises(ValueError, match="has no domain"):
        zone(site_from(DEMO), "library", [])


def test_refusals_say_why() -> None:
    text = DEMO.replace('dhcp = "proxy"', 'dhcp = "proxy"\nrefuse = ["02:61:09"]')
    (event,) = arrive(answers(text), discover(SYSTEM, LIB, 1), "library").events
    assert isinstance(event, Refused) and "daskel.toml" in event.reason
