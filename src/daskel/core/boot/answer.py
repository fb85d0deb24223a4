"""Which reply: one DHCP message in; out come the reply, the leases to keep, and what happened."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.boot.address import (
    DECLINE_TIME,
    Addresses,
    Lease,
    Leases,
    LeaseState,
    choose,
    offered,
)
from daskel.core.boot.arguments import nfs_root, representatives
from daskel.core.boot.identity import Who, by_mac, refusal, settings_of, waits
from daskel.core.boot.loader import boot_file, loader_name, wants_loader
from daskel.core.boot.options import encode, rules
from daskel.core.boot.stages import Addressed, Event, GivenBack, Refused, Seen
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.options import Code, u32
from daskel.core.dhcp.options import name as option_name
from daskel.core.dhcp.packet import DEFAULT_LIMIT, NOWHERE, MessageType, Packet, serialise
from daskel.core.dhcp.pxe import BootRequest, boot_options, boot_request
from daskel.core.dhcp.responder import Situation, reply, situation, wanted_address
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import Effective, effective
from daskel.core.site.model import Segment, Site
from daskel.core.site.positions import Origin
from daskel.core.values import mac_text

DISK_BOOT = "starts from its own disk: no boot file is sent"


@dataclass(frozen=True, slots=True)
class Setting:
    """One option of a reply, and where its value comes from; None when Daskel makes it."""

    code: int
    value: bytes
    origin: Origin | None = None
    type: str | None = None  # how its value is shown; the registry's when not given


@dataclass
class Answer:
    """`leases` must be kept before `reply` is sent."""

    reply: Packet | None = None
    leases: list[Lease] = field(default_factory=list)
    events: list[Event] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Question:
    """A message, and all that is known about its sender."""

    request: Packet
    segment: str
    now: float  # seconds since 1970
    who: Who
    found: Effective
    boot: BootRequest | None

    @property
    def fixed(self) -> IPv4Address | None:
        return self.found.address.value if self.found.address else None


class Answers:
    """Answers DHCP messages for one site. Changes `leases`, which the caller keeps."""

    def __init__(self, site: Site, leases: Leases, ports: Ports) -> None:
        self.site, self.leases, self.ports = site, leases, ports
        fixed = site.by_address.keys()
        self._network = {n: self._network_settings(n, seg) for n, seg in site.segments.items()}
        self._option_rules = rules(site)
        self._rules = {name: Addresses(name, seg, fixed) for name, seg in site.segments.items()}
        self._handlers: Mapping[Situation, Callable[[Question], Answer]] = {
            Situation.DISCOVER: self._discover,
            Situation.SELECTING: self._request,
            Situation.INIT_REBOOT: self._reboot,
            Situation.RENEWING: self._request,
            Situation.REBINDING: self._reboot,
            Situation.ELSEWHERE: self._elsewhere,
            Situation.DECLINE: self._decline,
            Situation.RELEASE: self._release,
            Situation.INFORM: self._inform,
        }

    def dhcp(self, segment: str, request: Packet, now: float, *, unicast: bool) -> Answer:
        """What to do about a message that arrived on `segment`."""
        meaning = situation(request, self.site.segments[segment].server, unicast=unicast)
        if meaning is None:
            return Answer()
        question = self.question(segment, request, now)
        reason = refusal(self.site, str(question.who.mac), segment)
        if reason is not None:
            asks = meaning is Situation.DISCOVER  # once for each try
            return Answer(events=[Refused(question.who, segment, reason)] if asks else [])
        return self._handlers[meaning](question)

    def question(self, segment: str, request: Packet, now: float) -> Question:
        """What is known about the sender of a message."""
        who = by_mac(self.site, mac_text(request.chaddr))
        found = settings_of(self.site, who, segment)
        assert found, "the MAC address is known"
        return Question(request, segment, now, who, found, boot_request(request))

    def _discover(self, q: Question) -> Answer:
        firmware = q.boot.described if q.boot else None
        vendor = q.request.options.get(Code.VENDOR_CLASS, b"").decode("ascii", "replace")
        architecture = q.boot.architecture if q.boot else None
        machine_id = q.boot.machine_id.hex() if q.boot and any(q.boot.machine_id) else ""
        seen = Seen(q.who, q.segment, firmware, vendor, architecture, machine_id)
        events: list[Event] = [seen]
        rules, wish = self._rules[q.segment], q.request.address_option(Code.REQUESTED_ADDRESS)
        address = choose(rules, self.leases, str(q.who.mac), q.fixed, wish, q.now)
        if address is not None and not self._has_room(q, address):
            reason = "half of the pool is kept for machines of the site, the other half is taken"
            return Answer(events=[*events, Refused(q.who, q.segment, reason)])
        if address is None:
            reason = "its address is in use" if q.fixed else "the pool has no address left"
            return Answer(events=[*events, Refused(q.who, q.segment, reason)])
        lease = self._lease(q, address)
        held = self.leases.at(address)
        if not (held and held.state is LeaseState.BOUND and held.holds(q.now)):
            self.leases.put(offered(lease, q.now))
        return Answer(self._reply(q, MessageType.OFFER, address), [], events)

    def _has_room(self, q: Question, address: IPv4Address) -> bool:
        """Machines that are not in the site share one half of the pool, so that a flood of made-up
        ones leaves the other to those that are."""
        held = self.leases.of(q.segment, str(q.who.mac))
        if q.who.name is not None or (held and held.address == address and held.holds(q.now)):
            return True
        size = sum(part.size for part in self.site.segments[q.segment].pool)
        taken = self.leases.held_by_others(q.segment, self.site.by_mac, q.now)
        return taken < max(1, size // 2)

    def _request(self, q: Question) -> Answer:
        """REQUEST that names this server, or comes to it alone: ACK when right, else NAK."""
        address = wanted_address(q.request)
        if address is None:
            return Answer()
        rules = self._rules[q.segment]
        if not rules.allowed(address, q.fixed):
            return self._nak(q, f"{address} is not its address")
        if not self.leases.free_for(address, str(q.who.mac), q.now):
            return self._nak(q, f"{address} belongs to another machine")
        lease = self._lease(q, address)
        before = self.leases.at(address)
        renewed = bool(before and before.state is LeaseState.BOUND and before.holds(q.now))
        self.leases.put(lease)
        answer = self._reply(q, MessageType.ACK, address)
        seconds = self.site.segments[q.segment].lease
        file = self._boot_file(q)
        event = Addressed(q.who, q.segment, address, seconds, file, renewed, q.boot is not None)
        problem = self.no_loader(q)
        problems = [Refused(q.who, q.segment, problem)] if problem else []
        return Answer(answer, [lease], [event, *problems])

    def _reboot(self, q: Question) -> Answer:
        """REQUEST of a client that remembers an address (RFC 2131 4.3.2, init-reboot).

        On another network than it remembers: NAK. Nothing known about it: silence, since
        another server may know it.
        """
        address = wanted_address(q.request)
        if address is not None and address not in self.site.segments[q.segment].network:
            return self._nak(q, f"{address} is not on this network")
        if q.who.name is None and self.leases.of(q.segment, str(q.who.mac)) is None:
            return Answer()
        return self._request(q)

    def _elsewhere(self, q: Question) -> Answer:
        """The client took another server's offer: what was offered here is free again."""
        lease = self.leases.of(q.segment, str(q.who.mac))
        if lease and lease.state is LeaseState.OFFERED:
            self.leases.put(_ended(lease, q.now))
        return Answer()

    def _decline(self, q: Question) -> Answer:
        address = q.request.address_option(Code.REQUESTED_ADDRESS)
        lease = self.leases.at(address) if address else None
        if lease is None or lease.mac != q.who.mac:
            return Answer()
        until = q.now + DECLINE_TIME
        aside = Lease(lease.address, q.segment, lease.mac, LeaseState.DECLINED, until)
        self.leases.put(aside)
        event = GivenBack(q.who, q.segment, lease.address, declined=True)
        return Answer(None, [aside], [event])

    def _release(self, q: Question) -> Answer:
        lease = self.leases.at(q.request.ciaddr)
        if lease is None or lease.mac != q.who.mac or lease.state is not LeaseState.BOUND:
            return Answer()
        ended = _ended(lease, q.now)
        self.leases.put(ended)
        return Answer(None, [ended], [GivenBack(q.who, q.segment, lease.address, declined=False)])

    def _inform(self, q: Question) -> Answer:
        return Answer(self._reply(q, MessageType.ACK, None))

    def _nak(self, q: Question, reason: str) -> Answer:
        server = self.site.segments[q.segment].server
        options = {Code.MESSAGE: reason.encode()}
        nak = reply(q.request, MessageType.NAK, server, {int(c): v for c, v in options.items()})
        return Answer(nak, [], [Refused(q.who, q.segment, reason)])

    def _lease(self, q: Question, address: IPv4Address) -> Lease:
        before = self.leases.of(q.segment, str(q.who.mac))
        architecture = q.boot.architecture if q.boot else before.architecture if before else None
        expires = q.now + self.site.segments[q.segment].lease
        mac = str(q.who.mac)
        return Lease(address, q.segment, mac, LeaseState.BOUND, expires, architecture)

    def _boot_file(self, q: Question) -> str | None:
        """None for machines without a loadout, or with one that starts from their own disk."""
        if not (q.boot and q.boot.firmware and self._boots(q)) or self.no_loader(q):
            return None
        return boot_file(q.boot.firmware, self.site.segments[q.segment], self.ports)

    def _boots(self, q: Question) -> bool:
        """It gets a boot loader: for its loadout, or to wait in the lobby."""
        return wants_loader(q.found) or waits(self.site, q.who, q.segment)

    def no_loader(self, q: Question) -> str | None:
        """Why a client that wants to boot gets no boot file, where that is not meant."""
        if not (q.boot and self._boots(q)):
            return None
        firmware = q.boot.firmware
        if firmware is None:
            return f"there is no boot loader for its firmware ({q.boot.described})"
        if loader_name(firmware) not in self.site.settings.loaders:
            name = loader_name(firmware)
            return f'its firmware needs the boot loader "{name}": add it to loaders in [site]'
        return None

    def _reply(self, q: Question, kind: MessageType, address: IPv4Address | None) -> Packet:
        segment = self.site.segments[q.segment]
        settings = self.settings(q)
        if kind is MessageType.ACK and address is None:  # RFC 2131 4.3.5: INFORM gets no lease
            settings = [s for s in settings if s.code != Code.LEASE_TIME]
        file = (self._boot_file(q) or "").encode()
        in_header = file if len(file) < 128 and not (q.boot and _http(q.boot)) else b""
        return reply(
            q.request,
            kind,
            segment.server,
            {setting.code: setting.value for setting in settings},
            yiaddr=address or NOWHERE,
            siaddr=segment.server if q.who.name or self._boots(q) else NOWHERE,
            file=in_header,
        )

    def settings(self, q: Question) -> list[Setting]:
        """Options in their order of rank, each with its origin."""
        return self._with_chosen(q, [*self._network[q.segment], *self._boot_settings(q)])

    def _with_chosen(self, q: Question, ours: list[Setting]) -> list[Setting]:
        """The options that the site file names replace Daskel's of the same code.

        Not the vendor class and its option of a machine that is told where to boot: its firmware
        needs those.
        """
        vendor_class = q.request.options.get(Code.VENDOR_CLASS, b"").decode("latin-1")
        written = [
            Setting(encoded.code, encoded.value, encoded.origin, encoded.type)
            for encoded in encode(self._option_rules, q.found.options, vendor_class)
        ]
        needed = {s.code for s in ours if s.code in (Code.VENDOR_CLASS, Code.VENDOR_SPECIFIC)}
        written = [setting for setting in written if setting.code not in needed]
        codes = {setting.code for setting in written}
        return [setting for setting in ours if setting.code not in codes] + written

    def _network_settings(self, name: str, segment: Segment) -> list[Setting]:
        def setting(code: int, value: bytes, key: str) -> Setting:
            return Setting(code, value, self.site.origin("segment", name, key))

        settings = [
            setting(Code.LEASE_TIME, u32(segment.lease), "lease"),
            setting(Code.SUBNET_MASK, segment.network.netmask.packed, "network"),
            setting(Code.BROADCAST, segment.network.broadcast_address.packed, "network"),
        ]
        if segment.router:
            settings.append(setting(Code.ROUTER, segment.router.packed, "router"))
        if segment.name_servers:
            servers = b"".join(address.packed for address in segment.name_servers)
            settings.append(setting(Code.NAME_SERVERS, servers, "name-servers"))
        if segment.domain:
            settings.append(setting(Code.DOMAIN, segment.domain.encode(), "domain"))
        return settings

    def _boot_settings(self, q: Question) -> list[Setting]:
        site, found, segment = self.site, q.found, self.site.segments[q.segment]
        settings = []
        if q.who.name is not None:
            named = site.origin("client", q.who.name)
            settings.append(Setting(Code.HOST_NAME, q.who.name.encode(), named))
        if found.loadout and found.loadout.root and found.loadout_name:
            root = nfs_root(segment, found.loadout.root, self.ports)
            origin = site.origin("loadout", found.loadout_name, "root")
            settings.append(Setting(Code.ROOT_PATH, root.encode(), origin))
        file = self._boot_file(q)
        if q.boot and file:
            settings += [Setting(code, value) for code, value in boot_options(q.boot).items()]
            settings += self._boot_file_settings(q, segment, file)
        return settings

    def _boot_file_settings(self, q: Question, segment: Segment, file: str) -> list[Setting]:
        """Options 66 and 67 where the client asks for them; the URL of HTTP boot always."""
        asked = q.request.options.get(Code.PARAMETERS, b"")
        http = q.boot is not None and _http(q.boot)
        origin = q.found.boot.origin if q.found.boot else None
        settings = []
        if Code.BOOT_SERVER in asked and not http:
            server = self.site.origin("segment", q.segment, "server")
            settings.append(Setting(Code.BOOT_SERVER, str(segment.server).encode(), server))
        if Code.BOOT_FILE in asked or http or len(file) > 127:
            settings.append(Setting(Code.BOOT_FILE, file.encode(), origin))
        return settings


def check_sizes(site: Site, ports: Ports) -> list[Finding]:
    """Options that a client gets only when it accepts messages of more than 576 bytes."""
    answers = Answers(site, Leases(), ports)
    findings: dict[tuple[str, ...], Finding] = {}
    asks = bytes((Code.BOOT_SERVER, Code.BOOT_FILE))
    for name in representatives(site, None):
        found = effective(site, name)
        if found.segment is None or found.segment.value not in site.segments:
            continue
        chaddr = bytes.fromhex(found.mac.value.replace(":", "")).ljust(16, b"\0")
        options = {53: b"\1", 55: asks, 60: b"PXEClient:Arch:00000:UNDI:002001", 93: b"\0\0"}
        packet = Packet(1, 1, chaddr, {**options, 97: bytes(17)})
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


def _http(boot: BootRequest) -> bool:
    return boot.firmware is not None and boot.firmware.over_http


def _ended(lease: Lease, now: float) -> Lease:
    return Lease(
        lease.address, lease.segment, lease.mac, LeaseState.RELEASED, now, lease.architecture
    )
