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
_MOST, _EACH = 20_000, 6  # messages remembered, of 1 KiB each: at least, and for each client
_XID, _REST = slice(4, 8), slice(10, None)  # of a message: its number, and what follows `secs`


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


@dataclass(slots=True)
class Known:
    """A reply that was given, in front of and behind its transaction number, and what it depends
    on."""

    asked: bytes  # how the question began
    before: bytes
    after: bytes
    to: Destination | None
    events: Sequence[Event]
    lease: Lease
    held: Lease  # the one that was looked at last
    seconds: float | None  # by which an ACK makes the lease longer
    name: str
    once: str | None  # the assignment for one boot


Memory = dict[bytes, Known]  # by the question without its beginning


class Datagrams:
    """Changes the leases of `answers`, which the caller keeps."""

    def __init__(self, answers: Answers) -> None:
        self._answers, self._leases = answers, answers.leases
        self._most = max(_MOST, _EACH * len(answers.site.clients))
        self._waiting = answers.replies.assigned.waiting
        self._memories: dict[tuple[tuple[str, ...], bool, bool], Memory] = {}

    def memory(self, wire: tuple[str, ...], *, unicast: bool, pxe: bool = False) -> Memory:
        """What was answered to messages that came in this way, see `Answers.receive`."""
        return self._memories.setdefault((wire, unicast, pxe), {})

    def again(self, memory: Memory, data: bytes, now: float) -> Decision | None:
        """What to do about a datagram that was answered before; None when that is not known, or
        not right any more."""
        known = memory.get(data[_REST])
        if known is None or not data.startswith(known.asked):
            return None
        held = self._leases.of(known.lease.segment, known.lease.mac)
        if held is None or not self._holds(known, held, now):
            return None
        leases: tuple[Lease, ...] = ()
        if known.seconds is not None:
            address, segment, mac, _, _, architecture, _ = known.lease
            expires = now + known.seconds
            lease = Lease(address, segment, mac, LeaseState.BOUND, expires, architecture)
            self._leases.put(lease)
            known.held, leases = lease, (lease,)
        reply = b"".join((known.before, data[_XID], known.after))
        return Decision(reply, known.to, leases, known.events)

    def receive(
        self, wire: tuple[str, ...], data: bytes, now: float, *, unicast: bool, pxe: bool = False
    ) -> Decision:
        """What to do about a datagram from the network, see `Answers.receive`; it is remembered for
        `again`. Raises MalformedError."""
        request = parse(data)
        if request.chaddr[0] & _GROUP or not any(request.chaddr[:6]):
            mac = request.chaddr[:6].hex(":")
            raise MalformedError(f"DHCP message: {mac} is not the address of a machine")
        answer = self._answers.receive(wire, request, now, unicast=unicast, pxe=pxe)
        decision = decided(request, answer)
        if (lease := self._repeatable(answer)) and (name := self._site_name(lease)):
            seconds = lease.expires - now if answer.leases else None
            if sum(map(len, self._memories.values())) >= self._most:
                for memory in self._memories.values():
                    memory.clear()
            reply, once = decision.reply, self._waiting.get(name)
            memory = self.memory(wire, unicast=unicast, pxe=pxe)
            memory[data[_REST]] = Known(
                data[:4], reply[:4], reply[8:], decision.to, _as_again(decision.events), lease,
                lease, seconds, name, once,
            )  # fmt: skip
        return decision

    def _holds(self, known: Known, held: Lease, now: float) -> bool:
        """The machine has the same address as when it was answered before, and boots the same."""
        if now >= held.expires or self._waiting.get(known.name) != known.once:
            return False
        if held is known.held:
            return True
        before = known.lease
        if (
            held.address != before.address
            or held.state is not LeaseState.BOUND
            or held.architecture != before.architecture
        ):
            return False
        known.held = held
        return True

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


def _as_again(events: Sequence[Event]) -> Sequence[Event]:
    """The same for a machine that comes again: it renews."""
    return [replace(e, renewed=True) if isinstance(e, Addressed) else e for e in events]
