"""Answers router solicitations on one interface, so that BIOS ROMs do not wait for a router; and
tells of a network by itself, where the site says so."""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
from contextlib import suppress

from daskel.core.dhcp.router_advertisement import NO_ROUTER, SOLICITATION, is_solicitation

_ALL_ROUTERS, _ALL_NODES = "ff02::2", "ff02::1"
_ICMPV6_FILTER = 1  # icmp6(7): a bit for each type of message that is not wanted
_AGAIN = 200.0  # seconds between two advertisements that nobody asked for (RFC 4861 6.2.1)
_HOPS = 255  # RFC 4861 4.2: anything less comes from another network
_log = logging.getLogger(__name__)


class NoRouter:
    """`network`: an advertisement of one (`network_here`). Raises OSError where raw sockets are
    forbidden or the interface has no IPv6."""

    def __init__(self, interface: str, network: bytes | None = None) -> None:
        self._said, self._again = network or NO_ROUTER, network is not None
        self._timer: asyncio.TimerHandle | None = None
        self._index = socket.if_nametoindex(interface)
        kind = socket.SOCK_RAW | socket.SOCK_NONBLOCK
        self._sock = socket.socket(socket.AF_INET6, kind, socket.IPPROTO_ICMPV6)
        unwanted = [0xFFFFFFFF] * 8
        unwanted[SOLICITATION // 32] &= ~(1 << SOLICITATION % 32)
        group = socket.inet_pton(socket.AF_INET6, _ALL_ROUTERS) + struct.pack("=I", self._index)
        ipv6 = socket.IPPROTO_IPV6
        try:
            self._sock.setsockopt(
                socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode() + b"\0"
            )
            self._sock.setsockopt(
                socket.IPPROTO_ICMPV6, _ICMPV6_FILTER, struct.pack("=8I", *unwanted)
            )
            self._sock.setsockopt(ipv6, socket.IPV6_JOIN_GROUP, group)
            self._sock.setsockopt(ipv6, socket.IPV6_MULTICAST_IF, self._index)
            for option in (socket.IPV6_MULTICAST_HOPS, socket.IPV6_UNICAST_HOPS):
                self._sock.setsockopt(ipv6, option, _HOPS)
        except OSError:
            self._sock.close()
            raise
        asyncio.get_running_loop().add_reader(self._sock, self._receive)
        if self._again:
            self._advertise()

    def _advertise(self) -> None:
        with suppress(OSError):
            self._sock.sendto(self._said, (_ALL_NODES, 0, 0, self._index))
        self._timer = asyncio.get_running_loop().call_later(_AGAIN, self._advertise)

    def _receive(self) -> None:
        for _ in range(64):
            try:
                message, peer = self._sock.recvfrom(1280)
                if is_solicitation(message):
                    nobody = peer[0].startswith("::")  # it has no address of its own yet
                    target = (_ALL_NODES, 0, 0, self._index) if nobody else peer
                    self._sock.sendto(self._said, target)
            except OSError:
                return

    def close(self) -> None:
        """Close its socket."""
        if self._timer:
            self._timer.cancel()
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()


class Advertiser:
    """Tells machines on one interface of their IPv6 network: a service like the others."""

    def __init__(self, interface: str, network: bytes) -> None:
        self._interface, self._network = interface, network
        self._router: NoRouter | None = None

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        try:
            self._router = NoRouter(self._interface, self._network)
        except OSError as error:
            lost = "machines are not told of their IPv6 network"
            _log.warning("IPv6 on %s (%s): %s", self._interface, error.strerror, lost)
        await asyncio.get_running_loop().create_future()  # until it is ended

    def close(self) -> None:
        """Close its socket."""
        if self._router:
            self._router.close()
