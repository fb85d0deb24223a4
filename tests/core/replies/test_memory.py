"""Datagrams answered from memory: the same as if each were the first."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from daskel.core.boot.address import Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover, renewal, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, parse, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.reader import MalformedError
from daskel.core.replies.answer import Answers
from daskel.core.replies.memory import Datagrams, Decision
from daskel.core.site.layers import NOT_ASSIGNED, Assigned
from tests.conftest import DEMO, site_from

TIDE = "02:61:08:00:00:01"
BIOS, UEFI = Face.of(Firmware.BIOS), Face.of(Firmware.UEFI)
WIRE = ("tideroom",)


def fresh(assigned: Assigned = NOT_ASSIGNED) -> Datagrams:
    small = DEMO.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100 - 10.61.8.101")
    return Datagrams(Answers(site_from(small), Leases(), Ports(), assigned))


def ask(who: Datagrams, packet: Packet, now: float = 0.0) -> Decision:
    data = serialise(packet)[0]
    again = who.again(who.memory(WIRE, unicast=False), data, now)
    return again or who.receive(WIRE, data, now, unicast=False)


def taken(who: Datagrams, mac: str, face: Face, xid: int, now: float) -> list[Decision]:
    offer = ask(who, discover(face, mac, xid), now)
    if not offer.reply:
        return [offer]
    return [offer, ask(who, request(face, parse(offer.reply)), now)]


def test_the_second_boot_comes_from_memory() -> None:
    who = fresh()
    for now in (1.0, 2.0):
        taken(who, TIDE, BIOS, 7, now)
    offer, ack = taken(who, TIDE, BIOS, 8, 3.0)
    assert offer.request is ack.request is None
    assert parse(ack.reply).xid == 8
    (lease,) = ack.leases
    assert lease.expires == 3.0 + 8 * 3600
    assert who._leases.of("tideroom", TIDE) == lease
    with pytest.raises(MalformedError):
        who.receive(WIRE, b"", 4.0, unicast=False)


def test_an_assignment_for_one_boot_is_not_forgotten() -> None:
    waiting: dict[str, str] = {}
    who = fresh(Assigned(waiting, {}))
    for now in (1.0, 2.0, 3.0):
        before = taken(who, TIDE, UEFI, 7, now)[1]
    waiting["tide-01"] = "disk"
    assert taken(who, TIDE, UEFI, 7, 4.0)[1].reply != before.reply
    del waiting["tide-01"]
    assert taken(who, TIDE, UEFI, 7, 5.0)[1].reply == before.reply


MACS = st.sampled_from([TIDE, "02:61:08:00:00:0a", "02:61:08:00:00:0b", "02:61:08:00:00:0c"])
STEPS = st.lists(
    st.tuples(
        st.sampled_from(["boots", "boots", "boots", "renews", "declines", "releases", "waits"]),
        MACS,
        st.sampled_from([BIOS, UEFI, SYSTEM]),
        st.sampled_from([70, 9 * 3600]),
    ),
    min_size=10,
    max_size=60,
)


@given(STEPS)
@settings(max_examples=80, deadline=None)
def test_the_same_as_without_memory(steps: list[tuple[str, str, Face, int]]) -> None:
    with_memory, without, now = fresh(), fresh(), 0.0
    for xid, (what, mac, face, seconds) in enumerate(steps, 1):
        without._memories.clear()
        held = without._leases.of("tideroom", mac)
        address = held.address if held else IPv4Address("10.61.8.101")
        asked = discover(face, mac, xid)
        option = {53: bytes((MessageType.DECLINE,)), Code.REQUESTED_ADDRESS: address.packed}
        packets = {
            "renews": renewal(face, mac, xid, IPv4Address("10.61.8.100") + xid % 2),
            "declines": replace(asked, options={**asked.options, **option}),
            "releases": replace(asked, options={53: b"\7"}, ciaddr=address),
        }
        if what == "waits":
            now += seconds
        elif what == "boots":
            both = [taken(who, mac, face, xid, now) for who in (with_memory, without)]
            assert [plain(d) for d in both[0]] == [plain(d) for d in both[1]]
        else:
            decisions = [ask(who, packets[what], now) for who in (with_memory, without)]
            assert plain(decisions[0]) == plain(decisions[1])


def plain(decision: Decision) -> tuple[object, ...]:
    """All but how it was found."""
    return (*decision[:2], list(decision.leases), list(decision.events), decision.probe)
