"""DHCP datagrams: what is to be done about each, from memory when it repeats an earlier one.

At every boot a machine sends the same messages, but for their transaction number and the seconds
since it began. The reply to one is right again for as long as the site is the same and the
machine still holds its address. What is new is decided by `answer`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from typing import NamedTuple

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.dhcp.packet import MessageType, Packet, parse, serialise
from daskel.core.dhcp.responder import Destination, destination
from daskel.core.history.events import Addressed, Event
from daskel.core.reader import MalformedError
from daskel.core.replies.answer import Answer, Answers

_GROUP = 1  # the bit of multicast addresses, IEEE 802 section 8.2
_MOST = 20_000  # messages remembered, of 1 KiB each


class Decision(NamedTuple):
    """`leases` must be kept before `reply` is sent."""

    reply: bytes = b""
    to: Destination | None = None
    leases: Sequence[Lease] = ()
    events: Sequence[Event] = ()
    probe: IPv4Address | None = None  # ask whether somebody has it, before the reply is sent
    request: Packet | None = None  # None when it was answered from memory
    dropped: tuple[int, ...] = ()  # options that did not fit
    claims: Sequence[Lease] = ()  # to addresses that another server gives
    declined: IPv4Address | None = None  # see Answer


@dataclass(frozen=True, slots=True)
class _Known:
    """A reply that was given, and what it depends on."""

    decision: Decision
    lease: Lease
    seconds: float | None  # by which an ACK makes the lease longer
    name: str
    once: str | None  # the assignment for one boot


class Datagrams:
    """Changes the leases of `answers`, which the caller keeps."""

    def __init__(self, answers: Answers) -> None:
        self._answers, self._leases = answers, answers.leases
        self._known: dict[tuple[object, ...], _Known] = {}

    def receive(
        self, wire: tuple[str, ...], data: bytes, now: float, *, unicast: bool, pxe: bool = False
    ) -> Decision:
        """What to do about a datagram from the network, see `Answers.receive`. Raises
        MalformedError."""
        asked = (data[:4], data[10:], wire, unicast, pxe)
        known = self._known.get(asked)
        if known is not None:
            held = self._leases.of(known.lease.segment, known.lease.mac)
            if held is not None and self._holds(known, held, now):
                return self._again(known, data[4:8], now)
        request = parse(data)
        if request.chaddr[0] & _GROUP or not any(request.chaddr[:6]):
            mac = request.chaddr[:6].hex(":")
            raise MalformedError(f"DHCP message: {mac} is not the address of a machine")
        answer = self._answers.receive(wire, request, now, unicast=unicast, pxe=pxe)
        decision = decided(request, answer)
        if (lease := self._repeatable(answer)) and (name := self._site_name(lease)):
            seconds = lease.expires - now if answer.leases else None
            if len(self._known) >= _MOST:
                self._known.clear()
            once = self._answers.replies.assigned.waiting.get(name)
            self._known[asked] = _Known(_as_again(decision), lease, seconds, name, once)
        return decision

    def _holds(self, known: _Known, held: Lease, now: float) -> bool:
        """The machine has the same address as when it was answered before, and boots the same."""
        before = known.lease
        return (
            held.address == before.address
            and held.state is LeaseState.BOUND
            and held.architecture == before.architecture
            and now < held.expires
            and self._answers.replies.assigned.waiting.get(known.name) == known.once
        )

    def _again(self, known: _Known, xid: bytes, now: float) -> Decision:
        decision, before = known.decision, known.lease
        data = decision.reply
        leases: tuple[Lease, ...] = ()
        if known.seconds is not None:
            lease = Lease(
                before.address, before.segment, before.mac, LeaseState.BOUND,
                now + known.seconds, before.architecture,
            )  # fmt: skip
            self._leases.put(lease)
            leases = (lease,)
        return Decision(data[:4] + xid + data[8:], decision.to, leases, decision.events)

    def _repeatable(self, answer: Answer) -> Lease | None:
        """The lease that an OFFER or ACK of an address stands on, when the machine holds it."""
        if answer.reply is None or answer.probe is not None or not answer.repeatable:
            return None
        if answer.reply.message_type not in (MessageType.OFFER, MessageType.ACK):
            return None
        lease = self._leases.at(answer.reply.yiaddr)
        return lease if lease and lease.state is LeaseState.BOUND else None

    def _site_name(self, lease: Lease) -> str | None:
        """Only machines of the site are remembered: made-up ones do not come again."""
        return self._answers.site.by_mac.get(lease.mac)


def decided(request: Packet, answer: Answer) -> Decision:
    """An answer as it leaves."""
    if answer.reply is None:
        return Decision(
            b"", None, answer.leases, answer.events, answer.probe, request, (), answer.claims,
            answer.declined,
        )  # fmt: skip
    reply, dropped = serialise(answer.reply, request.limit)
    to = destination(request, answer.reply)
    return Decision(
        reply, to, answer.leases, answer.events, answer.probe, request, dropped, answer.claims
    )


def _as_again(decision: Decision) -> Decision:
    """The same for a machine that comes again: it renews."""
    events = [replace(e, renewed=True) if isinstance(e, Addressed) else e for e in decision.events]
    return Decision(decision.reply, decision.to, (), events)
