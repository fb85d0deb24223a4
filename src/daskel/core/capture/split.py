"""Which boot a frame belongs to, and how much of it is worth keeping.

Offsets instead of a library's objects: every frame of a full line passes through here.
"""

from __future__ import annotations

from dataclasses import dataclass

from daskel.core.dhcp.packet import NOWHERE, MessageType, parse
from daskel.core.dhcp.pxe import boot_request
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text

WHOLE = 2048  # bytes of a frame that are looked at, and kept of DHCP and of what a client sends
_HEADS = 384  # bytes kept of what a client is sent: what a file holds is not worth it
_LONG, _SHORT = 16 << 20, 128  # bytes of one boot, and how many of each packet are kept after them
_SAME_TRY = 60.0  # seconds in which firmware that got nowhere asks again
_MOST_TIME, _MOST_BYTES = 900.0, 64 << 20  # of one boot
_MOST_MACHINES = 2000
_VLAN, _ARP, _IPV4 = b"\x81\x00", b"\x08\x06", b"\x08\x00"  # IEEE 802.3, 802.1Q
_UDP = 17
_DHCP = frozenset(port.to_bytes(2, "big") for port in (67, 68, 4011))


@dataclass(slots=True)
class _Recorded:
    """The boot of one machine that is being recorded."""

    mac: str
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
    """Fed with the frames of a wire, in the order of their times. Machines are known by the bytes
    of their MAC addresses, and of the addresses that they were given."""

    def __init__(self) -> None:
        self._boots: dict[bytes, _Recorded] = {}
        self._macs: dict[bytes, bytes] = {}

    def feed(self, at: float, frame: bytes) -> Kept | None:
        """None for what is of no machine that has begun to boot, or of one that is done."""
        found = self._whose(at, frame)
        if found is None:
            return None
        boot, whole = found
        data = frame[: WHOLE if whole else _HEADS if boot.kept < _LONG else _SHORT]
        if at - boot.began > _MOST_TIME or boot.kept + len(data) > _MOST_BYTES:
            return None
        boot.kept, boot.last = boot.kept + len(data), at
        return Kept(boot.mac, boot.began, data)

    def _whose(self, at: float, frame: bytes) -> tuple[_Recorded, bool] | None:
        """The boot, and whether the frame is worth being kept whole."""
        start = 18 if frame[12:14] == _VLAN else 14
        kind = frame[start - 2 : start]
        if kind == _ARP:
            sender = self._boots.get(frame[start + 8 : start + 14])
            return (sender, True) if sender else None
        if kind != _IPV4 or len(frame) < start + 20:
            return None
        if frame[start + 9] == _UDP:
            inside = start + (frame[start] & 15) * 4
            if not _DHCP.isdisjoint((frame[inside : inside + 2], frame[inside + 2 : inside + 4])):
                end = start + int.from_bytes(frame[start + 2 : start + 4], "big")
                boot = self._dhcp(at, frame[inside + 8 : end], frame[6:12])
                return (boot, True) if boot else None
        own = self._boots.get(self._macs.get(frame[start + 12 : start + 16], frame[6:12]))
        boot = own or self._boots.get(self._macs.get(frame[start + 16 : start + 20], frame[:6]))
        if boot is None:
            return None
        boot.moved = True
        return boot, own is not None

    def _dhcp(self, at: float, data: bytes, sender: bytes) -> _Recorded | None:
        """`sender`: of the frame; another than the machine itself only looks who answers."""
        try:
            message = parse(data)
        except MalformedError:
            return None
        mac, kind = message.chaddr[:6], message.message_type
        asks = kind is MessageType.DISCOVER and boot_request(message) is not None
        asks = asks and (sender == mac or message.giaddr != NOWHERE)
        boot = self._boots.get(mac)
        if asks and (boot is None or boot.moved or at - boot.last > _SAME_TRY):
            self._begin(at, mac)
        if kind is MessageType.ACK and message.yiaddr != NOWHERE:
            self._macs[message.yiaddr.packed] = mac
        elif message.ciaddr != NOWHERE and message.op == 1:
            self._macs[message.ciaddr.packed] = mac
        return self._boots.get(mac)

    def _begin(self, at: float, mac: bytes) -> None:
        self._boots.pop(mac, None)
        if len(self._boots) >= _MOST_MACHINES:
            del self._boots[next(iter(self._boots))]
            self._macs = {a: m for a, m in self._macs.items() if m in self._boots}
        self._boots[mac] = _Recorded(mac_text(mac), at, at)
