"""A capture's frames, taken apart, and the boots that they show."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

import dpkt
from dpkt.ethernet import Ethernet
from dpkt.icmp import ICMP
from dpkt.icmp6 import ICMP6
from dpkt.ip import IP
from dpkt.ip6 import IP6
from dpkt.tcp import TCP
from dpkt.udp import UDP

from daskel.core.boot.arguments import ArgumentError
from daskel.core.boot.wire import Ports
from daskel.core.capture.dhcp import DhcpHeard
from daskel.core.capture.dhcp6 import Dhcp6Heard
from daskel.core.capture.heard import End, Heard
from daskel.core.capture.proofs import with_proofs
from daskel.core.capture.raw import RawHeard
from daskel.core.capture.scope import Scope, Traffic, tunnel_message
from daskel.core.capture.tcp import TcpHeard
from daskel.core.capture.tftp import TftpHeard
from daskel.core.capture.twice import Twice
from daskel.core.content.computed import told_to
from daskel.core.history.boots import Boot, History
from daskel.core.history.case import Blind, Case
from daskel.core.history.events import Address, Addressed, Event, FileKind, FileSent, Seen, Told
from daskel.core.site.model import Site
from daskel.core.values import mac_text

_DHCP, _DHCP6, _TFTP = (67, 68, 4011), (546, 547), 69
_RPC = (111, 2049)
_HTTP = (80, 443, 8080)
_UDP_HEADER = 8  # bytes
_ROUTER, _BY_DHCP = 134, 0x80
_NEIGHBOURS = (135, 136)  # RFC 4861 4.3, 4.4
_NOBODY = bytes(6)
_RPC_CALL = b"\0\0\0\0\0\0\0\2"  # RFC 5531: a call, of version 2
_MOUNT = (100005).to_bytes(4, "big")


@dataclass(frozen=True, slots=True)
class _Inside:
    """An IP packet of a frame; `cut`: bytes that are missing at its end."""

    source: Address
    target: Address
    data: object
    length: int  # bytes of the whole payload of IP
    cut: int


class Capture:
    """Fed with frames in the order of their times. With a site, clients have names, files their
    kinds, and what a client was told to load is known."""

    def __init__(self, site: Site | None = None) -> None:
        self._site = site
        self.scope, self._twice = Scope(), Twice()
        self._heard = Heard(site)
        self._dhcp = DhcpHeard(self._heard, self.scope)
        self._dhcp6 = Dhcp6Heard(self._heard, self.scope)
        self._tftp = TftpHeard(self._heard, self.scope)
        self._tcp, self._raw = TcpHeard(self._heard), RawHeard(self._heard, self.scope)

    def feed(self, at: float, frame: bytes) -> None:
        """`at`: seconds since 1970; `frame`: Ethernet, may be cut at its end; without a byte, it
        is the mark of a recording that goes on."""
        if not frame:
            self.scope.last = max(at, self.scope.last)
            return
        self.scope.packet(at)
        if frame[12:14] in (b"\x81\x00", b"\x88\xa8"):
            self.scope.tagged += 1
        try:
            ethernet = Ethernet(frame)
            inside = _inside(ethernet)
        except (dpkt.UnpackError, IndexError, ValueError):
            return
        if ethernet.src != _NOBODY:
            self.scope.senders.add(ethernet.src)
        if not ethernet.dst[0] & 1:
            self.scope.addressed.add(ethernet.dst)
        if inside is None:
            self._other(at, ethernet, frame)
            return
        self.scope.cut += inside.cut > 0
        if self._twice.seen(at, inside.source, inside.target, inside.data):
            self.scope.twice += 1
            return
        self._packet(at, ethernet, inside)

    def _packet(self, at: float, ethernet: Ethernet, inside: _Inside) -> None:
        data = inside.data
        if isinstance(data, UDP):
            ends = (inside.source, data.sport), (inside.target, data.dport)
            self._udp(at, ethernet, *ends, data)
        elif isinstance(data, TCP):
            self._web(ethernet, (inside.source, data.sport), (inside.target, data.dport))
            length = max(inside.length - data.off * 4, len(data.data))
            ends = (inside.source, data.sport), (inside.target, data.dport)
            self._tcp.feed(at, *ends, data, length)
        else:
            finds = isinstance(data, ICMP6) and data.type in _NEIGHBOURS  # as ARP does
            self.scope.seen.add(Traffic.ARP if finds else Traffic.OTHER)
            if isinstance(data, ICMP):
                self._icmp(data)
            elif isinstance(data, ICMP6):
                self._icmp6(ethernet, data)

    def _other(self, at: float, ethernet: Ethernet, frame: bytes) -> None:
        """What is not IP."""
        if self._raw.feed(at, frame):
            return
        arp = ethernet.type == dpkt.ethernet.ETH_TYPE_ARP
        self.scope.seen.add(Traffic.ARP if arp else Traffic.OTHER)

    def finish(self, now: float) -> list[Case]:
        """All boots, the oldest first, each with earlier ones of the same machine. `now`: when the
        capture ends."""
        self._dhcp.finish()
        self._dhcp6.finish()
        self._tftp.finish(now)
        self._tcp.finish()
        self._raw.finish()
        history = History()
        boots: dict[int, Boot] = {}
        events = sorted(self._with_told(), key=lambda pair: pair[0])
        for at, event in with_proofs(events):
            if boot := history.happened(at, event):
                boots[boot.number] = boot
        return list(self._cases(list(boots.values()), now))

    def _cases(self, boots: list[Boot], now: float) -> list[Case]:
        newest: dict[str, list[Boot]] = {}
        for boot in reversed(boots):
            newest.setdefault(boot.mac, []).append(boot)
        found = []
        for mac, own in newest.items():
            beside = [other[0] for other in newest.values() if other is not own]
            for number, boot in enumerate(own):
                over = now if number == 0 else float("inf")  # another one followed
                found.append(
                    Case(
                        boot,
                        over,
                        own[number + 1 :],
                        beside,
                        self._blind(mac, own, boot.began),
                        captured=True,
                    )
                )
        return sorted(found, key=lambda case: case.boot.began)

    def _blind(self, mac: str, own: list[Boot], newest: float) -> dict[Blind, str]:
        first = own[-1]
        seen: Seen | None = next((event for _, event in first.of(Seen)), None)
        return self.scope.blind(
            first.began, newest, mac, asked=mac in self._heard.asked,
            from_firmware=bool(seen and seen.firmware),
        )  # fmt: skip

    def _with_told(self) -> list[tuple[float, Event]]:
        """The events, and what the site says that each configuration told."""
        found = list(self._heard.events)
        addresses = {e.who.mac: e.address for _, e in found if isinstance(e, Addressed)}
        for at, event in self._heard.events:
            if not self._site or not isinstance(event, FileSent) or event.who.name is None:
                continue
            address = addresses.get(event.who.mac)
            segment = self._heard.segment(address)
            if event.kind is FileKind.CONFIGURATION and segment:
                try:
                    found.append(
                        (at, Told(event.who, told_to(self._site, event.who, segment, Ports())))
                    )
                except ArgumentError:
                    continue
        return found

    def _guess(self, ethernet: Ethernet, source: Address, port: int) -> None:
        """Who sends, by the frame, where no DHCP was heard."""
        if port in (_TFTP, *_HTTP, *_RPC):
            self._heard.belongs(source, mac_text(ethernet.src), sure=False)
            self.scope.clients.add(ethernet.src)

    def _web(self, ethernet: Ethernet, source: End, target: End) -> None:
        self._guess(ethernet, source[0], target[1])
        ports = {source[1], target[1]}
        if ports & set(_RPC):
            self.scope.seen.add(Traffic.NFS)
        elif ports & set(_HTTP):
            self.scope.seen.add(Traffic.HTTP)
        else:
            self.scope.seen.add(Traffic.OTHER)

    def _udp(self, at: float, ethernet: Ethernet, source: End, target: End, udp: UDP) -> None:
        data, ports = bytes(udp.data), {source[1], target[1]}
        length = max(udp.ulen - _UDP_HEADER, len(data))
        if kind := tunnel_message(data, length):
            self.scope.seen.add(Traffic.OTHER)
            self.scope.tunnel(at, kind, ethernet.src, source, target)
            return
        if ports & set(_DHCP) and isinstance(target[0], IPv4Address):
            self._dhcp.feed(at, ethernet.src, data, (source, target), length)
        elif ports & set(_DHCP6):
            self._dhcp6.feed(at, ethernet.src, data, source[0], target[1])
        elif ports & set(_RPC) or (data[4:12] == _RPC_CALL and data[12:16] == _MOUNT):
            self.scope.seen.add(Traffic.NFS)
            self._guess(ethernet, source[0], target[1])
            self._tcp.datagram(at, source, target, data)
        else:
            self._guess(ethernet, source[0], target[1])
            known = self._tftp.feed(at, source, target, data, length)
            if not known and not self._tcp.answered(at, source, target, data):
                self.scope.seen.add(Traffic.OTHER)

    def _icmp(self, message: ICMP) -> None:
        """Nothing listens at a port that was asked."""
        inner = getattr(message.data, "data", None)
        if message.type != 3 or not isinstance(inner, IP) or not isinstance(inner.data, UDP):
            return
        self._tftp.closed((IPv4Address(inner.src), inner.data.sport))

    def _icmp6(self, ethernet: Ethernet, message: ICMP6) -> None:
        """The same with IPv6 (RFC 4443 3.1), and what routers say (RFC 4861 4.2)."""
        said = bytes(message.data)
        if message.type == _ROUTER and len(said) > 1:
            self.scope.routers[ethernet.src] = bool(said[1] & _BY_DHCP)
        inner = getattr(message.data, "data", None)
        if message.type != 1 or not isinstance(inner, IP6) or not isinstance(inner.data, UDP):
            return
        self._tftp.closed((IPv6Address(inner.src), inner.data.sport))


def _inside(ethernet: Ethernet) -> _Inside | None:
    """The IP packet of a frame; None for a frame without one."""
    packet = ethernet.data
    if isinstance(packet, IP):
        head = packet.hl * 4
        length = packet.len - head if packet.len else len(packet) - head  # 0: left to the card
        cut = max(0, packet.len - len(packet))
        if packet.offset and isinstance(packet.data, (UDP, TCP)):
            return None  # a later fragment: what stands there is no header
        return _Inside(IPv4Address(packet.src), IPv4Address(packet.dst), packet.data, length, cut)
    if isinstance(packet, IP6):
        data = packet.data
        cut = max(0, packet.plen - (len(packet) - 40))
        return _Inside(IPv6Address(packet.src), IPv6Address(packet.dst), data, packet.plen, cut)
    return None
