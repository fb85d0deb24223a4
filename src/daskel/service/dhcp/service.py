"""DHCP on one interface: datagrams in, decisions from the core, leases to disk, replies out.

All datagrams that wait are decided together. Leases that are decided while others are being
written are kept together in the next transaction; no ACK leaves before its lease is on disk.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
from collections import deque
from collections.abc import Coroutine, Iterator
from ipaddress import IPv4Address
from typing import NamedTuple

from daskel.core.dhcp import frame
from daskel.core.dhcp.packet import (
    NOWHERE,
    MessageType,
    Packet,
    kind_and_server,
    with_lease_time,
)
from daskel.core.dhcp.relay import cut_short
from daskel.core.dhcp.responder import BROADCAST, Destination
from daskel.core.history.events import Event, Seen
from daskel.core.reader import MalformedError
from daskel.core.replies.memory import Decision, decided
from daskel.service.allowance import Allowance
from daskel.service.dhcp.probe import ArpProbe, EchoProbe
from daskel.service.dhcp.router_advertiser import NoRouter
from daskel.service.peers import NO_PROMISE, refusing
from daskel.service.shared import Shared
from daskel.service.sockets import IP_PKTINFO
from daskel.store.beats import StoreAwayError

_BATCH = 256  # datagrams decided together
_LARGEST = 4096  # bytes of a datagram
_STRANGERS = 200  # messages a second of machines that are not in the site
_DECLINES, _DECLINES_IN = 3, 600.0  # believed without a look at the wire; seconds
_PROBES = 3  # addresses that are tried until one is free
_PKTINFO = struct.Struct("=I4s4s")  # interface index, local address, destination address
_DESTINATION = slice(8, 12)
_GIADDR, _CHADDR = slice(24, 28), slice(28, 34)  # where they are in a message
_TOO_MANY = f"more than {_STRANGERS} a second from machines that are not in the site"
_log = logging.getLogger(__name__)


class _Message(NamedTuple):
    data: bytes
    unicast: bool
    peer: tuple[str, int]


class DhcpService:
    """One DHCP socket: an interface's, or that of port 4011 of one server address."""

    def __init__(
        self, shared: Shared, server: IPv4Address, sock: socket.socket, wire: tuple[str, ...],
        interface: str | None = None, *, pxe: bool = False,
    ) -> None:  # fmt: skip
        self._shared, self._server, self._sock, self._wire = shared, server, sock, wire
        self._interface, self._pxe = interface, pxe
        self._servers = {segment.server.packed for segment in shared.site.served.values()}
        self._arp: ArpProbe | None = None
        self._echo: EchoProbe | None = None
        self._router: NoRouter | None = None
        self._frames: socket.socket | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._unkept: list[tuple[_Message, Decision]] = []  # whose leases go to disk next
        self._keeping = False
        self._untold: list[Event] = []  # to be told when the replies are on their way
        relays = {relay.packed for s in shared.site.served.values() for relay in s.relays}
        self._strangers = {
            relay: Allowance(shared.clock, _STRANGERS) for relay in (bytes(4), *relays)
        }
        self._declines: deque[float] = deque(maxlen=_DECLINES)  # when one was believed

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        self._open_below()
        loop = asyncio.get_running_loop()
        loop.add_reader(self._sock, self._readable)
        try:
            await loop.create_future()  # until it is ended
        finally:
            loop.remove_reader(self._sock)

    def _readable(self) -> None:
        """Machines of the site first; of all others at most a number a second, so that a flood
        of made-up ones takes neither the time nor the disk. Each relay agent of the site has a
        number of its own."""
        strangers: list[_Message] = []
        known, datagrams = self._shared.known, self._shared.datagrams
        now = self._shared.lease_time()
        here = datagrams.memory(self._wire, unicast=True, pxe=self._pxe)
        everywhere = datagrams.memory(self._wire, unicast=False, pxe=self._pxe)
        peers = self._shared.peers
        for message in self._drain():
            data = message.data
            if peers and not self._pxe and not peers.is_mine(data, unicast=message.unicast):
                continue
            why = peers.stranded(data[_CHADDR]) if peers else None
            if why and kind_and_server(data)[0] == MessageType.DISCOVER:
                decision = self._decide(message)
                self._untold += refusing(decision.events, *why) if decision else []
                continue
            again = datagrams.again(here if message.unicast else everywhere, data, now)
            if again is not None:
                self._answer(message, again)
            elif data[_CHADDR] in known:
                self._take(message)
            else:
                strangers.append(message)
        for message in strangers:
            relay = message.data[_GIADDR]
            if self._strangers.get(relay, self._strangers[bytes(4)]).take():
                self._take(message)
            else:
                self._shared.malformed("dhcp", _TOO_MANY)
        self._settle()

    def _take(self, message: _Message) -> None:
        decision = self._decide(message)
        if decision is None:
            return
        if self._shared.away and self._waits(decision):
            return
        if decision.declined is not None:
            self._begin(self._decline(message, decision))
        elif decision.probe is not None and self._arp:
            self._begin(self._offer(message, decision))
        else:
            self._answer(message, decision)

    def _waits(self, decision: Decision) -> bool:
        """What it asks for cannot be kept now: it is offered no address that nobody promised it."""
        seen = next((event for event in decision.events if isinstance(event, Seen)), None)
        if seen is None or decision.to is None or seen.offered is None:
            return False
        held = self._shared.leases.of(seen.segment, str(seen.who.mac))
        if held and self._shared.can_wait(held):
            return False
        self._untold += refusing(decision.events, *NO_PROMISE)
        return True

    def _answer(self, message: _Message, decision: Decision) -> None:
        """Send a reply without a lease now, another when its lease is on disk."""
        for claim in decision.claims:
            self._shared.claimed(claim)
        if decision.leases and not self._shared.is_kept(decision.leases):
            self._unkept.append((message, decision))
        else:
            self._finish(message, decision)

    def _settle(self) -> None:
        """Tell what happened, and begin to keep what is to be kept."""
        self._tell()
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

    async def _keep_batch(self, batch: list[tuple[_Message, Decision]]) -> None:
        leases = [lease for _, decision in batch for lease in decision.leases]
        try:
            refused = await self._shared.keep(leases)
        except StoreAwayError:
            for message, decision in batch:
                self._finish_from_memory(message, decision)
            self._tell()
            return
        except Exception:  # the disk is full or gone: no lease on disk, no reply  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("leases could not be kept; no reply is sent")
            return
        for message, decision in batch:
            if refused and any(lease.address in refused for lease in decision.leases):
                self._decide_again(message, decision)
            else:
                self._finish(message, decision)
        self._tell()

    def _decide_again(self, message: _Message, refused: Decision) -> None:
        """Another server gave the address away meanwhile, and what is remembered says so now."""
        decision = self._decide(message) if refused.to else None
        taken = {lease.address for lease in refused.leases}
        if decision and not any(lease.address in taken for lease in decision.leases):
            self._answer(message, decision)

    def _finish_from_memory(self, message: _Message, decision: Decision) -> None:
        """The store is away: a machine keeps its address for what it was promised and is left of
        that."""
        if decision.to is None:
            return
        seconds = self._shared.lent(decision.leases)
        if seconds:
            reply = with_lease_time(decision.reply, seconds)
            self._finish(message, decision._replace(reply=reply))

    def _tell(self) -> None:
        events, self._untold = self._untold, []
        for event in events:
            self._shared.emit(event)

    def _begin(self, work: Coroutine[None, None, None]) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def close(self) -> None:
        """Close its sockets; what is under way is dropped."""
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
            self._arp = ArpProbe(self._interface, self._shared.clock)
            self._frames = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK)
            self._frames.bind((self._interface, 0))
        except OSError as error:
            lost = "replies are broadcast, and addresses are not probed before they are offered"
            _log.warning("raw sockets on %s (%s): %s", self._interface, error.strerror, lost)
        if any(self._shared.site.segments[name].advertise6 for name in self._wire):
            return  # it is told of one: `Advertiser`
        try:
            self._router = NoRouter(self._interface)
        except OSError as error:
            lost = "BIOS ROMs will wait 16 s for an IPv6 router"
            _log.warning("IPv6 on %s (%s): %s", self._interface, error.strerror, lost)

    def _drain(self) -> Iterator[_Message]:
        """What waits in the socket."""
        for _ in range(_BATCH):
            try:
                data, notes, _, peer = self._sock.recvmsg(_LARGEST, socket.CMSG_SPACE(12))
            except BlockingIOError:
                break
            except OSError:
                continue  # an ICMP error of an earlier reply
            to = _sent_to(notes)
            yield _Message(data, to is None or to in self._servers, peer)

    def _decide(self, message: _Message) -> Decision | None:
        try:
            decision = self._shared.datagrams.receive(
                self._wire,
                message.data,
                self._shared.lease_time(),
                unicast=message.unicast,
                pxe=self._pxe,
            )
            if (request := decision.request) and cut_short(request):
                reason = f"option 82 of the relay agent {request.giaddr} is cut short"
                self._shared.malformed("dhcp", reason)
            return decision
        except MalformedError as error:
            self._shared.malformed("dhcp", str(error))
            return None
        except Exception:  # a fault of ours with one message must not end the service for all  # noqa: BLE001 - a fault of ours ends nothing else
            mac = message.data[_CHADDR].hex(":")
            _log.exception("a DHCP message of %s could not be answered", mac)
            return None

    async def _offer(self, message: _Message, decision: Decision) -> None:
        """Send the reply when it is known that nobody has the address."""
        for _ in range(_PROBES):
            address, request = decision.probe, decision.request
            if address is None or request is None or not await self._taken(request, address):
                break
            gone = self._shared.answers.in_use(request, address, self._shared.lease_time())
            self._answer(message, decided(request, gone))
            self._settle()
            again = self._decide(message)
            if again is None:
                return
            decision = again
        self._answer(message, decision)
        self._settle()

    async def _decline(self, message: _Message, decision: Decision) -> None:
        """Put an address aside that its machine found taken, when the wire says so, too: anybody
        can decline in another's name. Behind relay agents a few are believed."""
        address, request = decision.declined, decision.request
        assert address is not None and request is not None
        if request.giaddr == NOWHERE and self._arp:
            taken = await self._arp.holder(address, request.chaddr[:6], anew=True) is not None
        else:
            taken = self._believes_decline()
        if taken:
            gone = self._shared.answers.in_use(request, address, self._shared.lease_time())
            self._answer(message, decided(request, gone))
            self._settle()

    def _believes_decline(self) -> bool:
        now = self._shared.clock.monotonic()
        if len(self._declines) == _DECLINES and now - self._declines[0] < _DECLINES_IN:
            reason = f"more than {_DECLINES} addresses declined in ten minutes: not believed"
            self._shared.malformed("dhcp", reason)
            return False
        self._declines.append(now)
        return True

    async def _taken(self, request: Packet, address: IPv4Address) -> bool:
        assert self._arp and self._echo
        if request.giaddr != NOWHERE:
            return await self._echo.answers(address)
        return await self._arp.holder(address, request.chaddr[:6]) is not None

    def _finish(self, message: _Message, decision: Decision) -> None:
        if decision.to is not None:
            try:
                self._send(decision.reply, decision.to, message.peer)
            except OSError as error:
                _log.warning("a DHCP reply could not be sent: %s", error)
        if decision.dropped:
            options = ", ".join(map(str, decision.dropped))
            _log.warning("options %s did not fit into a reply to %s", options, message.peer[0])
        self._untold += decision.events

    def _send(self, data: bytes, to: Destination, peer: tuple[str, int]) -> None:
        if self._shared.wire.loopback or self._pxe:  # port 4011: back to where it came from
            self._sock.sendto(data, peer)
            return
        port = self._shared.wire.ports.dhcp
        if to.hardware and self._frames and self._arp:
            target = (to.hardware, to.address, port + 1)
            sent = frame.datagram((self._arp.hardware, self._server, port), target, data)
            self._frames.send(sent)
            return
        address = BROADCAST if to.hardware else to.address
        source = _PKTINFO.pack(0, self._server.packed, bytes(4))
        notes = [(socket.IPPROTO_IP, IP_PKTINFO, source)]
        self._sock.sendmsg([data], notes, 0, (str(address), port + (0 if to.relay else 1)))


def _sent_to(notes: list[tuple[int, int, bytes]]) -> bytes | None:
    """The address that a datagram was sent to."""
    for level, kind, data in notes:
        if level == socket.IPPROTO_IP and kind == IP_PKTINFO:
            return data[_DESTINATION]
    return None
