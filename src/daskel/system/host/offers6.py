"""Asks a wire who answers there over IPv6, DHCPv6 servers and routers, and takes nothing of what is
offered."""

from __future__ import annotations

import select
import socket
import struct
import time
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv6Address

from daskel.core.dhcp.router_advertisement import ASKS, Network, networks_in
from daskel.core.dhcp6.client_messages import ALL
from daskel.core.dhcp6.message import Message, Type, parse
from daskel.core.reader import MalformedError
from daskel.system.requirements import MissingRequirementError

_CLIENT, _SERVER = 546, 547
_ALL_ROUTERS = "ff02::2"
_HOPS = 255  # RFC 4861 4.1


@dataclass(frozen=True, slots=True)
class Router:
    """One that says something of the network. `routes`: machines can send through it."""

    address: IPv6Address
    routes: bool
    by_dhcp: bool  # addresses are given by DHCPv6
    networks: tuple[Network, ...]


@dataclass(frozen=True, slots=True)
class Offer6:
    """An ADVERTISE, and which of the messages it answers."""

    asked: int
    address: IPv6Address  # of the sender
    offer: Message


def heard_over_ipv6(
    interface: str, messages: Sequence[bytes], seconds: float
) -> tuple[list[Router], list[Offer6]]:
    """What comes within `seconds`; `messages` differ in their transaction numbers. Raises OSError
    where the wire cannot be asked: without IPv6, or where a DHCP client of this machine has port
    546, which is not disturbed. Raises MissingRequirementError without the permission."""
    try:
        with _udp(interface) as dhcp, _icmp(interface) as icmp:
            index = socket.if_nametoindex(interface)
            for message in messages:
                dhcp.sendto(message, (str(ALL), _SERVER, 0, index))
            icmp.sendto(ASKS, (_ALL_ROUTERS, 0, 0, index))
            return _listen(dhcp, icmp, [message[1:4] for message in messages], seconds)
    except PermissionError:
        raise MissingRequirementError("no permission to ask the wire", "run as root") from None


def _udp(interface: str) -> socket.socket:
    sock = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode() + b"\0")
        sock.bind(("::", _CLIENT))
        sock.setblocking(False)
    except OSError:
        sock.close()
        raise
    return sock


def _icmp(interface: str) -> socket.socket:
    sock = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6)
    try:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode() + b"\0")
        for option in (socket.IPV6_MULTICAST_HOPS, socket.IPV6_UNICAST_HOPS):
            sock.setsockopt(socket.IPPROTO_IPV6, option, _HOPS)
        index = struct.pack("=I", socket.if_nametoindex(interface))
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, index)
        sock.setblocking(False)
    except OSError:
        sock.close()
        raise
    return sock


def _listen(
    dhcp: socket.socket, icmp: socket.socket, numbers: Sequence[bytes], seconds: float
) -> tuple[list[Router], list[Offer6]]:
    routers: dict[IPv6Address, Router] = {}
    offers: dict[tuple[int, IPv6Address], Offer6] = {}
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        ready, _, _ = select.select([dhcp, icmp], [], [], left)
        for sock in ready:
            data, peer = sock.recvfrom(4096)
            address = IPv6Address(peer[0].partition("%")[0])
            if sock is icmp:
                told = networks_in(data)
                if told is not None:
                    routers[address] = Router(address, *told)
                continue
            try:
                offer = parse(data)
            except MalformedError:
                continue
            xid = offer.xid.to_bytes(3, "big")
            if offer.type is Type.ADVERTISE and xid in numbers:
                number = numbers.index(xid)
                offers[number, address] = Offer6(number, address, offer)
    return list(routers.values()), list(offers.values())
