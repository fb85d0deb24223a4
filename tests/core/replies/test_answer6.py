"""Which reply to which DHCPv6 message: every type, firmware that was captured, and no address for
two machines."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from ipaddress import IPv4Address, IPv6Address
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, rule

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.wire import Ports
from daskel.core.dhcp6.client_messages import link_local, request, solicit
from daskel.core.dhcp6.message import Code, Message, Status, Type, granted, option, parse
from daskel.core.history.events import Addressed, GivenBack, Refusal, Refused, Seen
from daskel.core.reader import MalformedError
from daskel.core.replies.answer6 import Answer6, Answers6, identifier
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from tests.conftest import site_from

SITE = """format = 1
[site]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
domain = "tide.skerry.example"
network6 = "fd61:8::/64"
server6 = "fd61:8::1"
pool6 = ["fd61:8::100 - fd61:8::107"]
relays6 = ["fd61:1::fe"]
refuse = ["02:61:99"]
[loadout.notebook]
kernel = "notebook/vmlinuz"
[loadout.disk]
boot = "local"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
address6 = "fd61:8::22"
[client.tide-03]
mac = "02:61:08:00:00:03"
segment = "tideroom"
boot = "disk"
"""
ONE, TWO, THREE, STRANGER = (f"02:61:08:00:00:0{n}" for n in (1, 2, 3, 9))
SERVER = IPv6Address("fd61:8::1")
OURS, OTHERS = identifier(SERVER), b"\0\3\0\1\x02\x61\xff\0\0\1"
PXE, HTTP = (7, "PXEClient:Arch:00007:UNDI:003000"), (16, "HTTPClient:Arch:00016:UNDI:003000")
IAID = 0x08000001  # that `solicit` makes of ONE


@cache
def site(text: str) -> Site:
    return over_ipv6(site_from(text))


def answers(text: str = SITE) -> Answers6:
    return Answers6(site(text), Leases(), Ports())


def ask(
    who: Answers6, data: bytes, mac: str = ONE, now: float = 0.0, sender: IPv6Address | None = None
) -> Answer6:
    return who.receive(["tideroom"], parse(data), sender or link_local(mac), now)


def take(who: Answers6, mac: str, now: float = 0.0, firmware: tuple[int, str] = PXE) -> Message:
    """A whole exchange; its REPLY."""
    offer = parse(ask(who, solicit(mac, *firmware), mac, now).reply)
    assert offer.type is Type.ADVERTISE and offer.address
    told = parse(ask(who, request(mac, *firmware, offer), mac, now).reply)
    assert told.type is Type.REPLY and told.address == offer.address
    return told


def says(kind: Type, *options: bytes, mac: str = ONE) -> bytes:
    """Of a system, whose identifier says nothing but its hardware address."""
    own = option(Code.CLIENT_ID, b"\0\3\0\1" + bytes.fromhex(mac.replace(":", "")))
    return bytes((kind, 0, 0, 9)) + own + b"".join(options)


def has(*addresses: IPv6Address | None, iaid: int = IAID) -> bytes:
    return granted(iaid, [(a, 0) for a in addresses if a])


def status_of(reply: bytes) -> int | None:
    """Of the message, or of its first identity association."""
    message = parse(reply)
    inside = message.options.get(Code.IA_NA, b"")[12:]
    for data in (message.options.get(Code.STATUS), inside[4:] if inside[:2] == b"\0\x0d" else None):
        if data:
            return int.from_bytes(data[:2], "big")
    return None


def test_a_boot_over_tftp_and_one_over_http() -> None:
    who = answers()
    first = take(who, ONE)
    assert first.boot_file == "tftp://[fd61:8::1]/loader/uefi-x64.efi"
    assert not first.vendor_class, "with PXEClient, firmware wants port 4011"
    again = take(who, ONE, 60.0, HTTP)
    assert again.boot_file == "http://[fd61:8::1]/loader/uefi-x64.efi"
    assert again.vendor_class == b"HTTPClient" and again.address == first.address
    lease = who.leases.of("tideroom", ONE, IAID)
    assert lease and lease.architecture == 16 and lease.expires == 60.0 + 8 * 3600


def test_what_is_told() -> None:
    who = answers()
    seen, *rest = ask(who, solicit(ONE, *PXE)).events
    assert isinstance(seen, Seen) and seen.ipv6 and seen.architecture == 7 and not rest
    offer = parse(ask(who, solicit(ONE, *PXE)).reply)
    assert offer.options[Code.PREFERENCE] == b"\xff"
    told = ask(who, request(ONE, *PXE, offer))
    (event,) = told.events
    assert isinstance(event, Addressed) and not event.renewed and event.firmware
    assert told.leases == [who.leases.at(cast(IPv6Address, offer.address))]
    plain = parse(ask(who, says(Type.SOLICIT, has(), option(Code.PARAMETERS, b"\0\x18"))).reply)
    assert not plain.boot_file and Code.PREFERENCE not in plain.options
    assert plain.options[Code.DOMAINS] == b"\4tide\6skerry\7example\0"


def test_a_machine_that_starts_from_its_disk_gets_an_address_alone() -> None:
    assert not take(answers(), THREE).boot_file


def test_firmware_has_two_addresses_at_once_and_gives_one_back() -> None:
    """As OVMF does: its plain exchange beside the one that boots (ipv6-pxe-grub-own-image)."""
    who = answers()
    boots = take(who, ONE)
    offer = parse(ask(who, says(Type.SOLICIT, has(iaid=7))).reply)
    server = option(Code.SERVER_ID, OURS)
    assert offer.address not in (None, boots.address)
    assert parse(ask(who, says(Type.REQUEST, server, has(offer.address, iaid=7))).reply).address
    gone = ask(who, says(Type.RELEASE, server, has(offer.address, iaid=7)))
    assert isinstance(gone.events[0], GivenBack) and not gone.events[0].declined
    assert who.leases.machine_at(cast(IPv6Address, boots.address), 1.0) == ONE
    assert who.leases.machine_at(cast(IPv6Address, offer.address), 1.0) is None


def test_a_fixed_address_is_for_one_association_at_a_time() -> None:
    who = answers()
    fixed = IPv6Address("fd61:8::22")
    assert take(who, TWO).address == fixed
    beside = parse(ask(who, says(Type.SOLICIT, has(iaid=7), mac=TWO), TWO, 1.0).reply)
    assert beside.address in who.site.segments["tideroom"].network and beside.address != fixed
    system = parse(ask(who, says(Type.SOLICIT, has(iaid=7), mac=TWO), TWO, 90.0).reply)
    assert system.address == fixed, "the firmware has gone"
    assert take(who, ONE).address != fixed


SERVED = option(Code.SERVER_ID, OURS)
ELSEWHERE = option(Code.SERVER_ID, OTHERS)
FAR = IPv6Address("fd61:77::1")
CASES: list[tuple[str, Callable[[IPv6Address], bytes], Type | None, int | None]] = [
    ("request", lambda a: says(Type.REQUEST, SERVED, has(a)), Type.REPLY, None),
    ("request elsewhere", lambda a: says(Type.REQUEST, ELSEWHERE, has(a)), None, None),
    ("request without a server", lambda a: says(Type.REQUEST, has(a)), None, None),
    ("request of another network", lambda _: says(Type.REQUEST, SERVED, has(FAR)), Type.REPLY, Status.NOT_ON_LINK),
    ("renew", lambda a: says(Type.RENEW, SERVED, has(a)), Type.REPLY, None),
    ("renew elsewhere", lambda a: says(Type.RENEW, ELSEWHERE, has(a)), None, None),
    ("renew of nothing", lambda _: says(Type.RENEW, SERVED, has(iaid=99)), Type.REPLY, Status.NO_BINDING),
    ("rebind", lambda a: says(Type.REBIND, has(a)), Type.REPLY, None),
    ("rebind of what another server may know", lambda a: says(Type.REBIND, has(a + 1, iaid=99)), None, None),
    ("confirm", lambda a: says(Type.CONFIRM, has(a)), Type.REPLY, Status.SUCCESS),
    ("confirm of another network", lambda a: says(Type.CONFIRM, has(a, FAR)), Type.REPLY, Status.NOT_ON_LINK),
    ("confirm of nothing", lambda _: says(Type.CONFIRM, has()), None, None),
    ("release", lambda a: says(Type.RELEASE, SERVED, has(a)), Type.REPLY, Status.SUCCESS),
    ("release elsewhere", lambda a: says(Type.RELEASE, ELSEWHERE, has(a)), None, None),
    ("decline", lambda a: says(Type.DECLINE, SERVED, has(a)), Type.REPLY, Status.SUCCESS),
    ("information", lambda _: says(Type.INFORMATION_REQUEST), Type.REPLY, None),
    ("information elsewhere", lambda _: says(Type.INFORMATION_REQUEST, ELSEWHERE), None, None),
    ("a reply", lambda _: says(Type.REPLY), None, None),
]  # fmt: skip


@pytest.mark.parametrize(("message", "kind", "said"), [case[1:] for case in CASES], ids=[c[0] for c in CASES])  # fmt: skip
def test_a_message(message: Callable[[IPv6Address], bytes], kind: Type | None, said: int | None) -> None:  # fmt: skip
    who = answers()
    address = take(who, ONE).address
    assert address
    answer = ask(who, message(address), now=10.0)
    assert (parse(answer.reply).type if answer.reply else None) is kind
    if answer.reply:
        assert status_of(answer.reply) == said
        assert parse(answer.reply).options[Code.SERVER_ID] == OURS


def test_what_is_not_its_address_is_taken_back() -> None:
    """A lifetime of 0 ends an address at once (RFC 8415 18.3.4)."""
    who = answers()
    address = cast(IPv6Address, take(who, ONE).address)
    told = parse(ask(who, says(Type.RENEW, SERVED, has(address, FAR)), now=1.0).reply)
    given = told.options[Code.IA_NA][12:]
    lifetimes = [given[i + 24 : i + 28] for i in (0, 28)]
    assert lifetimes == [(8 * 3600).to_bytes(4, "big"), bytes(4)]
    plain = parse(ask(who, says(Type.SOLICIT, has(iaid=7), option(14, b""))).reply).address
    ask(who, says(Type.RELEASE, SERVED, has(plain, iaid=7)), now=2.0)
    told = parse(ask(who, says(Type.RENEW, SERVED, has(plain, iaid=7)), now=3.0).reply)
    assert (told.address, told.lease) == (plain, 0)


def test_each_boot_has_another_number_and_the_same_address() -> None:
    """OVMF makes its association's number anew at every boot, and gives its address back to the
    boot loader and system that it starts."""
    who = answers()
    firmware = (Code.ARCHITECTURE, b"\0\7"), (Code.VENDOR_CLASS, b"\0\0\1\x57\0\x09PXEClient")
    more = [option(code, value) for code, value in firmware]
    got = []
    for boot in range(20):
        now = boot * 300.0
        offer = parse(ask(who, says(Type.SOLICIT, has(iaid=boot), *more), now=now).reply)
        asked = says(Type.REQUEST, SERVED, has(offer.address, iaid=boot), *more)
        got.append(parse(ask(who, asked, now=now).reply).address)
        gone = ask(who, says(Type.RELEASE, SERVED, has(offer.address, iaid=boot)), now=now + 1)
        assert status_of(gone.reply) == Status.SUCCESS and not gone.events
    assert len(set(got)) == 1
    assert who.leases.machine_at(cast(IPv6Address, got[0]), now + 1000.0) == ONE
    assert len(who.leases.all()) == 1


@pytest.mark.parametrize("rapid", [True, False])
def test_two_associations_of_one_message(rapid: bool) -> None:
    who = answers()
    wanted = IPv6Address("fd61:8::105")
    both, more = (has(wanted, iaid=1), has(wanted, iaid=2)), [option(14, b"")] if rapid else []
    offer = ask(who, says(Type.SOLICIT, *both, *more))
    answer = offer if rapid else ask(who, says(Type.REQUEST, SERVED, *both))
    assert len({lease.address for lease in answer.leases}) == 2


def test_one_machine_has_few_addresses() -> None:
    who = answers()
    told = [ask(who, says(Type.SOLICIT, has(iaid=n), option(14, b""))).reply for n in range(8)]
    assert [parse(reply).address is None for reply in told] == [False] * 4 + [True] * 4
    later = ask(who, says(Type.SOLICIT, has(iaid=9), option(14, b"")), now=100.0)
    assert parse(later.reply).address and len(who.leases.associations("tideroom", ONE, 100.0)) == 4


def test_rapid_commit() -> None:
    who = answers()
    asked = says(Type.SOLICIT, has(), option(Code.RAPID_COMMIT, b""))
    answer = ask(who, asked)
    told = parse(answer.reply)
    assert told.type is Type.REPLY and told.options[Code.RAPID_COMMIT] == b""
    assert [lease.address for lease in answer.leases] == [told.address]


def test_a_declined_address_is_not_given_again() -> None:
    who = answers()
    address = cast(IPv6Address, take(who, ONE).address)
    assert not ask(who, says(Type.RELEASE, ELSEWHERE, has(address))).reply
    (named,) = ask(who, says(Type.DECLINE, SERVED, has(address)), now=1.0).declined
    assert who.in_use(named, 1.0).leases[0].state is LeaseState.DECLINED
    assert take(who, ONE, 2.0).address != address
    stolen = ask(who, says(Type.DECLINE, SERVED, has(address), mac=TWO), TWO, 3.0)
    assert not stolen.declined, "another machine's"


def test_temporary_addresses_and_prefixes_are_refused() -> None:
    other = option(Code.IA_TA, bytes(4)) + option(Code.IA_PD, bytes(12))
    told = parse(ask(answers(), says(Type.SOLICIT, has(), other)).reply)
    assert told.address
    assert told.options[Code.IA_TA][8:10] == Status.NO_ADDRESSES.to_bytes(2, "big")
    assert told.options[Code.IA_PD][16:18] == Status.NO_PREFIXES.to_bytes(2, "big")


# --- who asks ---


def relayed(inside: bytes, link: str = "fd61:8::fe", *, hardware: str = "", hops: int = 1) -> bytes:
    for _ in range(hops):
        more = option(79, b"\0\1" + bytes.fromhex(hardware.replace(":", ""))) if hardware else b""
        head = bytes((12, 0)) + IPv6Address(link).packed + IPv6Address("fe80::7").packed
        inside = head + option(18, b"port 7") + more + option(Code.RELAYED, inside)
        link = "::"
    return inside


RELAY = IPv6Address("fd61:1::fe")


def test_through_relay_agents() -> None:
    who = answers()
    for hops in (1, 2):
        asked = relayed(solicit(ONE, *PXE), hops=hops)
        told = ask(who, asked, sender=RELAY).reply
        back = parse(told)
        assert back.address and [r.interface for r in back.relays] == [b"port 7"] * hops
        assert told[0] == 13
    assert not ask(who, asked, sender=RELAY + 1).reply, "not among the relays of its network"
    (refused,) = ask(who, asked, sender=RELAY + 1).events
    assert isinstance(refused, Refused) and refused.why is Refusal.UNKNOWN_NETWORK
    assert not ask(who, relayed(solicit(ONE, *PXE), "fd61:9::fe"), sender=RELAY).reply


@pytest.mark.parametrize(
    ("identifier", "sender", "hardware", "expected"),
    [
        (b"\0\3\0\1\2\x61\x08\0\0\1", "fe80::7", "", ONE),
        (b"\0\1\0\1\1\2\3\4\2\x61\x08\0\0\1", "fe80::7", "", ONE),
        (b"\0\4" + bytes(16), str(link_local(TWO)), "", TWO),
        (b"\0\3\0\1\2\x61\xff\0\0\1", str(link_local(TWO)), "", TWO),
        (b"\0\3\0\1\2\x61\x08\0\0\1", "fe80::61:ffff:fe00:1", "", ONE),
        (b"\0\4" + bytes(16), "fe80::7", TWO, TWO),
        (b"\0\4" + bytes(16), "fe80::7", "", None),
        (b"", "fe80::7", "", None),
    ],
)
def test_who_it_is(identifier: bytes, sender: str, hardware: str, expected: str | None) -> None:
    """A relay agent's word counts most, then the address; but a machine of the site is preferred
    to one that nobody knows, as where a docking station has the cable."""
    asked = bytes((Type.SOLICIT, 0, 0, 1)) + option(Code.CLIENT_ID, identifier) + has()
    source = IPv6Address(sender)
    if hardware:
        asked, source = relayed(asked, hardware=hardware), RELAY
    events = ask(answers(), asked, sender=source).events
    assert [event.who.mac for event in events[:1]] == ([expected] if expected else [])


def test_unknown_machines_take_half_of_the_pool() -> None:
    who = answers()
    got = []
    for n in range(8):
        mac = f"02:61:ff:00:00:{n:02x}"
        offer = parse(ask(who, solicit(mac, *PXE), mac).reply)
        if offer.address:
            got.append(take(who, mac).address)
    assert len(set(got)) == 4
    assert take(who, ONE).address
    refused = ask(who, solicit("02:61:99:00:00:01", *PXE), "02:61:99:00:00:01")
    assert not refused.reply and isinstance(refused.events[0], Refused)


def test_without_a_pool_another_server_answers() -> None:
    text = SITE.replace('pool6 = ["fd61:8::100 - fd61:8::107"]\n', "")
    assert not ask(answers(text), solicit(ONE, *PXE)).reply


def test_machines_that_make_their_own_addresses() -> None:
    who = answers(SITE.replace('["fd61:8::100 - fd61:8::107"]', '"slaac"'))
    told = parse(ask(who, says(Type.INFORMATION_REQUEST, option(Code.PARAMETERS, b"\0\x3b"))).reply)
    assert told.address is None
    assert str(take(who, ONE).address).startswith("fd61:8::1:"), "firmware wants one all the same"


# --- whatever comes ---


@given(st.binary(max_size=300))
@settings(max_examples=300)
def test_any_bytes(data: bytes) -> None:
    for begin in (b"", bytes((1, 0, 0, 1)), says(Type.SOLICIT), relayed(b"")[:34]):
        try:
            message = parse(begin + data)
        except MalformedError:
            continue
        answer = answers().receive(["tideroom"], message, link_local(ONE), 0.0)
        if answer.reply:
            parse(answer.reply)


class Exchanges(RuleBasedStateMachine):
    """Whatever machines say, none is told an address that another one holds."""

    def __init__(self) -> None:
        super().__init__()
        self.who, self.now = answers(), 0.0
        self.told: dict[IPv6Address, tuple[str, int, float]] = {}

    @rule(
        mac=st.sampled_from([ONE, TWO, THREE, STRANGER, "02:61:ff:00:00:02"]),
        kind=st.sampled_from([Type.REQUEST, Type.RENEW, Type.REBIND, Type.RELEASE, Type.SOLICIT]),
        last=st.integers(0, 9), iaid=st.integers(1, 2), passes=st.sampled_from([0.0, 10.0, 30_000.0]),
        rapid=st.booleans(),
    )  # fmt: skip
    def says(self, **w: Any) -> None:
        self.now += w["passes"]
        address, mac, iaid = IPv6Address("fd61:8::100") + w["last"], w["mac"], w["iaid"]
        more = (option(Code.RAPID_COMMIT, b""),) if w["rapid"] else ()
        server = () if w["kind"] in (Type.REBIND, Type.SOLICIT) else (SERVED,)
        data = says(w["kind"], *server, has(address, iaid=iaid), *more, mac=mac)
        answer = ask(self.who, data, mac, self.now)
        for lease in answer.leases:
            assert self.who.leases.at(lease.address) == lease
        told = parse(answer.reply) if answer.reply else None
        if w["kind"] is Type.RELEASE:
            if self.told.get(address, ("", 0, 0.0))[:2] == (mac, iaid):
                self.told.pop(address)
        elif told and told.type is Type.REPLY and told.address and told.lease:
            owner = self.told.get(told.address)
            assert owner is None or owner[0] == mac or owner[2] <= self.now
            self.told[told.address] = mac, iaid, self.now + told.lease


TestExchanges = Exchanges.TestCase
TestExchanges.settings = settings(max_examples=60, stateful_step_count=40)


def test_leases_of_both_kinds_are_kept_apart() -> None:
    four = Lease(IPv4Address("10.61.8.100"), "tideroom", ONE, LeaseState.BOUND, 9.0)
    who = answers()
    who.leases.put(four)
    six = take(who, ONE).address
    assert who.leases.of("tideroom", ONE) == four
    assert who.leases.of("tideroom", ONE, IAID) == who.leases.at(cast(IPv6Address, six))
