"""Made-up machines take no more than their share of a pool, by whatever way; those of the site
always find an address, and keep the one that they have."""

from __future__ import annotations

import os
import random
from collections.abc import Callable, Iterator
from dataclasses import replace
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import SYSTEM, discover, renewal, request
from daskel.core.dhcp.packet import MessageType, Packet, serialise
from daskel.core.reader import MalformedError
from daskel.core.replies.answer import Answer, Answers
from daskel.core.replies.memory import Datagrams
from tests.conftest import DEMO, site_from
from tests.hostile.conftest import Figure

POOL = [IPv4Address("10.61.8.100") + n for n in range(8)]
SERVER = IPv4Address("10.61.8.1")
KNOWN = [f"02:61:08:00:00:{n:02x}" for n in range(2, 6)]  # of the site, without a fixed address
SMALL = DEMO.replace("10.61.8.100 - 10.61.8.199", "10.61.8.100 - 10.61.8.107")
ROUNDS = 300
MORE = int(os.environ.get("HOSTILE", "1"))


def answers() -> Answers:
    return Answers(site_from(SMALL), Leases(), Ports())


def ask(who: Answers, packet: Packet, now: float) -> Answer:
    answer = who.receive(["tideroom"], packet, now, unicast=False)
    if answer.declined:  # the wire says that somebody is there: the worst for the pool
        who.in_use(packet, answer.declined, now)
    return answer


def mac(number: int) -> str:
    return f"02:61:ff:{number >> 16 & 255:02x}:{number >> 8 & 255:02x}:{number & 255:02x}"


def selecting(machine: str, address: IPv4Address) -> Packet:
    given = Packet(2, 1, discover(SYSTEM, machine, 1).chaddr, {54: SERVER.packed}, yiaddr=address)
    return request(SYSTEM, given)


def decline(machine: str, address: IPv4Address) -> Packet:
    packet = discover(SYSTEM, machine, 1)
    kind = {53: bytes((MessageType.DECLINE,)), 50: address.packed, 54: SERVER.packed}
    return replace(packet, options=kind)


def offers(who: Answers, number: int, now: float) -> None:
    ask(who, discover(SYSTEM, mac(number), 1), now)


def requests(who: Answers, number: int, now: float) -> None:
    ask(who, selecting(mac(number), POOL[number % len(POOL)]), now)


def renewals(who: Answers, number: int, now: float) -> None:
    packet = renewal(SYSTEM, mac(number), 1, POOL[number % len(POOL)])
    who.receive(["tideroom"], packet, now, unicast=True)


def declines(who: Answers, number: int, now: float) -> None:
    answer = ask(who, discover(SYSTEM, mac(number), 1), now)
    if answer.reply:
        ask(who, selecting(mac(number), answer.reply.yiaddr), now)
        ask(who, decline(mac(number), answer.reply.yiaddr), now)


def relays(who: Answers, number: int, now: float) -> None:
    """A relay agent that nobody named."""
    for packet in (discover(SYSTEM, mac(number), 1), selecting(mac(number), POOL[number % 8])):
        made_up = replace(packet, giaddr=IPv4Address("10.61.8.200") + number % 50)
        assert ask(who, made_up, now).reply is None


WAYS = [offers, requests, renewals, declines, relays]


@pytest.mark.parametrize("way", WAYS, ids=lambda way: str(way.__name__))
def test_strangers_have_half_of_the_pool(way: Callable[[Answers, int, float], None]) -> None:
    who = answers()
    for number in range(ROUNDS):
        way(who, number, number / 100)
        held = who.leases.held_by_others("tideroom", who.site.by_mac, number / 100)
        assert held <= len(POOL) // 2
    for machine in KNOWN:
        offer = ask(who, discover(SYSTEM, machine, 1), 5.0).reply
        assert offer and ask(who, request(SYSTEM, offer), 5.0).reply, machine


def test_all_of_it_at_once_in_any_order(figure: Figure) -> None:
    chance, who, now = random.Random(61), answers(), 0.0
    first = ask(who, discover(SYSTEM, KNOWN[0], 1), now).reply
    assert first and ask(who, request(SYSTEM, first), now).reply
    for number in range(3000 * MORE):
        now += chance.random()
        chance.choice(WAYS)(who, number, now)
        mine = who.leases.of("tideroom", KNOWN[0])
        assert mine and mine.address == first.yiaddr
        if number % 500 == 0:
            for machine in KNOWN:
                offer = ask(who, discover(SYSTEM, machine, 1), now).reply
                assert offer and ask(who, request(SYSTEM, offer), now).reply
    figure("DHCP of made-up machines and relay agents", 3000 * MORE,
           "machines of the site always found an address, and kept theirs")  # fmt: skip


def test_what_a_machine_once_declined_does_not_cost_it_its_lease() -> None:
    """Also in the order in which a store gives them back."""
    machine = KNOWN[0]
    aside = Lease(POOL[0], "tideroom", machine, LeaseState.DECLINED, 9e9)
    mine = Lease(POOL[1], "tideroom", machine, LeaseState.BOUND, 9e9)
    others = Lease(POOL[0], "tideroom", KNOWN[1], LeaseState.BOUND, 9e9)
    for order in ((aside, mine), (mine, aside), (aside, mine, aside), (mine, aside, others)):
        assert Leases(order).of("tideroom", machine) == mine


def of_nobody() -> Iterator[bytes]:
    for first in (
        "00:00:00:00:00:00",
        "ff:ff:ff:ff:ff:ff",
        "01:00:5e:00:00:01",
        "33:33:00:00:00:01",
    ):
        packet = discover(SYSTEM, KNOWN[0], 1)
        data = bytes.fromhex(first.replace(":", ""))
        yield serialise(replace(packet, chaddr=data.ljust(16, b"\0")))[0]


@pytest.mark.parametrize("data", list(of_nobody()))
def test_addresses_that_no_machine_has_are_malformed(data: bytes) -> None:
    with pytest.raises(MalformedError, match="not the address of a machine"):
        Datagrams(answers()).receive(("tideroom",), data, 0.0, unicast=False)
