"""Which reply by DHCPv6: one message in; out come the reply, the leases to keep, and what happened.

RFC 8415 section 18.3 for servers, RFC 5970 for what is booted. The site is that of `over_ipv6`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from hashlib import blake2b
from ipaddress import IPv4Address, IPv6Address
from typing import ClassVar, cast

from daskel.core.boot.address import (
    DECLINE_TIME,
    OFFER_TIME,
    Lease,
    Leases,
    LeaseState,
    choose,
    offered,
    rules_of,
    usual,
)
from daskel.core.boot.identity import by_mac, refusal, settings_of
from daskel.core.boot.segments import best
from daskel.core.boot.wire import Ports, host
from daskel.core.dhcp.options import TYPES
from daskel.core.dhcp.pxe import HTTP_CLASS, PXE_CLASS, BootRequest
from daskel.core.dhcp6.message import (
    Association,
    Code,
    Message,
    Status,
    Type,
    granted,
    hardware_in,
    option,
    refused,
    reply,
    status,
)
from daskel.core.history.events import Addressed, Event, GivenBack, Refusal, Refused, Seen, Who
from daskel.core.replies.bootfile import BootFile, choose_boot_file
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, Effective
from daskel.core.site.model import Site
from daskel.core.site.tables import Segment
from daskel.core.values import mac_text

_INTEL = 343  # the enterprise that defined PXE, in option 16 (RFC 8415 21.16)
_AT_ONCE = b"\xff"  # a preference with which a client waits for no other server (RFC 8415 21.8)
_MOST_PLANS, _EACH = 20_000, 3  # boot files that are remembered: at least, and for each client
# Seconds for which an address stays with one association of a machine, whatever others of it ask:
# firmware has two at once, with numbers that are new at every boot
_BESIDE = 60.0
_MOST_EACH = 4  # addresses of one machine at once


@dataclass
class Answer6:
    """`leases` must be kept before `reply` is sent. `declined`: addresses that are said to be
    taken, which nobody has looked at yet."""

    reply: bytes = b""
    leases: list[Lease] = field(default_factory=list)
    events: list[Event] = field(default_factory=list)
    declined: list[Lease] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Question6:
    """A message, and all that is known about its sender."""

    message: Message
    segment: str
    who: Who
    now: float  # seconds since 1970
    found: Effective
    boot: BootRequest | None

    @property
    def fixed(self) -> IPv4Address | None:
        """The fixed address of the sender, on this segment."""
        return self.found.address.value if self.found.address else None


def identifier(server: IPv6Address) -> bytes:
    """How a server calls itself: a DUID of its address alone, so that it stays the same with
    another network card or disk (RFC 8415 11.5)."""
    return b"\0\4" + blake2b(server.packed, digest_size=16).digest()


def hardware_of(site: Site, message: Message, sender: IPv6Address) -> str | None:
    """The MAC address of who asks: as a relay agent says, as its address says, as it calls itself;
    the first that is in the site, else the first. None when nothing says."""
    last = message.relays[-1] if message.relays else None
    known = [last.hardware] if last and last.hardware else []
    known += [hardware_in(last.peer if last else sender) or b"", message.mac or b""]
    found = [mac_text(mac) for mac in known if any(mac) and not mac[0] & 1]
    return next((mac for mac in found if mac in site.by_mac), found[0] if found else None)


def boot_request(message: Message) -> BootRequest | None:
    """None when the sender does not want to boot from the network (RFC 5970 3.3)."""
    vendor_class, number = message.vendor_class, message.architecture
    if number is None or not vendor_class.startswith((PXE_CLASS, HTTP_CLASS)):
        return None
    return BootRequest(number, vendor_class)


class Answers6:
    """Answers DHCPv6 messages for one site. Changes `leases`, which the caller keeps."""

    def __init__(
        self, site: Site, leases: Leases, ports: Ports, assigned: Assigned = NOT_ASSIGNED
    ) -> None:
        self.site, self.leases, self.ports, self.assigned = site, leases, ports, assigned
        self._rules = rules_of(site)
        self._most = max(_MOST_PLANS, _EACH * len(site.clients))
        self._files: dict[tuple[object, ...], BootFile] = {}

    def receive(
        self, wire: Sequence[str], message: Message, sender: IPv6Address, now: float
    ) -> Answer6:
        """What to do about a message that came in by an interface with the segments `wire`."""
        mac = hardware_of(self.site, message, sender)
        if mac is None or message.cut:
            return Answer6()
        segments = self._segments(wire, message, sender, mac)
        if not segments:
            if message.type is not Type.SOLICIT or not message.relays:
                return Answer6()
            reason = f"relay agent {sender} is not among those of its network (relays6)"
            unknown = Refused(by_mac(self.site, mac), "", reason, Refusal.UNKNOWN_NETWORK)
            return Answer6(events=[unknown])
        question = self.question(segments[0], message, mac, now)
        who = question.who
        handler = self._handlers.get(message.type)
        if handler is None:
            return Answer6()
        denied = refusal(self.site, mac, question.segment)
        if denied is not None:
            asks = message.type is Type.SOLICIT
            event = Refused(who, question.segment, denied.words, denied.why)
            return Answer6(events=[event] if asks else [])
        return handler(self, question)

    def question(self, segment: str, message: Message, mac: str, now: float) -> Question6:
        """What is known about the sender of a message."""
        who = by_mac(self.site, mac)
        found = settings_of(self.site, who, segment, assigned=self.assigned)
        assert found, "the MAC address is known"
        return Question6(message, segment, who, now, found, boot_request(message))

    def file(self, question: Question6) -> BootFile:
        """What the machine boots, as it is sent: a URL (RFC 5970 3.1)."""
        waits = self.assigned.waiting.get(question.found.name)
        key = question.segment, question.found.name, waits, question.boot
        made = self._files.get(key)
        if made is None:
            if len(self._files) >= self._most:
                self._files.clear()
            made = self._files[key] = choose_boot_file(
                self.site, self.ports, question.who, question.found, question.segment,
                question.boot,
            )  # fmt: skip
        return made

    def _segments(
        self, wire: Sequence[str], message: Message, sender: IPv6Address, mac: str
    ) -> list[str]:
        """The segments that the sender may be on, the best first, of those that are answered."""
        served = {n: s for n, s in self.site.served.items() if s.dhcp == "full"}
        if not message.relays:
            wanted = next((a for ia in message.associations for a in ia.addresses), None)
            here = [name for name in wire if name in served]
            return best(self.site, here, mac, cast(IPv4Address | None, wanted))
        link = next((r.link for r in reversed(message.relays) if int(r.link)), None)
        return [n for n, s in served.items() if link in s.network and sender in s.relays]

    # --- one function for each type of message ---

    def _solicit(self, question: Question6) -> Answer6:
        rapid = Code.RAPID_COMMIT in question.message.options
        answer = Answer6()
        given, leases = [], []
        for asked in question.message.associations:
            lease = self._chosen(question, asked)
            if lease is None:
                given.append(_none_left(asked))
                continue
            leases.append(lease)
            given.append(granted(asked.iaid, [(_six(lease), self._seconds(question))]))
            held = self.leases.at(lease.address)
            bound = held and held.state is LeaseState.BOUND and held.holds(question.now)
            if rapid:
                self._bind(question, lease, answer)
            elif not bound:
                self.leases.put(offered(lease, question.now))
        first = self._seen(question, leases[0].address if leases else None)
        answer.events.insert(0, first)
        if question.message.associations and not leases:
            reason = self._why_none(question)
            why = Refused(question.who, question.segment, reason, Refusal.NO_ADDRESS)
            answer.events.append(why)
        answer.events += self._no_file(question)
        kind = Type.REPLY if rapid and leases else Type.ADVERTISE
        more = [option(Code.RAPID_COMMIT, b"")] if kind is Type.REPLY else []
        if question.boot and kind is Type.ADVERTISE:
            more.append(option(Code.PREFERENCE, _AT_ONCE))
        answer.reply = self._reply(question, kind, [*given, *more])
        return answer

    def _request(self, question: Question6) -> Answer6:
        if not self._is_for_us(question):
            return self._elsewhere(question)
        answer, given = Answer6(), []
        for asked in question.message.associations:
            if any(a not in self._here(question).network for a in asked.addresses):
                said = status(Status.NOT_ON_LINK, "that address is of another network")
                given.append(granted(asked.iaid, [], said))
                continue
            lease = self._chosen(question, asked)
            if lease is None:
                given.append(_none_left(asked))
                continue
            self._bind(question, lease, answer)
            given.append(granted(asked.iaid, [(_six(lease), self._seconds(question))]))
        if answer.leases:
            answer.events += self._no_file(question)
        answer.reply = self._reply(question, Type.REPLY, given)
        return answer

    def _renew(self, question: Question6) -> Answer6:
        """From this server alone, or from any (REBIND, RFC 8415 18.3.5): an address that is the
        machine's lasts longer, one that cannot be is taken back."""
        rebinds = question.message.type is Type.REBIND
        if not rebinds and not self._is_for_us(question):
            return Answer6()
        answer, given = Answer6(), []
        for asked in question.message.associations:
            held = self.leases.of(question.segment, str(question.who.mac), asked.iaid)
            if held is None and rebinds and not any(map(self._alien(question), asked.addresses)):
                continue  # another server may know it
            if held is None or not self._may_keep(question, held):
                taken_back = [(address, 0) for address in asked.addresses]
                said = b"" if taken_back else status(Status.NO_BINDING, "it has no such address")
                given.append(granted(asked.iaid, taken_back, said))
                continue
            self._bind(question, self._lease(question, held.address, asked.iaid), answer)
            gone = [(a, 0) for a in asked.addresses if a != _six(held)]
            kept = (_six(held), self._seconds(question))
            given.append(granted(asked.iaid, [kept, *gone]))
        if not given:
            return Answer6()
        answer.reply = self._reply(question, Type.REPLY, given)
        return answer

    def _confirm(self, question: Question6) -> Answer6:
        """Whether the addresses that it remembers are of this network (RFC 8415 18.3.3)."""
        named = [a for asked in question.message.associations for a in asked.addresses]
        if not named:
            return Answer6()
        if any(map(self._alien(question), named)):
            said = status(Status.NOT_ON_LINK, "not all are of this network")
        else:
            said = status(Status.SUCCESS, "all are of this network")
        return Answer6(self._reply(question, Type.REPLY, [said]))

    def _release(self, question: Question6) -> Answer6:
        if not self._is_for_us(question):
            return Answer6()
        answer = Answer6()
        for lease in self._named(question, (LeaseState.BOUND,)):
            if lease.architecture is not None:
                continue  # firmware's: the boot loader and the system that it starts go on with it
            ended = lease._replace(state=LeaseState.RELEASED, expires=question.now)
            self.leases.put(ended)
            answer.leases.append(ended)
            gone = GivenBack(question.who, question.segment, _six(lease), declined=False)
            answer.events.append(gone)
        said = status(Status.SUCCESS, "given back")
        answer.reply = self._reply(question, Type.REPLY, [said])
        return answer

    def _decline(self, question: Question6) -> Answer6:
        if not self._is_for_us(question):
            return Answer6()
        said = status(Status.SUCCESS, "declined")
        named = self._named(question, (LeaseState.BOUND, LeaseState.OFFERED))
        return Answer6(self._reply(question, Type.REPLY, [said]), declined=named)

    def _inform(self, question: Question6) -> Answer6:
        """A machine that made its own address wants the rest (RFC 8415 18.3.6)."""
        if Code.SERVER_ID in question.message.options and not self._is_for_us(question):
            return Answer6()
        events = [self._seen(question, None), *self._no_file(question)]
        return Answer6(self._reply(question, Type.REPLY, []), events=events)

    def in_use(self, lease: Lease, now: float) -> Answer6:
        """Somebody else has the address of a lease: it is put aside for a while."""
        aside = lease._replace(state=LeaseState.DECLINED, expires=now + DECLINE_TIME)
        self.leases.put(aside)
        gone = GivenBack(by_mac(self.site, lease.mac), lease.segment, _six(lease), declined=True)
        return Answer6(leases=[aside], events=[gone])

    # --- what they have in common ---

    def _here(self, question: Question6) -> Segment:
        return self.site.segments[question.segment]

    def _seconds(self, question: Question6) -> int:
        return self._here(question).lease

    def _alien(self, question: Question6) -> Callable[[IPv6Address], bool]:
        network = self._here(question).network
        return lambda address: address not in network

    def _is_for_us(self, question: Question6) -> bool:
        own = identifier(cast(IPv6Address, self._here(question).server))
        return question.message.options.get(Code.SERVER_ID) == own

    def _chosen(self, question: Question6, asked: Association) -> Lease | None:
        """The lease that an association is given, not kept yet; None where there is no address.

        What another association of the same machine was given a while ago is taken over: it is
        the machine's own, of an earlier boot."""
        mac, now = str(question.who.mac), question.now
        has = self.leases.associations(question.segment, mac, now)
        if sum(lease.iaid != asked.iaid for lease in has) >= _MOST_EACH:
            has.sort(key=lambda lease: lease.expires)
            if self._lately(question, has[0]):
                return None
            return self._lease(question, has[0].address, asked.iaid)
        rules, fixed, own = self._rules[question.segment], question.fixed, question.boot is not None
        wanted = cast(IPv4Address | None, next(iter(asked.addresses), None)) or usual(
            self._here(question), mac, firmware=own
        )
        first = fixed or wanted
        held = self.leases.at(first) if first else None
        if first and held and held.mac == mac and held.iaid != asked.iaid and held.holds(now):
            if held.state is LeaseState.DECLINED or self._lately(question, held):
                fixed = None
            elif rules.allowed(first, fixed):
                return self._lease(question, first, asked.iaid)
        address = choose(
            rules, self.leases, mac, fixed, wanted, now,
            self.site.by_mac if question.who.name else None, asked.iaid,
        )  # fmt: skip
        if address is None or not self._has_room(question, address):
            return None
        return self._lease(question, address, asked.iaid)

    def _why_none(self, question: Question6) -> str:
        """Why a machine is given no address, in words."""
        has = self.leases.associations(question.segment, str(question.who.mac), question.now)
        if len(has) >= _MOST_EACH:
            return f"it has {len(has)} addresses already"
        return "its address is in use" if question.fixed else "the pool has no address left"

    def _lately(self, question: Question6, lease: Lease) -> bool:
        """Whether it was given, or offered, just now."""
        offered_now = lease.state is LeaseState.OFFERED
        lasts = OFFER_TIME if offered_now else self._seconds(question)
        return question.now - (lease.expires - lasts) < _BESIDE

    def _has_room(self, question: Question6, address: IPv4Address) -> bool:
        """Machines that are not in the site share one half of the pool."""
        if question.who.name is not None:
            return True
        held = self.leases.at(address)
        if held and held.mac == question.who.mac and held.holds(question.now):
            return True
        size = sum(part.size for part in self._here(question).pool)
        taken = self.leases.held_by_others(question.segment, self.site.by_mac, question.now, 6)
        return taken < max(1, size // 2)

    def _may_keep(self, question: Question6, held: Lease) -> bool:
        mac = str(question.who.mac)
        fixed = question.fixed if held.address == question.fixed else None
        allowed = self._rules[question.segment].allowed(held.address, fixed)
        free = self.leases.free_for(held.address, mac, question.now, held.iaid)
        return allowed and free and held.state is not LeaseState.RELEASED

    def _named(self, question: Question6, states: Sequence[LeaseState]) -> list[Lease]:
        """The leases that a message names, which its sender has."""
        found = []
        for asked in question.message.associations:
            for address in asked.addresses:
                lease = self.leases.at(address)
                own = lease and lease.mac == question.who.mac and lease.iaid == asked.iaid
                if lease and own and lease.state in states:
                    found.append(lease)
        return found

    def _lease(self, question: Question6, address: IPv4Address, iaid: int) -> Lease:
        mac = str(question.who.mac)
        before = self.leases.of(question.segment, mac, iaid)
        known = before.architecture if before else None
        architecture = question.boot.architecture if question.boot else known
        expires = question.now + self._seconds(question)
        return Lease(address, question.segment, mac, LeaseState.BOUND, expires, architecture, iaid)

    def _bind(self, question: Question6, lease: Lease, answer: Answer6) -> None:
        before, boots = self.leases.at(lease.address), question.boot is not None
        renewed = bool(
            before
            and before.mac == lease.mac
            and before.state is LeaseState.BOUND
            and before.holds(question.now)
        )
        self.leases.put(lease)
        answer.leases.append(lease)
        path = self.file(question).path if boots else None
        seconds, six = self._seconds(question), _six(lease)
        answer.events.append(
            Addressed(question.who, question.segment, six, seconds, path, renewed, boots)
        )

    def _elsewhere(self, question: Question6) -> Answer6:
        """The client took another server's offer: what was offered here is free again."""
        for asked in question.message.associations:
            lease = self.leases.of(question.segment, str(question.who.mac), asked.iaid)
            if lease and lease.state is LeaseState.OFFERED:
                ended = lease._replace(state=LeaseState.RELEASED, expires=question.now)
                self.leases.put(ended)
        return Answer6()

    def _seen(self, question: Question6, offer: IPv4Address | None) -> Seen:
        """A system's message cannot be told from the one that firmware sends beside its own."""
        message, boot = question.message, question.boot
        relay = str(message.relays[0].peer) if message.relays else ""
        return Seen(
            question.who, question.segment, f"{boot.described}, IPv6" if boot else None,
            message.vendor_class.decode("ascii", "replace"), boot.architecture if boot else None,
            relay=relay, offered=offer, ipv6=True,
        )  # fmt: skip

    def _no_file(self, question: Question6) -> list[Event]:
        file = self.file(question) if question.boot else BootFile()
        if not file.problem:
            return []
        return [Refused(question.who, question.segment, file.said, Refusal.NO_BOOT_FILE)]

    def _reply(self, question: Question6, kind: Type, more: Sequence[bytes]) -> bytes:
        message, here = question.message, self._here(question)
        said = message.options.get(Code.CLIENT_ID)
        ours = [option(Code.CLIENT_ID, said)] if said is not None else []
        ours.append(option(Code.SERVER_ID, identifier(cast(IPv6Address, here.server))))
        if kind is Type.REPLY and message.type in (Type.RELEASE, Type.DECLINE, Type.CONFIRM):
            return reply(kind, message, [*ours, *more])
        more = [*more, *(refused(code, iaid) for code, iaid in message.refused)]
        return reply(kind, message, [*ours, *more, *self.settings(question)])

    def settings(self, question: Question6) -> list[bytes]:
        """What a reply says besides addresses."""
        here, boot, found = self._here(question), question.boot, []
        if here.domain and question.message.asks_for(Code.DOMAINS):
            with suppress(ValueError):  # not the name of a domain
                found.append(option(Code.DOMAINS, TYPES["domains"].encode(here.domain)))
        file = self.file(question) if boot else BootFile()
        if boot and file.path is not None:
            if boot.over_http:
                named = len(HTTP_CLASS).to_bytes(2, "big") + HTTP_CLASS
                found.append(option(Code.VENDOR_CLASS, _INTEL.to_bytes(4, "big") + named))
            found.append(option(Code.BOOT_FILE_URL, self.url(here, file.path).encode()))
        return found

    def url(self, here: Segment, path: str) -> str:
        """Of a boot file, which the site file may give as one."""
        if "://" in path:
            return path
        port = f":{self.ports.tftp}" if self.ports.tftp != Ports.tftp else ""
        return f"tftp://{host(here.server)}{port}/{path}"

    # Not of one object: that would lie in a circle, and its site wait for Python's collector
    _handlers: ClassVar[Mapping[Type, Callable[[Answers6, Question6], Answer6]]] = {
        Type.SOLICIT: _solicit,
        Type.REQUEST: _request,
        Type.RENEW: _renew,
        Type.REBIND: _renew,
        Type.CONFIRM: _confirm,
        Type.RELEASE: _release,
        Type.DECLINE: _decline,
        Type.INFORMATION_REQUEST: _inform,
    }


def _six(lease: Lease) -> IPv6Address:
    return cast(IPv6Address, lease.address)


def _none_left(asked: Association) -> bytes:
    said = status(Status.NO_ADDRESSES, "no address is left for this machine")
    return granted(asked.iaid, [], said)
