"""Which boot a frame belongs to, and how much of it is worth keeping."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

import dpkt
from dpkt.arp import ARP
from dpkt.ethernet import Ethernet
from dpkt.ip import IP
from dpkt.udp import UDP

from daskel.core.dhcp.packet import NOWHERE, MessageType, parse
from daskel.core.dhcp.pxe import boot_request
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text

WHOLE = 2048  # bytes of a frame that are looked at, and kept of DHCP and of what a client sends
_HEADS = 384  # bytes kept of what a client is sent: what a file holds is not worth it
_SAME_TRY = 60.0  # seconds in which firmware that got nowhere asks again
_MOST_TIME, _MOST_BYTES = 900.0, 64 << 20  # of one boot
_MOST_MACHINES = 2000


@dataclass
class _Recorded:
    """The boot of one machine that is being recorded."""

    began: float
    last: float
    moved: bool = False  # it came further than asking for an address
    kept: int = 0  # bytes


@dataclass(frozen=True, slots=True)
class Kept:
    """A frame of the boot that `mac` began at `began`, as much of it as is kept."""

    mac: str
    began: float
    data: bytes


class Split:
    """Fed with the frames of a wire, in the order of their times."""

    def __init__(self) -> None:
        self._boots: dict[str, _Recorded] = {}
        self._macs: dict[IPv4Address, str] = {}

    def feed(self, at: float, frame: bytes) -> Kept | None:
        """None for what is of no machine that has begun to boot, or of one that is done."""
        try:
            ethernet = Ethernet(frame)
        except (dpkt.UnpackError, IndexError):
            return None
        found = self._whose(at, ethernet)
        if found is None:
            return None
        mac, whole = found
        boot = self._boots[mac]
        data = frame[: WHOLE if whole else _HEADS]
        if at - boot.began > _MOST_TIME or boot.kept + len(data) > _MOST_BYTES:
            return None
        boot.kept, boot.last = boot.kept + len(data), at
        return Kept(mac, boot.began, data)

    def _whose(self, at: float, ethernet: Ethernet) -> tuple[str, bool] | None:
        """The machine, and whether the frame is worth being kept whole."""
        packet = ethernet.data
        if isinstance(packet, ARP):
            sender = mac_text(packet.sha)
            return (sender, True) if sender in self._boots else None
        if not isinstance(packet, IP):
            return None
        inside = packet.data
        if isinstance(inside, UDP) and {inside.sport, inside.dport} & {67, 68, 4011}:
            mac = self._dhcp(at, bytes(inside.data), mac_text(ethernet.src))
            return (mac, True) if mac else None
        for own, address, hardware in (
            (True, packet.src, ethernet.src), (False, packet.dst, ethernet.dst),
        ):  # fmt: skip
            mac = self._macs.get(IPv4Address(address), mac_text(hardware))
            if mac in self._boots:
                self._boots[mac].moved = True
                return mac, own
        return None

    def _dhcp(self, at: float, data: bytes, sender: str) -> str | None:
        """`sender`: of the frame; another than the machine itself only looks who answers."""
        try:
            message = parse(data)
        except MalformedError:
            return None
        mac, kind = mac_text(message.chaddr), message.message_type
        asks = kind is MessageType.DISCOVER and boot_request(message) is not None
        asks = asks and (sender == mac or message.giaddr != NOWHERE)
        boot = self._boots.get(mac)
        if asks and (boot is None or boot.moved or at - boot.last > _SAME_TRY):
            self._begin(at, mac)
        if kind is MessageType.ACK and message.yiaddr != NOWHERE:
            self._macs[message.yiaddr] = mac
        elif message.ciaddr != NOWHERE and message.op == 1:
            self._macs[message.ciaddr] = mac
        return mac if mac in self._boots else None

    def _begin(self, at: float, mac: str) -> None:
        self._boots.pop(mac, None)
        if len(self._boots) >= _MOST_MACHINES:
            del self._boots[next(iter(self._boots))]
            self._macs = {a: m for a, m in self._macs.items() if m in self._boots}
        self._boots[mac] = _Recorded(at, at)
