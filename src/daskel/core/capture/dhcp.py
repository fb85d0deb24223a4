"""DHCP in a capture: what each machine asked, who offered what, and what came of it.

A capture may have one direction alone, begin anywhere, and hold less than whole messages.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.capture.heard import End, Heard
from daskel.core.capture.scope import Scope, Traffic
from daskel.core.dhcp.client_messages import look_asks_as
from daskel.core.dhcp.needs import Need, boot_file_of, unmet
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet, parse_part
from daskel.core.dhcp.pxe import HTTP_CLASS, PXE_CLASS, BootRequest, boot_request, is_system
from daskel.core.dhcp.relay import described
from daskel.core.history.events import (
    Address,
    Addressed,
    GivenBack,
    OtherServer,
    Refusal,
    Refused,
    Seen,
    Service,
    Unanswered,
    Unfit,
)
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text

_TRIES = 2  # messages without an answer, before it is called silence
_TWICE = 0.2  # seconds: the same message, through a relay agent or beside it


def _next_server(replies: list[Packet]) -> Need | None:
    """What is missing where no header says which server the files are on."""
    if any(reply.siaddr != NOWHERE for reply in replies):
        return None
    by_option = any(Code.BOOT_SERVER in reply.options for reply in replies)
    return Need.HEADER_SERVER if by_option else Need.NEXT_SERVER


@dataclass
class _Asking:
    """What one machine asks just now."""

    discovers: list[tuple[float, Packet]] = field(default_factory=list)  # without an offer
    last: tuple[float, Packet] | None = None  # DISCOVER that nothing was said of yet
    seeks: bool = False  # it has asked for an address, and not for one that it was offered
    boot: BootRequest | None = None  # what its firmware asked with
    offers: dict[Address, Packet] = field(default_factory=dict)  # by server
    requests: list[tuple[float, Packet]] = field(default_factory=list)
    at_pxe: list[tuple[float, Address]] = field(default_factory=list)  # server on port 4011
    by_port: bool = False  # port 4011 has answered
    boot_file: str = ""
    bare: tuple[int, Address] | None = None  # transaction, and who gave an address alone
    heard: dict[tuple[object, ...], float] = field(default_factory=dict)  # messages, when


class DhcpHeard:
    """Follows the DHCP messages of all machines in a capture."""

    def __init__(self, heard: Heard, scope: Scope) -> None:
        self._heard, self._scope = heard, scope
        self._asking: dict[str, _Asking] = {}
        self._looks: set[bytes] = set()  # hardware addresses with which servers look for others

    def feed(
        self, at: float, sender: bytes, data: bytes, ends: tuple[End, End], length: int
    ) -> None:  # fmt: skip
        """`sender`: of the frame; `data` may be cut; `length`: bytes of the whole payload."""
        try:
            packet = parse_part(data)
        except MalformedError:
            return
        (_, from_port), (target, to_port) = ends
        hardware = packet.chaddr[:6]
        if packet.op == 1 and packet.giaddr == NOWHERE and hardware == look_asks_as(sender):
            self._looks.add(hardware)
        if hardware in self._looks:
            return
        self._scope.seen.add(Traffic.DHCP_ASKED if packet.op == 1 else Traffic.DHCP_ANSWERED)
        mac = mac_text(packet.chaddr)
        asking = self._asking.setdefault(mac, _Asking())
        kind = self._kind(mac, asking, packet, cut=len(data) < length)
        if self._again(at, asking, packet, kind):
            return
        if packet.op == 1:
            self._scope.clients.add(hardware if packet.giaddr == NOWHERE else sender)
            self._heard.asked.add(mac)
            self._asked(at, mac, asking, packet, kind, target if to_port == 4011 else None)
        elif packet.op == 2:
            self._answered(at, mac, asking, packet, kind, pxe=from_port == 4011)

    def _kind(
        self, mac: str, asking: _Asking, packet: Packet, *, cut: bool
    ) -> MessageType | None:  # fmt: skip
        """Of a message that is cut before its type, what it must be by those before it."""
        if packet.message_type or not cut:
            return packet.message_type
        self._scope.dhcp_cut.add(mac)
        offered = any(offer.xid == packet.xid for offer in asking.offers.values())
        asked = any(request.xid == packet.xid for _, request in asking.requests)
        if packet.op == 1:
            renews = packet.ciaddr != NOWHERE
            return MessageType.REQUEST if offered or asked or renews else MessageType.DISCOVER
        return MessageType.ACK if asked else MessageType.OFFER

    def _again(self, at: float, asking: _Asking, packet: Packet, kind: MessageType | None) -> bool:
        """Whether the message was there a moment ago, from a relay agent or for it."""
        server = packet.options.get(Code.SERVER_ID, b"")
        key = packet.op, packet.xid, kind, packet.secs, server, packet.yiaddr
        before = asking.heard.get(key, float("-inf"))
        asking.heard[key] = at
        if len(asking.heard) > 64:
            asking.heard.pop(next(iter(asking.heard)))
        return at - before < _TWICE

    def finish(self) -> None:
        """Say what was never answered, once the capture is over."""
        for mac, asking in self._asking.items():
            self._silence(mac, asking)

    def _asked(
        self, at: float, mac: str, asking: _Asking, packet: Packet, kind: MessageType | None,
        pxe: Address | None,
    ) -> None:  # fmt: skip
        if packet.ciaddr != NOWHERE:
            self._heard.belongs(packet.ciaddr, mac, sure=True)
        if pxe is not None:
            asking.at_pxe.append((at, pxe))
        elif kind is MessageType.DISCOVER:
            if asking.requests or asking.offers or asking.at_pxe:
                self._silence(mac, asking)
            self._seen(mac, asking)
            asking.discovers.append((at, packet))
            asking.last, asking.seeks = (at, packet), True
            asking.boot = boot_request(packet)
        elif kind is MessageType.REQUEST:
            self._seen(mac, asking)
            asking.discovers.clear()  # an offer was taken
            asking.seeks = False
            asking.requests.append((at, packet))
            asking.boot = boot_request(packet) or asking.boot
            if address := packet.address_option(Code.REQUESTED_ADDRESS):
                self._heard.belongs(address, mac, sure=True)
        elif kind is MessageType.DECLINE:
            declined = packet.address_option(Code.REQUESTED_ADDRESS)
            if declined:
                who, where = self._heard.who(mac), self._heard.segment(declined)
                self._heard.say(at, GivenBack(who, where, declined, declined=True))

    def _seen(self, mac: str, asking: _Asking, offered: IPv4Address | None = None) -> None:
        """Say that it asked, once for each DISCOVER."""
        if asking.last is None:
            return
        at, packet = asking.last
        asking.last = None
        boot = boot_request(packet)
        vendor = packet.options.get(Code.VENDOR_CLASS, b"").decode("ascii", "replace")
        relay = described(packet) if packet.giaddr != NOWHERE else ""
        segment = self._heard.segment(offered or (packet.giaddr if relay else None))
        self._heard.say(at, Seen(
            self._heard.who(mac), segment, boot.described if boot else None, vendor,
            boot.architecture if boot else None, "", relay, offered, is_system(packet),
        ))  # fmt: skip

    def _answered(
        self, at: float, mac: str, asking: _Asking, packet: Packet, kind: MessageType | None, *,
        pxe: bool,
    ) -> None:  # fmt: skip
        server = packet.address_option(Code.SERVER_ID) or packet.siaddr
        file = boot_file_of(packet)
        if pxe:
            asking.at_pxe.clear()
            asking.by_port = True
            self._told(mac, asking, file)
        elif kind is MessageType.OFFER:
            self._offered(at, mac, asking, packet, server)
        elif kind is MessageType.NAK:
            self._seen(mac, asking)
            asking.requests.clear()
            why = packet.options.get(Code.MESSAGE, b"").decode("utf-8", "replace")
            reason = f"{server} refused the address (NAK{': ' if why else ''}{why})"
            self._heard.say(at, Refused(self._heard.who(mac), "", reason, Refusal.BY_ANOTHER))
        elif kind is MessageType.ACK and packet.yiaddr != NOWHERE:
            self._seen(mac, asking)
            self._acknowledged(at, mac, asking, packet, server)

    def _offered(
        self, at: float, mac: str, asking: _Asking, packet: Packet, server: IPv4Address
    ) -> None:
        file = boot_file_of(packet)
        asking.offers[server] = packet
        if packet.yiaddr != NOWHERE:
            if asking.last is None and not asking.discovers:  # it asked, out of sight
                if mac not in self._heard.asked:
                    self._heard.say(at, Seen(
                        self._heard.who(mac), self._heard.segment(packet.yiaddr), None, "",
                        offered=packet.yiaddr,
                    ))  # fmt: skip
            else:
                self._seen(mac, asking, packet.yiaddr)
        asking.discovers.clear()
        if packet.yiaddr == NOWHERE:
            self._told(mac, asking, file)
        elif file and asking.bare and asking.bare[0] == packet.xid:
            self._too_late(at, mac, asking.bare[1], server, packet.yiaddr)

    def _acknowledged(
        self, at: float, mac: str, asking: _Asking, packet: Packet, server: IPv4Address
    ) -> None:
        self._heard.belongs(packet.yiaddr, mac, sure=True)
        firmware = self._is_firmware(asking, packet)
        asking.requests.clear()
        file = boot_file_of(packet)
        who, where = self._heard.who(mac, packet.yiaddr), self._heard.segment(packet.yiaddr)
        better = [
            s for s, o in asking.offers.items()
            if s != server and o.yiaddr != NOWHERE and boot_file_of(o)
        ]  # fmt: skip
        offers, asking.offers = asking.offers, {}
        if firmware and not file and not asking.boot_file:
            asking.bare = packet.xid, server
            if better:
                self._too_late(at, mac, server, better[0], packet.yiaddr)
                return
        self._told(mac, asking, file)
        lease = int.from_bytes(packet.options.get(Code.LEASE_TIME, b""), "big")
        cut = mac in self._scope.dhcp_cut and not packet.options
        none = None if self._heard.starts_from_disk(mac) else ""
        boot_file = asking.boot_file or none if firmware else None
        self._heard.say(at, Addressed(
            who, where, packet.yiaddr, lease, boot_file, False, firmware,
            server if len(offers) > 1 else None,
        ))  # fmt: skip
        if firmware and not cut and boot_file is not None:
            self._judge(at, mac, asking, [*offers.values(), packet])

    def _is_firmware(self, asking: _Asking, reply: Packet) -> bool:
        """By what it asked with; where that was not heard, by what it is told."""
        if asking.requests:
            return boot_request(asking.requests[-1][1]) is not None
        told = reply.options.get(Code.VENDOR_CLASS, b"")
        return told.startswith((PXE_CLASS, HTTP_CLASS)) or bool(boot_file_of(reply))

    def _judge(self, at: float, mac: str, asking: _Asking, replies: list[Packet]) -> None:
        """Whether its firmware has all it needs, in one of the replies or the other."""
        need = unmet(asking.boot, replies) if asking.boot else None
        if need is Need.BOOT_FILE and asking.boot_file:
            return
        if need is Need.PXE_PORT or (need and asking.by_port):
            return  # its question there is heard, or its silence
        if need is None and not asking.boot_file.partition("://")[1]:
            need = _next_server(replies)
        if need:
            server = replies[-1].address_option(Code.SERVER_ID)
            self._heard.say(at, Unfit(self._heard.who(mac), need, server))

    def _too_late(
        self, at: float, mac: str, server: Address, better: Address, address: IPv4Address
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
        """What it asked, and nobody answered; where it went on nevertheless, the answer was not
        heard."""
        self._seen(mac, asking)
        who = self._heard.who(mac)
        if asking.discovers and not asking.offers:
            count, at = len(asking.discovers), asking.discovers[-1][0]
            if count >= _TRIES and not self._heard.active(mac, at):
                self._heard.say(at, Unanswered(who, Service.DHCP, "", None, count))
        if asking.offers and asking.seeks:
            self._not_taken(mac, asking)
        if asking.requests:
            self._unacknowledged(mac, asking)
        if asking.at_pxe and not self._heard.active(mac, asking.at_pxe[-1][0]):
            at, server = asking.at_pxe[-1]
            if len(asking.at_pxe) >= _TRIES:
                self._heard.say(at, Unanswered(who, Service.PXE, "", server, len(asking.at_pxe)))
        asking.discovers, asking.requests, asking.at_pxe = [], [], []
        asking.offers, asking.by_port, asking.seeks = {}, False, False

    def _not_taken(self, mac: str, asking: _Asking) -> None:
        """Offers that it did not take, although it asked."""
        need = unmet(asking.boot, list(asking.offers.values())) if asking.boot else None
        if need and mac not in self._scope.dhcp_cut:
            at = max(at for at, event in self._heard.events if event.who.mac == mac)
            self._heard.say(at, Unfit(self._heard.who(mac), need, next(iter(asking.offers))))

    def _unacknowledged(self, mac: str, asking: _Asking) -> None:
        at, request = asking.requests[-1]
        who = self._heard.who(mac)
        address = request.address_option(Code.REQUESTED_ADDRESS) or request.ciaddr
        if self._heard.active(mac, at):
            boots = boot_request(request) is not None
            file = asking.boot_file or "" if boots else None
            self._heard.say(at, Addressed(
                self._heard.who(mac, address), self._heard.segment(address), address, 0, file,
                False, boots,
            ))  # fmt: skip
        elif len(asking.requests) >= _TRIES:
            server = request.address_option(Code.SERVER_ID)
            count = len(asking.requests)
            self._heard.say(at, Unanswered(who, Service.REQUEST, str(address), server, count))
