"""DHCP on one segment: datagrams in, decisions from the core, leases to disk, replies out.

All datagrams that wait are decided together and their leases kept in one transaction; no ACK
leaves before that is on disk.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
import time
from ipaddress import IPv4Address

from daskel.core.boot.answer import Answer
from daskel.core.dhcp.packet import Packet, parse, serialise
from daskel.core.dhcp.responder import BROADCAST, destination
from daskel.core.reader import MalformedError
from daskel.service.shared import Shared
from daskel.service.sockets import IP_PKTINFO

_BATCH = 256  # datagrams decided together
_LARGEST = 4096  # bytes of a datagram
_PKTINFO = struct.Struct("=I4s4s")  # interface index, local address, destination address
_log = logging.getLogger(__name__)


class DhcpService:
    """One segment's DHCP socket."""

    def __init__(self, shared: Shared, segment: str, sock: socket.socket) -> None:
        self._shared, self._segment, self._sock = shared, segment, sock
        self._server = shared.site.segments[segment].server

    async def serve(self) -> None:
        while True:
            await self._readable()
            batch = [(peer, self._decide(data, to)) for data, to, peer in self._drain()]
            answered = [(peer, *both) for peer, both in batch if both]
            try:
                await self._shared.keep([lease for _, _, a in answered for lease in a.leases])
            except Exception:  # the disk is full or gone: no lease on disk, no reply
                _log.exception("leases could not be kept; no reply is sent")
                continue
            for peer, request, answer in answered:
                self._finish(peer, request, answer)

    def close(self) -> None:
        self._sock.close()

    async def _readable(self) -> None:
        loop = asyncio.get_running_loop()
        ready: asyncio.Future[None] = loop.create_future()
        loop.add_reader(self._sock, _wake, ready)
        try:
            await ready
        finally:
            loop.remove_reader(self._sock)

    def _drain(self) -> list[tuple[bytes, IPv4Address | None, tuple[str, int]]]:
        """What waits in the socket: data, the address it was sent to, the sender."""
        waiting = []
        for _ in range(_BATCH):
            try:
                data, notes, _, peer = self._sock.recvmsg(_LARGEST, socket.CMSG_SPACE(12))
            except BlockingIOError:
                break
            except OSError:
                continue  # an ICMP error of an earlier reply
            waiting.append((data, _sent_to(notes), peer))
        return waiting

    def _decide(self, data: bytes, to: IPv4Address | None) -> tuple[Packet, Answer] | None:
        try:
            request = parse(data)
        except MalformedError as error:
            self._shared.malformed("dhcp", str(error))
            return None
        unicast = to is None or to == self._server
        now = time.time()
        try:
            return request, self._shared.answers.dhcp(self._segment, request, now, unicast=unicast)
        except Exception:  # a fault of ours with one message must not end the service for all
            _log.exception(
                "a DHCP message of %s could not be answered", request.chaddr[:6].hex(":")
            )
            return None

    def _finish(self, peer: tuple[str, int], request: Packet, answer: Answer) -> None:
        for event in answer.events:
            self._shared.emit(event)
        if answer.reply is None:
            return
        data, dropped = serialise(answer.reply, request.limit)
        if dropped:
            _log.warning("options %s did not fit into a reply to %s", dropped, peer[0])
        try:
            self._send(data, self._target(peer, request, answer.reply))
        except OSError as error:
            _log.warning("a DHCP reply could not be sent: %s", error)

    def _target(self, peer: tuple[str, int], request: Packet, reply: Packet) -> tuple[str, int]:
        if self._shared.wire.loopback:
            return peer
        kind = reply.message_type
        assert kind, "replies are DHCP messages"
        address, relay = destination(request, kind)
        return str(address), self._shared.wire.ports.dhcp + (0 if relay else 1)

    def _send(self, data: bytes, target: tuple[str, int]) -> None:
        if target[0] == str(BROADCAST):
            source = _PKTINFO.pack(0, self._server.packed, bytes(4))
            notes = [(socket.IPPROTO_IP, IP_PKTINFO, source)]
            self._sock.sendmsg([data], notes, 0, target)
        else:
            self._sock.sendto(data, target)


def _wake(ready: asyncio.Future[None]) -> None:
    if not ready.done():
        ready.set_result(None)


def _sent_to(notes: list[tuple[int, int, bytes]]) -> IPv4Address | None:
    for level, kind, data in notes:
        if level == socket.IPPROTO_IP and kind == IP_PKTINFO:
            return IPv4Address(_PKTINFO.unpack(data[: _PKTINFO.size])[2])
    return None
