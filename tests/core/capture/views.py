"""The same frames as others would have captured them: filtered, cut, from one side, with VLAN tags,
twice, and begun in the middle."""

from __future__ import annotations

from collections.abc import Callable

from dpkt.ethernet import Ethernet
from dpkt.ip import IP
from dpkt.ip6 import IP6
from dpkt.udp import UDP

Frames = list[tuple[float, bytes]]
View = Callable[[Frames], Frames]


def ports(*wanted: int) -> View:
    """Of UDP alone, as `port 67 or port 69` has it."""

    def view(frames: Frames) -> Frames:
        return [(at, f) for at, f in frames if (u := _udp(f)) and {u.sport, u.dport} & set(wanted)]

    return view


def cut(length: int) -> View:
    return lambda frames: [(at, f[:length]) for at, f in frames]


def clients(frames: Frames) -> Frames:
    """What clients send alone: a mirror of one direction."""
    own = _clients(frames)
    return [(at, f) for at, f in frames if f[6:12] in own]


def servers(frames: Frames) -> Frames:
    own = _clients(frames)
    return [(at, f) for at, f in frames if f[6:12] not in own]


def tagged(frames: Frames) -> Frames:
    return [(at, f[:12] + b"\x81\0\0\x0a" + f[12:]) for at, f in frames]


def twice(frames: Frames) -> Frames:
    """As on a bridge and its port."""
    return [(at + late, f) for at, f in frames for late in (0.0, 0.0002)]


def from_part(part: float) -> View:
    """Without the first frames."""
    return lambda frames: frames[int(len(frames) * part) :]


def until_part(part: float) -> View:
    return lambda frames: frames[: int(len(frames) * part)]


def every(step: int) -> View:
    """With gaps: the capturing machine was too slow."""
    return lambda frames: [f for number, f in enumerate(frames) if number % step != step - 1]


def both(first: View, second: View) -> View:
    return lambda frames: second(first(frames))


def no_data(frames: Frames) -> Frames:
    """Without large packets, as `less 300` has it."""
    return [(at, f) for at, f in frames if len(f) <= 300]


VIEWS: dict[str, View] = {
    "filtered": ports(67, 69, 4011),
    "dhcp alone": ports(67, 68),
    "tftp alone": ports(69),
    "cut to 96": cut(96),
    "cut to 300": cut(300),
    "cut to 60": cut(60),
    "clients": clients,
    "servers": servers,
    "vlan": tagged,
    "twice": twice,
    "from a third": from_part(1 / 3),
    "from two thirds": from_part(2 / 3),
    "from the second frame": lambda frames: frames[1:],
    "until two thirds": until_part(2 / 3),
    "until the last but one": lambda frames: frames[:-1],
    "with gaps": every(5),
    "without large packets": no_data,
    "filtered, clients": both(ports(67, 69, 4011), clients),
    "filtered, cut to 96": both(ports(67, 69, 4011), cut(96)),
    "clients, cut to 96": both(clients, cut(96)),
    "filtered, from a third": both(ports(67, 69, 4011), from_part(1 / 3)),
}


def _udp(frame: bytes) -> UDP | None:
    packet = Ethernet(frame).data
    inside = packet.data if isinstance(packet, (IP, IP6)) else None
    return inside if isinstance(inside, UDP) else None


def _clients(frames: Frames) -> set[bytes]:
    """Those that ask: the senders of DISCOVER, SOLICIT, and raw requests for a system."""
    own = set()
    for _, frame in frames:
        udp = _udp(frame)
        raw = frame[:3] == b"\xab\0\0" or frame[:3] == b"\x03\0\2"
        if raw or (udp and udp.dport in (67, 547) and udp.sport in (68, 546)):
            own.add(frame[6:12])
    return own
