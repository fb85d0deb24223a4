"""What a capture can show at all: protocols, directions, lengths, its beginning and end. Nothing
is concluded from what it cannot show."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum

from daskel.core.capture.heard import End
from daskel.core.history.case import Blind
from daskel.core.values import counted, show_duration

_BEFORE = 180.0  # seconds: between firmware's first message and its system's, at most


class Traffic(Enum):
    """Kinds of traffic, as far as the presence of one says something about a filter."""

    DHCP_ASKED = "DHCP messages of clients"
    DHCP_ANSWERED = "DHCP messages of servers"
    TFTP_ASKED = "TFTP requests"
    TFTP_SENT = "TFTP data"  # and other answers, which come from a port of their own
    TFTP_TAKEN = "TFTP acknowledgements"
    HTTP = "HTTP"
    NFS = "NFS"
    ARP = "ARP"
    OTHER = "other traffic"


_UNFILTERED = {Traffic.ARP, Traffic.OTHER}  # what nobody asks for who wants to see boots alone


_BEGINS, _ANSWERS = 1, 2
_LENGTHS = {_BEGINS: 148, _ANSWERS: 92, 3: 64}  # of messages with a fixed one


def tunnel_message(data: bytes, length: int) -> int:
    """The type of a message of WireGuard (its protocol, 5.4), in a datagram of `length` bytes; 0
    for anything else."""
    kind = data[0] if data[1:4] == bytes(3) else 0
    if kind == 4:
        return 4 if length >= 32 and length % 16 == 0 else 0
    return kind if _LENGTHS.get(kind) == length else 0


@dataclass
class Scope:
    """Fed with what was seen of a capture."""

    first: float = 0.0  # seconds since 1970
    last: float = 0.0
    packets: int = 0
    cut: int = 0
    twice: int = 0
    tagged: int = 0  # with VLAN tags
    routers: dict[bytes, bool] = field(default_factory=dict)  # IPv6's: addresses by DHCPv6?
    seen: set[Traffic] = field(default_factory=set)
    senders: set[bytes] = field(default_factory=set)  # hardware addresses
    addressed: set[bytes] = field(default_factory=set)  # to whom frames went, and to nobody else
    raw: set[bytes] = field(default_factory=set)  # who asks in raw Ethernet frames
    clients: set[bytes] = field(default_factory=set)  # of those, who asked for something
    tunnels: dict[tuple[End, End], bytes] = field(default_factory=dict)  # begun by this machine
    encrypted: dict[bytes, tuple[str, float]] = field(default_factory=dict)  # with whom, until when
    dhcp_cut: set[str] = field(default_factory=set)  # machines whose messages say not what they are

    def packet(self, at: float) -> None:
        """One more packet, at a time in seconds since 1970."""
        self.first = self.first if self.packets else at
        self.last = max(at, self.last)
        self.packets += 1

    def tunnel(self, at: float, kind: int, sender: bytes, source: End, target: End) -> None:
        """A message of an encrypted tunnel: of either end, each of which may begin it."""
        if kind == _BEGINS:
            self.tunnels.setdefault((source, target), sender)
            return
        begun = self.tunnels.get((target, source))
        if kind == _ANSWERS and begun:
            self.encrypted[begun] = str(source[0]), at
            self.encrypted[sender] = str(target[0]), at
        elif sender in self.encrypted:
            self.encrypted[sender] = self.encrypted[sender][0], at

    @property
    def unfiltered(self) -> bool:
        """It holds what somebody who filters for boots leaves out."""
        return self.seen >= _UNFILTERED

    @property
    def both_ways(self) -> bool:
        """Somebody else than those who ask is heard, in whatever."""
        return bool(self.senders - self.clients) or Traffic.DHCP_ANSWERED in self.seen

    def blind(
        self, began: float, newest: float, mac: str, *, asked: bool, from_firmware: bool
    ) -> dict[Blind, str]:
        """What cannot be seen of one machine, and why. `began`: when it was heard first, `newest`
        when the boot that is meant began; `asked`: whether a DHCP message of its own is there;
        `from_firmware`: that was its firmware's."""
        found: dict[Blind, str] = {}
        if Traffic.DHCP_ANSWERED not in self.seen and not (self.unfiltered and self.both_ways):
            found[Blind.DHCP_ANSWERS] = "it holds no message of a DHCP server"
        own = bytes.fromhex(mac.replace(":", ""))
        if own in self.raw and own not in self.addressed:
            found[Blind.RAW] = "it holds no frame to this machine alone, as answers to it are"
        if mac in self.dhcp_cut:
            found[Blind.DHCP_OPTIONS] = "its DHCP messages are cut before what tells who asks"
        sent = not self.senders or own in self.senders
        if not sent and not asked:  # nor through a relay agent
            found |= dict.fromkeys(_OF_CLIENTS, "it holds nothing that this machine sent")
        elif not asked:
            found[Blind.DHCP_ASKED] = "it holds no DHCP message of this machine"
        for traffic, blind, said in _SERVICES:
            if traffic not in self.seen and not self.unfiltered:
                found.setdefault(blind, said)
        if own in self.encrypted:
            other, last = self.encrypted[own]
            found[Blind.TUNNEL] = f"it goes on encrypted with {other}, in a tunnel (WireGuard)"
            if last > newest:
                found[Blind.NFS] = found[Blind.TUNNEL]
        elif asks := next((ends[1][0] for ends, by in self.tunnels.items() if by == own), None):
            found[Blind.TUNNEL] = f"{asks} does not answer the tunnel (WireGuard) that it asks for"
            found[Blind.NFS] = found[Blind.TUNNEL]
        if began - self.first < _BEFORE and not from_firmware:
            found[Blind.START] = "it may have begun after the machine was switched on"
        return found

    def told(self, clock: Callable[[float], str]) -> str:
        """What the capture shows, in one line for people; `clock`: a time in words."""
        span = show_duration(round(self.last - self.first))
        parts = [counted(self.packets, "packet")]
        parts[0] += f", {clock(self.first)} to {clock(self.last)} ({span})"
        notes = [f"{self.cut} cut"] if self.cut else []
        notes += [f"{self.twice} seen twice"] if self.twice else []
        notes += ["VLAN tags"] if self.tagged else []
        if self.routers:
            by_dhcp = " (addresses by DHCPv6)" if any(self.routers.values()) else ""
            notes.append(f"{counted(len(self.routers), 'IPv6 router')}{by_dhcp}")
        parts += [", ".join(notes)] if notes else []
        asked = {Traffic.DHCP_ASKED, Traffic.DHCP_ANSWERED} & self.seen
        if len(asked) == 1:
            parts.append(f"of DHCP only {next(iter(asked)).value.removeprefix('DHCP ')}")
        none = [t.value for t in _EXPECTED if t not in self.seen]
        if Traffic.TFTP_ASKED in self.seen and Traffic.TFTP_SENT not in self.seen:
            none.insert(0, Traffic.TFTP_SENT.value)
        elif Traffic.TFTP_ASKED not in self.seen:
            none.insert(0, Traffic.TFTP_ASKED.value)
        if not asked:
            none.insert(0, "DHCP")
        if none:
            parts.append(f"no {', no '.join(none)}")
        return "; ".join(parts)


_OF_CLIENTS = (Blind.DHCP_ASKED, Blind.TFTP, Blind.HTTP, Blind.NFS)
_EXPECTED = (Traffic.HTTP, Traffic.NFS, Traffic.ARP)
_SERVICES = (
    (Traffic.TFTP_ASKED, Blind.TFTP, "it holds no TFTP request (port 69)"),
    (Traffic.HTTP, Blind.HTTP, "it holds no HTTP"),
    (Traffic.NFS, Blind.NFS, "it holds no NFS"),
)
