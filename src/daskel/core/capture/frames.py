"""A capture's frames, taken apart, and the boots that they show."""

from __future__ import annotations

from ipaddress import IPv4Address

import dpkt
from dpkt.ethernet import Ethernet
from dpkt.icmp import ICMP
from dpkt.ip import IP
from dpkt.tcp import TCP
from dpkt.udp import UDP

from daskel.core.boot.arguments import ArgumentError
from daskel.core.boot.wire import Ports
from daskel.core.capture.dhcp import DhcpHeard
from daskel.core.capture.heard import Heard
from daskel.core.capture.tcp import TcpHeard
from daskel.core.capture.tftp import TftpHeard
from daskel.core.content.computed import told_to
from daskel.core.history.boots import Boot, History
from daskel.core.history.events import Addressed, Event, FileKind, FileSent, Told
from daskel.core.site.model import Site
from daskel.core.values import mac_text

_DHCP = (67, 68, 4011)
_RPC = (111, 2049)
_UDP_HEADER = 8  # bytes


class Capture:
    """Fed with frames in the order of their times. With a site, clients have names, files their
    kinds, and what a client was told to load is known."""

    def __init__(self, site: Site | None = None) -> None:
        self._site = site
        self._heard = Heard(site)
        self._dhcp, self._tftp = DhcpHeard(self._heard), TftpHeard(self._heard)
        self._tcp = TcpHeard(self._heard)

    def feed(self, at: float, frame: bytes) -> None:
        """`at`: seconds since 1970; `frame`: Ethernet, may be cut at its end."""
        try:
            ethernet = Ethernet(frame)
        except (dpkt.UnpackError, IndexError):
            return
        packet = ethernet.data
        if not isinstance(packet, IP):
            return
        source, target = IPv4Address(packet.src), IPv4Address(packet.dst)
        inside = packet.data
        if isinstance(inside, UDP):
            self._udp(at, ethernet, (source, inside.sport), (target, inside.dport), inside)
        elif isinstance(inside, TCP):
            self._guess(ethernet, source, inside.dport)
            head = packet.hl * 4 + inside.off * 4
            length = max(packet.len - head, len(inside.data))
            ends = (source, inside.sport), (target, inside.dport)
            self._tcp.feed(at, *ends, inside.flags, inside.seq, bytes(inside.data), length)
        elif isinstance(inside, ICMP):
            self._icmp(inside)

    def finish(self, now: float) -> list[Boot]:
        """All boots, the oldest first."""
        self._dhcp.finish()
        self._tftp.finish(now)
        self._tcp.finish()
        history = History()
        boots: dict[int, Boot] = {}
        for at, event in sorted(self._with_told(), key=lambda pair: pair[0]):
            if boot := history.happened(at, event):
                boots[boot.number] = boot
        return list(boots.values())

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

    def _guess(self, ethernet: Ethernet, source: IPv4Address, port: int) -> None:
        """Who sends, by the frame, where no DHCP was heard."""
        if port in (69, 80, *_RPC):
            self._heard.belongs(source, mac_text(ethernet.src), sure=False)

    def _udp(
        self, at: float, ethernet: Ethernet, source: tuple[IPv4Address, int],
        target: tuple[IPv4Address, int], udp: UDP,
    ) -> None:  # fmt: skip
        data, ports = bytes(udp.data), (source[1], target[1])
        if set(ports) & set(_DHCP) and self._dhcp.feed(at, data, target[0], ports):
            return
        if set(ports) & set(_RPC):
            self._guess(ethernet, source[0], target[1])
            self._tcp.datagram(at, source, target, data)
            return
        self._guess(ethernet, source[0], target[1])
        self._tftp.feed(at, source, target, data, max(udp.ulen - _UDP_HEADER, len(data)))

    def _icmp(self, message: ICMP) -> None:
        """Nothing listens at a port that was asked."""
        inner = getattr(message.data, "data", None)
        if message.type != 3 or not isinstance(inner, IP) or not isinstance(inner.data, UDP):
            return
        self._tftp.closed((IPv4Address(inner.src), inner.data.sport))
