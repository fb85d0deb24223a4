"""Which reply: one DHCP message in; out come the reply, the leases to keep, and what happened."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import ClassVar

from daskel.core.boot.address import (
    DECLINE_TIME,
    Lease,
    Leases,
    LeaseState,
    choose,
    offered,
    rules_of,
)
from daskel.core.boot.arguments import representatives
from daskel.core.boot.identity import by_mac, refusal
from daskel.core.boot.segments import best, find_segment
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.options import name as option_name
from daskel.core.dhcp.packet import DEFAULT_LIMIT, NOWHERE, MessageType, Packet, serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.core.dhcp.relay import described
from daskel.core.dhcp.responder import Situation, reply, situation, wanted_address
from daskel.core.history.events import (
    Addressed,
    Event,
    GivenBack,
    OtherServer,
    Refusal,
    Refused,
    Seen,
)
from daskel.core.replies.proxy import acknowledgement, heard, offer
from daskel.core.replies.reply import Question, Replies, no_boot_file
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, effective
from daskel.core.site.model import Site
from daskel.core.site.several import peers
from daskel.core.values import mac_text

_SAY_AGAIN, _MOST_NO_FILES = 60.0, 5000  # seconds; machines
_COUNT_AGAIN = 1.0  # seconds: looking through all leases for each one of a flood takes too long
DISK_BOOT = "starts from its own disk: no boot file is sent"


@dataclass
class Answer:
    """`leases` must be kept before `reply` is sent."""

    reply: Packet | None = None
    probe: IPv4Address | None = None  # ask whether somebody has it, before the reply is sent
    leases: list[Lease] = field(default_factory=list)
    events: list[Event] = field(default_factory=list)
    claims: list[Lease] = field(default_factory=list)  # to addresses that another server gives
    declined: IPv4Address | None = None  # said to be taken: true when somebody is there (`in_use`)
    repeatable: bool = True  # the same may be answered from memory when it comes again


_DECLINABLE = (LeaseState.OFFERED, LeaseState.BOUND)


class Answers:
    """Answers DHCP messages for one site. Changes `leases`, which the caller keeps."""

    def __init__(
        self, site: Site, leases: Leases, ports: Ports, assigned: Assigned = NOT_ASSIGNED
    ) -> None:
        self.site, self.leases = site, leases
        self.replies = Replies(site, ports, assigned)
        self._peers = {address for all_of in peers(site).values() for address in all_of}
        self._rules = rules_of(site)
        self._no_files: dict[str, tuple[str, float]] = {}  # by machine: what was said, and when
        self._strangers: dict[str, tuple[float, int]] = {}  # when counted, and how many since

    def receive(
        self, wire: Sequence[str], request: Packet, now: float, *, unicast: bool, pxe: bool = False
    ) -> Answer:
        """What to do about a message that came in by an interface with the segments `wire`;
        `pxe`: on port 4011."""
        place = find_segment(self.site, request, wire)
        mac = mac_text(request.chaddr)
        if place.problem:
            who = by_mac(self.site, mac)
            asks = request.op == 1 and request.message_type is MessageType.DISCOVER
            refused = Refused(who, "", place.problem, Refusal.UNKNOWN_NETWORK)
            return Answer(events=[refused] if asks else [])
        answer = Answer()
        segments: Sequence[str] = place.segments
        if len(segments) > 1:
            segments = best(self.site, segments, mac, wanted_address(request))
        for segment in segments:
            answer = self.dhcp(segment, request, now, unicast=unicast, pxe=pxe)
            if answer.reply or request.message_type is not MessageType.DISCOVER:
                break
        return answer

    def dhcp(
        self, segment: str, request: Packet, now: float, *, unicast: bool, pxe: bool = False
    ) -> Answer:
        """What to do about a message of a machine on `segment`."""
        if request.op != 1 or self.site.segments[segment].dhcp == "off":
            return Answer()
        question = self.replies.question(segment, request, now)
        meaning = situation(request, question.server, unicast=unicast)
        if meaning is None:
            return Answer()
        denied = refusal(self.site, str(question.who.mac), segment)
        if denied is not None:
            asks = meaning is Situation.DISCOVER  # once for each try
            event = Refused(question.who, segment, denied.words, denied.why)
            return Answer(events=[event] if asks else [])
        if pxe:
            return self._pxe(question)
        if self.site.segments[segment].dhcp == "proxy":
            return self._beside(question, meaning)
        return self._handlers[meaning](self, question)

    def _pxe(self, question: Question) -> Answer:
        """A question on port 4011: which boot file, and nothing else."""
        claims, events = heard(self.replies, question)
        known = self.leases.at(question.request.ciaddr)
        if self.site.segments[question.segment].dhcp == "full" or (
            known and known.mac == question.who.mac
        ):
            claims, events = [], []
        return Answer(acknowledgement(self.replies, question), events=events, claims=claims)

    def _beside(self, question: Question, meaning: Situation) -> Answer:
        """On a segment with another DHCP server."""
        if meaning is Situation.DISCOVER:
            events = [_seen(question), *self._no_file(question)]
            return Answer(offer(self.replies, question), events=events)
        if meaning is Situation.INFORM:
            return Answer(acknowledgement(self.replies, question))
        if meaning in (Situation.DECLINE, Situation.RELEASE):
            return Answer()
        claims, events = heard(self.replies, question)
        return Answer(events=events, claims=claims)

    def _discover(self, question: Question) -> Answer:
        rules, wanted = (
            self._rules[question.segment],
            question.request.address_option(Code.REQUESTED_ADDRESS),
        )
        address = choose(
            rules, self.leases, str(question.who.mac), question.fixed, wanted, question.now,
            self.site.by_mac if question.who.name else None,
        )  # fmt: skip
        events: list[Event] = [_seen(question, address)]
        if address is not None and not self._has_room(question, address):
            reason = "half of the pool is kept for machines of the site, the other half is taken"
            full = Refused(question.who, question.segment, reason, Refusal.NO_ADDRESS)
            return Answer(events=[*events, full])
        if address is None:
            reason = "its address is in use" if question.fixed else "the pool has no address left"
            full = Refused(question.who, question.segment, reason, Refusal.NO_ADDRESS)
            return Answer(events=[*events, full])
        lease = self._lease(question, address)
        held = self.leases.at(address)
        if not (held and held.state is LeaseState.BOUND and held.holds(question.now)):
            self.leases.put(offered(lease, question.now))
        owns = held and held.mac == question.who.mac and held.state is LeaseState.BOUND
        probe = None if owns and held and held.holds(question.now) else address
        events += self._no_file(question)
        offer = self.replies.make(question, MessageType.OFFER, address)
        whole = not self.replies.plan(question).file.problem
        return Answer(offer, probe, [], events, repeatable=whole)

    def _no_file(self, question: Question) -> list[Event]:
        """Why it gets no boot file: said once, with the first of its messages."""
        file, mac = self.replies.plan(question).file, str(question.who.mac)
        before, at = self._no_files.get(mac, ("", float("-inf")))
        if not file.problem or (before == file.problem and 0 <= question.now - at < _SAY_AGAIN):
            return []
        if len(self._no_files) >= _MOST_NO_FILES:
            self._no_files.clear()
        self._no_files[mac] = file.problem, question.now
        return [no_boot_file(question, file)]

    def _has_room(self, question: Question, address: IPv4Address) -> bool:
        """Machines that are not in the site share one half of the pool, so that a flood of made-up
        ones leaves the other to those that are."""
        held = self.leases.of(question.segment, str(question.who.mac))
        if question.who.name is not None or (
            held and held.address == address and held.holds(question.now)
        ):
            return True
        size = sum(part.size for part in self.site.segments[question.segment].pool)
        counted, taken = self._strangers.get(question.segment, (float("-inf"), 0))
        if not 0 <= question.now - counted < _COUNT_AGAIN:
            counted, taken = (
                question.now,
                self.leases.held_by_others(question.segment, self.site.by_mac, question.now),
            )
        has_room = taken < max(1, size // 2)
        self._strangers[question.segment] = counted, taken + has_room
        return has_room

    def in_use(self, request: Packet, address: IPv4Address, now: float) -> Answer:
        """Somebody else has an address that was to be offered: put it aside for a while."""
        lease = self.leases.at(address)
        if lease is None:
            return Answer()
        aside = Lease(address, lease.segment, lease.mac, LeaseState.DECLINED, now + DECLINE_TIME)
        self.leases.put(aside)
        who = by_mac(self.site, mac_text(request.chaddr))
        return Answer(
            leases=[aside], events=[GivenBack(who, lease.segment, address, declined=True)]
        )

    def _request(self, question: Question) -> Answer:
        """REQUEST that names this server, or comes to it alone: ACK when right, else NAK."""
        address = wanted_address(question.request)
        if address is None:
            return Answer()
        rules = self._rules[question.segment]
        if not rules.allowed(address, question.fixed):
            return self._nak(question, f"{address} is not its address", Refusal.WRONG_NETWORK)
        if not self.leases.free_for(address, str(question.who.mac), question.now):
            return self._nak(question, f"{address} belongs to another machine", Refusal.NO_ADDRESS)
        before = self.leases.at(address)
        if not self._has_room(question, address):
            reason = "half of the pool is kept for machines of the site, the other half is taken"
            return self._nak(question, reason, Refusal.NO_ADDRESS)
        lease = self._lease(question, address)
        renewed = bool(before and before.state is LeaseState.BOUND and before.holds(question.now))
        self.leases.put(lease)
        answer = self.replies.make(question, MessageType.ACK, address)
        seconds = self.site.segments[question.segment].lease
        file = self.replies.plan(question).file
        boots = question.boot is not None
        event = Addressed(
            question.who, question.segment, address, seconds, file.path, renewed, boots
        )
        events = [event, *self._no_file(question)]
        return Answer(answer, None, [lease], events, repeatable=not file.problem)

    def _reboot(self, question: Question) -> Answer:
        """REQUEST of a client that remembers an address (RFC 2131 4.3.2, init-reboot).

        On another network than it remembers: NAK. Nothing known about it: silence, since
        another server may know it.
        """
        address = wanted_address(question.request)
        if address is not None and address not in self.site.segments[question.segment].network:
            return self._nak(question, f"{address} is not on this network", Refusal.WRONG_NETWORK)
        if (
            question.who.name is None
            and self.leases.of(question.segment, str(question.who.mac)) is None
        ):
            return Answer()
        return self._request(question)

    def _elsewhere(self, question: Question) -> Answer:
        """The client took another server's offer: what was offered here is free again."""
        lease = self.leases.of(question.segment, str(question.who.mac))
        if lease and lease.state is LeaseState.OFFERED:
            self.leases.put(_ended(lease, question.now))
        chosen = question.request.address_option(Code.SERVER_ID)
        if chosen is None or question.request.message_type is not MessageType.REQUEST:
            return Answer()
        if chosen in self._peers:
            return Answer()
        event = OtherServer(question.who, question.segment, chosen, "gave this machine an address")
        return Answer(events=[event])

    def _decline(self, question: Question) -> Answer:
        address = question.request.address_option(Code.REQUESTED_ADDRESS)
        lease = self.leases.at(address) if address else None
        if lease is None or lease.mac != question.who.mac or lease.state not in _DECLINABLE:
            return Answer()
        return Answer(declined=lease.address)

    def _release(self, question: Question) -> Answer:
        lease = self.leases.at(question.request.ciaddr)
        if lease is None or lease.mac != question.who.mac or lease.state is not LeaseState.BOUND:
            return Answer()
        ended = _ended(lease, question.now)
        self.leases.put(ended)
        event = GivenBack(question.who, question.segment, lease.address, declined=False)
        return Answer(leases=[ended], events=[event])

    def _inform(self, question: Question) -> Answer:
        return Answer(self.replies.make(question, MessageType.ACK, None))

    def _nak(self, question: Question, reason: str, why: Refusal) -> Answer:
        options = {int(Code.MESSAGE): reason.encode()}
        nak = reply(question.request, MessageType.NAK, question.server, options)
        return Answer(nak, events=[Refused(question.who, question.segment, reason, why)])

    def _lease(self, question: Question, address: IPv4Address) -> Lease:
        before = self.leases.of(question.segment, str(question.who.mac))
        architecture = (
            question.boot.architecture if question.boot else before.architecture if before else None
        )
        expires = question.now + self.site.segments[question.segment].lease
        mac = str(question.who.mac)
        return Lease(address, question.segment, mac, LeaseState.BOUND, expires, architecture)

    # Not of one object: that would lie in a circle, and its site wait for Python's collector
    _handlers: ClassVar[Mapping[Situation, Callable[[Answers, Question], Answer]]] = {
        Situation.DISCOVER: _discover,
        Situation.SELECTING: _request,
        Situation.INIT_REBOOT: _reboot,
        Situation.RENEWING: _request,
        Situation.REBINDING: _reboot,
        Situation.ELSEWHERE: _elsewhere,
        Situation.DECLINE: _decline,
        Situation.RELEASE: _release,
        Situation.INFORM: _inform,
    }


def check_sizes(site: Site, ports: Ports) -> list[Finding]:
    """Options that a client gets only when it accepts messages of more than 576 bytes."""
    answers = Answers(site, Leases(), ports)
    findings: dict[tuple[str, ...], Finding] = {}
    for name in representatives(site, None):
        found = effective(site, name)
        if found.segment is None or found.segment.value not in site.segments:
            continue
        packet = discover(Face.of(Firmware.BIOS), found.mac.value, 1)
        reply = answers.dhcp(found.segment.value, packet, 0.0, unicast=False).reply
        dropped = serialise(reply, DEFAULT_LIMIT)[1] if reply else ()
        if dropped:
            names = tuple(option_name(code) for code in dropped)
            problem = (
                f"a client that accepts 576 bytes only would not get: {', '.join(names)} ({name})"
            )
            remedy = "shorten or remove options; those that came last are left out first"
            place = site.origin("client", name)
            findings.setdefault(names, Finding(Severity.WARNING, place, problem, remedy))
    return list(findings.values())


def _seen(question: Question, offered: IPv4Address | None = None) -> Seen:
    firmware = question.boot.described if question.boot else None
    vendor = question.request.options.get(Code.VENDOR_CLASS, b"").decode("ascii", "replace")
    architecture = question.boot.architecture if question.boot else None
    machine_id = (
        question.boot.machine_id.hex() if question.boot and any(question.boot.machine_id) else ""
    )
    relay = described(question.request) if question.request.giaddr != NOWHERE else ""
    return Seen(
        question.who, question.segment, firmware, vendor, architecture, machine_id, relay, offered
    )


def _ended(lease: Lease, now: float) -> Lease:
    return Lease(
        lease.address, lease.segment, lease.mac, LeaseState.RELEASED, now, lease.architecture
    )
