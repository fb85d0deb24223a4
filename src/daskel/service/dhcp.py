"""DHCP on one interface: datagrams in, decisions from the core, leases to disk, replies out.

All datagrams that wait are decided together. Leases that are decided while others are being
written are kept together in the next transaction; no ACK leaves before its lease is on disk.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
import time
from collections.abc import Coroutine, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.answer import Answer
from daskel.core.dhcp import frame
from daskel.core.dhcp.packet import NOWHERE, Packet, parse, serialise
from daskel.core.dhcp.responder import BROADCAST, destination
from daskel.core.reader import MalformedError
from daskel.service.probe import ArpProbe, EchoProbe
from daskel.service.router import NoRouter
from daskel.service.shared import Shared
from daskel.service.sockets import IP_PKTINFO

_BATCH = 256  # datagrams decided together
_LARGEST = 4096  # bytes of a datagram
_STRANGERS = 200  # messages a second of machines that are not in the site
_PROBES = 3  # addresses that are tried until one is free
_PKTINFO = struct.Struct("=I4s4s")  # interface index, local address, destination address
_CHADDR = slice(28, 34)  # where the hardware address is in a message
_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class _Message:
    data: bytes
    to: IPv4Address | None  # the address that it was sent to
    peer: tuple[str, int]


@dataclass(frozen=True, slots=True)
class _Decided:
    message: _Message
    request: Packet
    answer: Answer


class DhcpService:
    """One DHCP socket: an interface's, or that of port 4011 of one server address."""

    def __init__(
        self, shared: Shared, server: IPv4Address, sock: socket.socket, wire: tuple[str, ...],
        interface: str | None = None, *, pxe: bool = False,
    ) -> None:  # fmt: skip
        self._shared, self._server, self._sock, self._wire = shared, server, sock, wire
        self._interface, self._pxe = interface, pxe
        self._servers = {segment.server for segment in shared.site.served.values()}
        self._arp: ArpProbe | None = None
        self._echo: EchoProbe | None = None
        self._router: NoRouter | None = None
        self._frames: socket.socket | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._unkept: list[_Decided] = []  # whose leases go to disk next
        self._keeping = False
        self._allowed, self._filled = float(_STRANGERS), time.monotonic()

    async def serve(self) -> None:
        self._open_below()
        while True:
            await self._readable()
            decided = [
                d for message in self._by_rank(self._drain()) if (d := self._decide(message))
            ]
            self._answer([d for d in decided if not self._wait_for_probe(d)])

    def _answer(self, decided: list[_Decided]) -> None:
        """Send replies without a lease now, the others when theirs is on disk."""
        for d in decided:
            if d.answer.leases:
                self._unkept.append(d)
            else:
                self._finish(d)
        if self._unkept and not self._keeping:
            self._keeping = True
            self._begin(self._keep())

    async def _keep(self) -> None:
        try:
            while self._unkept:
                batch, self._unkept = self._unkept, []
                await self._keep_batch(batch)
        finally:
            self._keeping = False

    async def _keep_batch(self, batch: list[_Decided]) -> None:
        try:
            await self._shared.keep([lease for d in batch for lease in d.answer.leases])
        except Exception:  # the disk is full or gone: no lease on disk, no reply
            _log.exception("leases could not be kept; no reply is sent")
            return
        for d in batch:
            self._finish(d)

    def _begin(self, work: Coroutine[None, None, None]) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def close(self) -> None:
        for task in self._tasks:
            task.cancel()
        for below in (self._arp, self._echo, self._router, self._frames, self._sock):
            if below:
                below.close()

    def _open_below(self) -> None:
        """What needs raw sockets; without the permission, replies are broadcast, addresses
        are not probed, and BIOS ROMs wait for a router."""
        if self._interface is None:
            return
        try:
            self._echo = EchoProbe()
            self._arp = ArpProbe(self._interface)
            self._frames = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK)
            self._frames.bind((self._interface, 0))
        except OSError as error:
            lost = "replies are broadcast, and addresses are not probed before they are offered"
            _log.warning("raw sockets on %s (%s): %s", self._interface, error.strerror, lost)
        try:
            self._router = NoRouter(self._interface)
        except OSError as error:
            lost = "BIOS ROMs will wait 16 s for an IPv6 router"
            _log.warning("IPv6 on %s (%s): %s", self._interface, error.strerror, lost)

    async def _readable(self) -> None:
        loop = asyncio.get_running_loop()
        ready: asyncio.Future[None] = loop.create_future()
        loop.add_reader(self._sock, _wake, ready)
        try:
            await ready
        finally:
            loop.remove_reader(self._sock)

    def _drain(self) -> Iterator[_Message]:
        """What waits in the socket."""
        for _ in range(_BATCH):
            try:
                data, notes, _, peer = self._sock.recvmsg(_LARGEST, socket.CMSG_SPACE(12))
            except BlockingIOError:
                break
            except OSError:
                continue  # an ICMP error of an earlier reply
            yield _Message(data, _sent_to(notes), peer)

    def _by_rank(self, messages: Iterator[_Message]) -> list[_Message]:
        """Machines of the site first; of all others no more than so many a second, so that a
        flood of made-up ones takes neither the time nor the disk."""
        known: list[_Message] = []
        strangers: list[_Message] = []
        for message in messages:
            ours = message.data[_CHADDR] in self._shared.known
            (known if ours else strangers).append(message)
        now = time.monotonic()
        self._allowed = min(_STRANGERS, self._allowed + (now - self._filled) * _STRANGERS)
        self._filled = now
        taken = strangers[: int(self._allowed)]
        self._allowed -= len(taken)
        for _ in strangers[len(taken) :]:
            reason = f"more than {_STRANGERS} a second from machines that are not in the site"
            self._shared.malformed("dhcp", reason)
        return known + taken

    def _decide(self, message: _Message) -> _Decided | None:
        try:
            request = parse(message.data)
        except MalformedError as error:
            self._shared.malformed("dhcp", str(error))
            return None
        unicast = message.to is None or message.to in self._servers
        try:
            answer = self._shared.answers.arrived(
                self._wire, request, time.time(), unicast=unicast, pxe=self._pxe
            )
        except Exception:  # a fault of ours with one message must not end the service for all
            mac = request.chaddr[:6].hex(":")
            _log.exception("a DHCP message of %s could not be answered", mac)
            return None
        return _Decided(message, request, answer)

    def _wait_for_probe(self, decided: _Decided) -> bool:
        """Whether the reply is sent later, when it is known that nobody has the address."""
        if decided.answer.probe is None or self._arp is None:
            return False
        self._begin(self._offer(decided))
        return True

    async def _offer(self, decided: _Decided) -> None:
        for _ in range(_PROBES):
            address = decided.answer.probe
            if address is None or not await self._taken(decided.request, address):
                break
            gone = self._shared.answers.in_use(decided.request, address, time.time())
            self._answer([_Decided(decided.message, decided.request, gone)])
            again = self._decide(decided.message)
            if again is None:
                return
            decided = again
        self._answer([decided])

    async def _taken(self, request: Packet, address: IPv4Address) -> bool:
        assert self._arp and self._echo
        if request.giaddr != NOWHERE:
            return await self._echo.answers(address)
        return await self._arp.holder(address, request.chaddr[:6]) is not None

    def _finish(self, decided: _Decided) -> None:
        for event in decided.answer.events:
            self._shared.emit(event)
        reply = decided.answer.reply
        if reply is None:
            return
        data, dropped = serialise(reply, decided.request.limit)
        if dropped:
            _log.warning(
                "options %s did not fit into a reply to %s", dropped, decided.message.peer[0]
            )
        try:
            self._send(data, decided, reply)
        except OSError as error:
            _log.warning("a DHCP reply could not be sent: %s", error)

    def _send(self, data: bytes, decided: _Decided, reply: Packet) -> None:
        if self._shared.wire.loopback or self._pxe:  # port 4011: back to where it came from
            self._sock.sendto(data, decided.message.peer)
            return
        port = self._shared.wire.ports.dhcp
        to = destination(decided.request, reply)
        if to.hardware and self._frames and self._arp:
            target = (to.hardware, to.address, port + 1)
            sent = frame.datagram((self._arp.hardware, self._server, port), target, data)
            self._frames.send(sent)
            return
        address = BROADCAST if to.hardware else to.address
        source = _PKTINFO.pack(0, self._server.packed, bytes(4))
        notes = [(socket.IPPROTO_IP, IP_PKTINFO, source)]
        self._sock.sendmsg([data], notes, 0, (str(address), port + (0 if to.relay else 1)))


def _wake(ready: asyncio.Future[None]) -> None:
    if not ready.done():
        ready.set_result(None)


def _sent_to(notes: list[tuple[int, int, bytes]]) -> IPv4Address | None:
    for level, kind, data in notes:
        if level == socket.IPPROTO_IP and kind == IP_PKTINFO:
            return IPv4Address(_PKTINFO.unpack(data[: _PKTINFO.size])[2])
    return None
