"""DHCP in a capture: what each machine asked, who offered what, and what came of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.capture.heard import Heard
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet, parse
from daskel.core.dhcp.pxe import boot_request
from daskel.core.dhcp.relay import described
from daskel.core.history.events import (
    Addressed,
    GivenBack,
    OtherServer,
    Refusal,
    Refused,
    Seen,
    Service,
    Unanswered,
)
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text

_TRIES = 2  # messages without an answer, before it is called silence


@dataclass
class _Asking:
    """What one machine asks just now."""

    discovers: list[tuple[float, Packet]] = field(default_factory=list)
    offers: dict[IPv4Address, Packet] = field(default_factory=dict)  # by server
    requests: list[tuple[float, Packet]] = field(default_factory=list)
    at_pxe: list[tuple[float, IPv4Address]] = field(default_factory=list)  # server on port 4011
    boot_file: str = ""
    bare: tuple[int, IPv4Address] | None = None  # transaction, and who gave an address alone


class DhcpHeard:
    """Follows the DHCP messages of all machines in a capture."""

    def __init__(self, heard: Heard) -> None:
        self._heard = heard
        self._asking: dict[str, _Asking] = {}

    def feed(self, at: float, data: bytes, target: IPv4Address, ports: tuple[int, int]) -> bool:
        """Whether the datagram was a DHCP message."""
        try:
            packet = parse(data)
        except MalformedError:
            return False
        mac = mac_text(packet.chaddr)
        asking = self._asking.setdefault(mac, _Asking())
        if packet.op == 1:
            self._asked(at, mac, asking, packet, target if ports[1] == 4011 else None)
        elif packet.op == 2:
            self._answered(at, mac, asking, packet, pxe=ports[0] == 4011)
        return True

    def finish(self) -> None:
        """Say what was never answered, once the capture is over."""
        for mac, asking in self._asking.items():
            self._silence(mac, asking)

    def _asked(
        self, at: float, mac: str, asking: _Asking, packet: Packet, pxe: IPv4Address | None
    ) -> None:
        if packet.ciaddr != NOWHERE:
            self._heard.belongs(packet.ciaddr, mac, sure=True)
        if pxe is not None:
            asking.at_pxe.append((at, pxe))
        elif packet.message_type is MessageType.DISCOVER:
            if asking.requests or asking.offers:
                self._silence(mac, asking)
            asking.discovers.append((at, packet))
            self._seen(at, mac, packet)
        elif packet.message_type is MessageType.REQUEST:
            asking.requests.append((at, packet))
        elif packet.message_type is MessageType.DECLINE:
            address = packet.address_option(Code.REQUESTED_ADDRESS)
            if address:
                who, where = self._heard.who(mac), self._heard.segment(address)
                self._heard.say(at, GivenBack(who, where, address, declined=True))

    def _seen(
        self, at: float, mac: str, packet: Packet, offered: IPv4Address | None = None
    ) -> None:
        boot = boot_request(packet)
        vendor = packet.options.get(Code.VENDOR_CLASS, b"").decode("ascii", "replace")
        relay = described(packet) if packet.giaddr != NOWHERE else ""
        segment = self._heard.segment(offered or (packet.giaddr if relay else None))
        self._heard.say(at, Seen(
            self._heard.who(mac), segment, boot.described if boot else None, vendor,
            boot.architecture if boot else None, "", relay, offered,
        ))  # fmt: skip

    def _answered(self, at: float, mac: str, asking: _Asking, packet: Packet, *, pxe: bool) -> None:
        server = packet.address_option(Code.SERVER_ID) or packet.siaddr
        file = packet.options.get(Code.BOOT_FILE, b"").rstrip(b"\0") or packet.file
        if pxe:
            asking.at_pxe.clear()
            self._told(mac, asking, file)
            return
        if packet.message_type is MessageType.OFFER:
            asking.offers[server] = packet
            if asking.discovers and packet.yiaddr != NOWHERE:
                self._seen(at, mac, asking.discovers[-1][1], packet.yiaddr)
            asking.discovers.clear()
            if packet.yiaddr == NOWHERE:
                self._told(mac, asking, file)
            elif file and asking.bare and asking.bare[0] == packet.xid:
                self._too_late(at, mac, asking.bare[1], server, packet.yiaddr)
        elif packet.message_type is MessageType.NAK:
            asking.requests.clear()
            why = packet.options.get(Code.MESSAGE, b"").decode("utf-8", "replace")
            reason = f"{server} refused the address (NAK{': ' if why else ''}{why})"
            self._heard.say(at, Refused(self._heard.who(mac), "", reason, Refusal.BY_ANOTHER))
        elif packet.message_type is MessageType.ACK and packet.yiaddr != NOWHERE:
            self._acknowledged(at, mac, asking, packet, server, file)

    def _acknowledged(
        self, at: float, mac: str, asking: _Asking, packet: Packet, server: IPv4Address, file: bytes
    ) -> None:
        self._heard.belongs(packet.yiaddr, mac, sure=True)
        request = asking.requests[-1][1] if asking.requests else None
        firmware = bool(request and boot_request(request))
        asking.requests.clear()
        who, where = self._heard.who(mac, packet.yiaddr), self._heard.segment(packet.yiaddr)
        better = [
            s for s, o in asking.offers.items()
            if s != server and o.yiaddr != NOWHERE and (o.file or Code.BOOT_FILE in o.options)
        ]  # fmt: skip
        offers, asking.offers = asking.offers, {}
        if firmware and not file and not asking.boot_file:
            asking.bare = packet.xid, server
            if better:
                self._too_late(at, mac, server, better[0], packet.yiaddr)
                return
        self._told(mac, asking, file)
        lease = int.from_bytes(packet.options.get(Code.LEASE_TIME, b""), "big")
        boot_file = asking.boot_file if firmware else None
        self._heard.say(at, Addressed(
            who, where, packet.yiaddr, lease, boot_file, False, firmware,
            server if len(offers) > 1 else None,
        ))  # fmt: skip

    def _too_late(
        self, at: float, mac: str, server: IPv4Address, better: IPv4Address, address: IPv4Address
    ) -> None:
        """The address of one server was taken, and the boot file of another was not."""
        how = f"gave this machine an address without a boot file; {better} offered both"
        where = self._heard.segment(address)
        self._heard.say(at, OtherServer(self._heard.who(mac), where, server, how))

    def _told(self, mac: str, asking: _Asking, file: bytes) -> None:
        if file:
            asking.boot_file = file.decode("utf-8", "replace")
            self._heard.loaders[mac] = asking.boot_file

    def _silence(self, mac: str, asking: _Asking) -> None:
        """What it asked, and nobody answered."""
        who = self._heard.who(mac)
        if asking.discovers and not asking.offers:
            count, at = len(asking.discovers), asking.discovers[-1][0]
            if count >= _TRIES:
                self._heard.say(at, Unanswered(who, Service.DHCP, "", None, count))
        if len(asking.requests) >= _TRIES:
            at, request = asking.requests[-1]
            address = request.address_option(Code.REQUESTED_ADDRESS) or request.ciaddr
            server = request.address_option(Code.SERVER_ID)
            count = len(asking.requests)
            self._heard.say(at, Unanswered(who, Service.REQUEST, str(address), server, count))
        if asking.at_pxe:
            at, server = asking.at_pxe[-1]
            self._heard.say(at, Unanswered(who, Service.PXE, "", server, len(asking.at_pxe)))
        asking.discovers, asking.requests, asking.at_pxe = [], [], []
        asking.offers = {}
