"""The server's side of DHCP (RFC 2131 section 4.3): which situation, what reply, sent where.

Whether an address is right is not known here: `boot/address` decides, `boot/answer` asks both.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import BROADCAST_FLAG, NOWHERE, MessageType, Packet

BROADCAST = IPv4Address("255.255.255.255")
_TYPE, _SERVER = int(Code.MESSAGE_TYPE), int(Code.SERVER_ID)
_BACK = (int(Code.CLIENT_ID), int(Code.RELAY_AGENT))  # which a reply gives back


class Situation(Enum):
    """What a client's message means to this server (RFC 2131 4.3.2, table 4)."""

    DISCOVER = "discover"
    SELECTING = "selecting"
    ELSEWHERE = "selecting another server"
    INIT_REBOOT = "init-reboot"
    RENEWING = "renewing"
    REBINDING = "rebinding"
    DECLINE = "decline"
    RELEASE = "release"
    INFORM = "inform"


_BY_TYPE = {
    MessageType.DISCOVER: Situation.DISCOVER,
    MessageType.DECLINE: Situation.DECLINE,
    MessageType.RELEASE: Situation.RELEASE,
    MessageType.INFORM: Situation.INFORM,
}


def situation(packet: Packet, server: IPv4Address, *, unicast: bool) -> Situation | None:
    """None for messages that are not for a server (replies, BOOTP, no Ethernet address).

    `unicast` says that the datagram was sent to the server's own address: that alone tells a
    renewing client from a rebinding one.
    """
    if packet.op != 1 or packet.htype != 1 or packet.hlen != 6:
        return None
    kind = packet.message_type
    chosen = packet.address_option(Code.SERVER_ID)
    if kind is MessageType.REQUEST:
        return _request(packet, chosen, server, unicast)
    if kind in (MessageType.DECLINE, MessageType.RELEASE) and chosen not in (None, server):
        return Situation.ELSEWHERE
    return _BY_TYPE.get(kind) if kind else None


def _request(
    packet: Packet, chosen: IPv4Address | None, server: IPv4Address, unicast: bool
) -> Situation | None:
    if chosen is not None:
        return Situation.SELECTING if chosen == server else Situation.ELSEWHERE
    if packet.ciaddr != NOWHERE:
        return Situation.RENEWING if unicast else Situation.REBINDING
    return Situation.INIT_REBOOT if packet.address_option(Code.REQUESTED_ADDRESS) else None


def wanted_address(packet: Packet) -> IPv4Address | None:
    """The address that the client has or asks for: option 50, else ciaddr."""
    asked = packet.address_option(Code.REQUESTED_ADDRESS)
    return asked or (packet.ciaddr if packet.ciaddr != NOWHERE else None)


def reply(
    request: Packet,
    kind: MessageType,
    server: IPv4Address,
    options: Mapping[int, bytes],
    *,
    yiaddr: IPv4Address = NOWHERE,
    siaddr: IPv4Address = NOWHERE,
    file: bytes = b"",
) -> Packet:
    """A reply with the fields of RFC 2131 table 3, and the client identifier back (RFC 6842).

    `options` keep their order behind message type and server identifier: it is their rank when
    the client's maximum message size is small.
    """
    said: dict[int, bytes] = {_TYPE: bytes((kind,)), _SERVER: server.packed}
    said.update(options)
    said.update((code, request.options[code]) for code in _BACK if code in request.options)
    # A NAK to a relayed client must be broadcast there: RFC 2131 4.3.2.
    flag = BROADCAST_FLAG if kind is MessageType.NAK and request.giaddr != NOWHERE else 0
    return Packet(
        op=2,
        xid=request.xid,
        chaddr=request.chaddr,
        options=said,
        htype=request.htype,
        hlen=request.hlen,
        flags=request.flags | flag,
        ciaddr=NOWHERE if kind is MessageType.NAK else request.ciaddr,
        yiaddr=yiaddr,
        siaddr=siaddr,
        giaddr=request.giaddr,
        file=file,
    )


@dataclass(frozen=True, slots=True)
class Destination:
    """Where a reply goes (RFC 2131 4.1): an address and a port, perhaps by a hardware address."""

    address: IPv4Address
    relay: bool = False  # to the server's port there
    hardware: bytes = b""  # the client has no address yet: its frame must be addressed by hand


def destination(request: Packet, sent: Packet) -> Destination:
    """Where the reply `sent` goes (RFC 2131 4.1). A client that cannot take a datagram before it
    has its address says so with the broadcast flag."""
    if request.giaddr != NOWHERE:
        return Destination(request.giaddr, relay=True)
    if sent.message_type is MessageType.NAK:
        return Destination(BROADCAST)
    if request.ciaddr != NOWHERE:
        return Destination(request.ciaddr)
    if request.flags & BROADCAST_FLAG or sent.yiaddr == NOWHERE:
        return Destination(BROADCAST)
    return Destination(sent.yiaddr, hardware=request.chaddr[:6])
