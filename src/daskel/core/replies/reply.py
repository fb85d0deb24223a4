"""What a DHCP reply to one machine says: its options with their origins, and its boot file."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.arguments import nfs_root
from daskel.core.boot.identity import by_mac, settings_of
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.options import Code, u32
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet
from daskel.core.dhcp.pxe import BootRequest, boot_options, boot_request
from daskel.core.dhcp.relay import SERVER_OVERRIDE, address_inside
from daskel.core.dhcp.responder import reply
from daskel.core.history.events import Refusal, Refused, Who
from daskel.core.replies.bootfile import BootFile, choose_boot_file
from daskel.core.replies.options import encode, rules
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, Effective
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin
from daskel.core.site.tables import Segment
from daskel.core.values import mac_text

_MOST_PLANS, _EACH = 20_000, 3  # plans that are remembered: at least, and for each client
_FROM_FIRMWARE = (Code.VENDOR_CLASS, Code.VENDOR_SPECIFIC)


@dataclass(frozen=True, slots=True)
class Setting:
    """One option of a reply, and where its value comes from; None when Daskel makes it."""

    code: int
    value: bytes
    origin: Origin | None = None
    type: str | None = None  # how its value is shown; the registry's when not given


@dataclass(frozen=True, slots=True)
class Question:
    """A message, and all that is known about its sender."""

    request: Packet
    segment: str
    server: IPv4Address  # how this server calls itself: option 54
    now: float  # seconds since 1970
    who: Who
    found: Effective
    boot: BootRequest | None

    @property
    def fixed(self) -> IPv4Address | None:
        """The fixed address of the sender, on this segment."""
        return self.found.address.value if self.found.address else None


@dataclass(frozen=True, slots=True)
class Plan:
    """What every reply to one machine on one segment says, apart from its address."""

    file: BootFile
    settings: tuple[Setting, ...]  # in their order of rank
    options: dict[int, bytes]


class Replies:
    """Puts replies together for one site; what is the same each time is made once."""

    def __init__(self, site: Site, ports: Ports, assigned: Assigned = NOT_ASSIGNED) -> None:
        self.site, self.ports, self.assigned = site, ports, assigned
        self._network = {n: _network_settings(site, n, seg) for n, seg in site.segments.items()}
        self._option_rules = rules(site)
        self._most = max(_MOST_PLANS, _EACH * len(site.clients))
        self._plans: dict[tuple[object, ...], Plan] = {}
        self._last: tuple[Question, Plan] | None = None  # who was asked about just now

    def question(self, segment: str, request: Packet, now: float) -> Question:
        """What is known about the sender of a message."""
        who = by_mac(self.site, mac_text(request.chaddr))
        found = settings_of(self.site, who, segment, assigned=self.assigned)
        assert found, "the MAC address is known"
        server = address_inside(request, SERVER_OVERRIDE) if request.giaddr != NOWHERE else None
        here = self.site.segments[segment].server
        boot = boot_request(request)
        return Question(request, segment, server or here, now, who, found, boot)

    def plan(self, question: Question) -> Plan:
        """What a reply says; made once for each kind of message of a machine."""
        if self._last and self._last[0] is question:
            return self._last[1]
        asked = question.request.options.get(Code.PARAMETERS, b"")
        key = (
            question.segment, question.found.name,
            self.assigned.waiting.get(question.found.name), question.boot,
            question.request.options.get(Code.VENDOR_CLASS), Code.BOOT_SERVER in asked,
            Code.BOOT_FILE in asked,
        )  # fmt: skip
        made = self._plans.get(key)
        if made is None:
            if len(self._plans) >= self._most:
                self._plans.clear()
            file = choose_boot_file(
                self.site, self.ports, question.who, question.found, question.segment, question.boot
            )
            settings = tuple(self._settings(question, file))
            options = {int(setting.code): setting.value for setting in settings}
            made = self._plans[key] = Plan(file, settings, options)
        self._last = question, made
        return made

    def _settings(self, question: Question, file: BootFile) -> list[Setting]:
        if self.site.segments[question.segment].dhcp == "proxy":  # the rest is the other server's
            return self._boot_file_settings(question, file)
        ours = [*self._network[question.segment], *self._machine_settings(question)]
        return self._with_chosen(question, ours + self._boot_file_settings(question, file))

    def _with_chosen(self, question: Question, ours: list[Setting]) -> list[Setting]:
        """The options that the site file names replace Daskel's of the same code.

        Not the vendor class and its option of a machine that is told where to boot: its firmware
        needs those.
        """
        vendor_class = question.request.options.get(Code.VENDOR_CLASS, b"").decode("latin-1")
        written = [
            Setting(encoded.code, encoded.value, encoded.origin, encoded.type)
            for encoded in encode(self._option_rules, question.found.options, vendor_class)
        ]
        needed = {s.code for s in ours if s.code in _FROM_FIRMWARE}
        written = [setting for setting in written if setting.code not in needed]
        codes = {setting.code for setting in written}
        return [setting for setting in ours if setting.code not in codes] + written

    def _machine_settings(self, question: Question) -> list[Setting]:
        site, found = self.site, question.found
        settings = []
        if question.who.name is not None:
            named = site.origin("client", question.who.name)
            settings.append(Setting(Code.HOST_NAME, question.who.name.encode(), named))
        by_files = found.way == "files" and not found.is_private  # nobody gets that in clear
        if found.loadout and found.loadout.root and found.loadout_name and by_files:
            root = nfs_root(
                site, found, site.segments[question.segment], found.loadout.root, self.ports
            )
            origin = site.origin("loadout", found.loadout_name, "root")
            settings.append(Setting(Code.ROOT_PATH, root.encode(), origin))
        return settings

    def _boot_file_settings(self, question: Question, file: BootFile) -> list[Setting]:
        """Options 66 and 67 where the client asks for them; the URL of HTTP boot always."""
        if question.boot is None or file.path is None:
            return []
        asked = question.request.options.get(Code.PARAMETERS, b"")
        http = question.boot.over_http
        origin = file.origin or (question.found.boot.origin if question.found.boot else None)
        settings = [Setting(code, value) for code, value in boot_options(question.boot).items()]
        if Code.BOOT_SERVER in asked and not http:
            here = self.site.segments[question.segment].server
            server = self.site.origin("segment", question.segment, "server")
            settings.append(Setting(Code.BOOT_SERVER, str(here).encode(), server))
        if Code.BOOT_FILE in asked or http or len(file.path) > 127:
            settings.append(Setting(Code.BOOT_FILE, file.path.encode(), origin))
        return settings

    def make(self, question: Question, kind: MessageType, address: IPv4Address | None) -> Packet:
        """The reply; without a lease time where no address is given (RFC 2131 4.3.5)."""
        plan = self.plan(question)
        options = plan.options
        if address is None and Code.LEASE_TIME in options:
            options = {code: v for code, v in options.items() if code != Code.LEASE_TIME}
        file = (plan.file.path or "").encode()
        in_header = (
            file if len(file) < 128 and not (question.boot and question.boot.over_http) else b""
        )
        next_server = question.who.name or plan.file.path is not None
        server = self.site.segments[question.segment].server if next_server else NOWHERE
        return reply(
            question.request, kind, question.server, options,
            yiaddr=address or NOWHERE, siaddr=server, file=in_header,
        )  # fmt: skip


def _network_settings(site: Site, name: str, segment: Segment) -> list[Setting]:
    def setting(code: int, value: bytes, key: str) -> Setting:
        return Setting(code, value, site.origin("segment", name, key))

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


def no_boot_file(question: Question, file: BootFile) -> Refused:
    """A machine that wants to boot, and has no file for its firmware."""
    return Refused(question.who, question.segment, file.said, Refusal.NO_BOOT_FILE)
