"""DHCPv6 on one interface: datagrams in, decisions from the core, leases to disk, replies out.

As with DHCP for IPv4, no REPLY leaves before its lease is on disk, machines of the site come first,
and of all others a number a second is looked at.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import struct
from collections import deque
from collections.abc import Sequence
from ipaddress import IPv6Address

from daskel.core.dhcp6.message import Code, Message, Type, parse, with_lifetimes
from daskel.core.history.events import Event, Refusal, Seen
from daskel.core.reader import MalformedError
from daskel.core.replies.answer6 import Answer6, hardware_of
from daskel.service import sockets
from daskel.service.allowance import Allowance
from daskel.service.peers import NO_PROMISE, hardware, refusing
from daskel.service.shared import Shared
from daskel.store.beats import StoreAwayError

PORT = 547
_GROUP = "ff02::1:2"  # all relay agents and servers (RFC 8415 7.1)
_BATCH, _LARGEST = 256, 4096  # datagrams decided together; bytes of one
_STRANGERS = 200  # messages a second of machines that are not in the site
_EACH = 20  # and of each that is
_DECLINES, _DECLINES_IN = 3, 600.0  # addresses that are put aside because a machine says so
_TOO_MANY = f"more than {_STRANGERS} a second from machines that are not in the site"
_OF_ALL = (Type.SOLICIT, Type.REBIND, Type.CONFIRM, Type.INFORMATION_REQUEST)  # any server's
_log = logging.getLogger(__name__)

Peer = tuple[str, int, int, int]


class Dhcp6Service:
    """One socket. Raises MissingRequirementError when the port is not free."""

    def __init__(self, shared: Shared, interface: str, wire: Sequence[str]) -> None:
        self._shared, self._wire = shared, tuple(wire)
        self._sock = sockets.dhcp6(interface, PORT)
        index = socket.if_nametoindex(interface)
        group = socket.inet_pton(socket.AF_INET6, _GROUP) + struct.pack("=I", index)
        try:
            self._sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_JOIN_GROUP, group)
        except OSError:
            self._sock.close()
            raise
        self._strangers = Allowance(shared.clock, _STRANGERS)
        self._known: dict[str, Allowance] = {}  # by MAC address, of machines of the site
        self._declines: deque[float] = deque(maxlen=_DECLINES)
        self._unkept: list[tuple[Answer6, Peer]] = []
        self._keeper: asyncio.Task[None] | None = None

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        loop = asyncio.get_running_loop()
        loop.add_reader(self._sock, self._readable)
        try:
            await loop.create_future()  # until it is ended
        finally:
            loop.remove_reader(self._sock)

    def close(self) -> None:
        """Close its socket; what is under way is dropped."""
        if self._keeper:
            self._keeper.cancel()
        self._sock.close()

    def _readable(self) -> None:
        strangers: list[tuple[Message, Peer]] = []
        for _ in range(_BATCH):
            try:
                data, peer = self._sock.recvfrom(_LARGEST)
            except BlockingIOError:
                break
            except OSError:
                continue  # an ICMPv6 error of an earlier reply
            try:
                message = parse(data)
            except MalformedError as error:
                self._shared.malformed("dhcpv6", str(error))
                continue
            if message.cut:
                self._shared.malformed("dhcpv6", "DHCPv6 message: its end is missing")
                continue
            mac = hardware_of(self._shared.site6, message, _address(peer))
            if not self._is_mine(message, mac):
                continue
            if mac is None or mac not in self._shared.site.by_mac:
                strangers.append((message, peer))
            elif self._known.setdefault(mac, Allowance(self._shared.clock, _EACH)).take():
                self._take(message, peer)
            else:
                self._shared.malformed("dhcpv6", f"more than {_EACH} a second from {mac}")
        for message, peer in strangers:
            if self._strangers.take():
                self._take(message, peer)
            else:
                self._shared.malformed("dhcpv6", _TOO_MANY)

    def _is_mine(self, message: Message, mac: str | None) -> bool:
        """Whether this server is to look at a message, of several."""
        peers = self._shared.peers
        if not peers or Code.SERVER_ID in message.options or message.type not in _OF_ALL:
            return True
        return peers.is_mine6(mac, message.xid, begins=message.type is Type.SOLICIT)

    def _take(self, message: Message, peer: Peer) -> None:
        try:
            now = self._shared.lease_time()
            answers = self._shared.answers6
            answer = answers.receive(self._wire, message, _address(peer), now)
            for lease in answer.declined if self._believes(answer) else ():
                gone = answers.in_use(lease, now)
                answer.leases += gone.leases
                answer.events += gone.events
        except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("a DHCPv6 message from %s could not be answered", peer[0])
            return
        if message.type is Type.SOLICIT and (why := self._why_to_wait(answer)):
            self._tell(refusing(answer.events, *why))
        elif answer.leases and not self._shared.is_kept(answer.leases):
            self._unkept.append((answer, peer))
            if self._keeper is None or self._keeper.done():
                self._keeper = asyncio.create_task(self._keep())
        else:
            self._finish(answer, peer)

    def _why_to_wait(self, answer: Answer6) -> tuple[str, Refusal] | None:
        """Why a machine that begins is not offered anything, where there are several servers."""
        peers = self._shared.peers
        seen = next((event for event in answer.events if isinstance(event, Seen)), None)
        if peers is None or seen is None or seen.who.mac is None:
            return None
        if self._shared.away and isinstance(seen.offered, IPv6Address):
            held = self._shared.leases.at(seen.offered)
            if held is None or not self._shared.can_wait(held):
                return NO_PROMISE
        return peers.stranded(hardware(seen.who.mac))

    def _believes(self, answer: Answer6) -> bool:
        """Anybody can decline in another's name: a few are believed."""
        now = self._shared.clock.monotonic()
        if not answer.declined:
            return False
        if len(self._declines) == _DECLINES and now - self._declines[0] < _DECLINES_IN:
            reason = f"more than {_DECLINES} addresses declined in ten minutes: not believed"
            self._shared.malformed("dhcpv6", reason)
            return False
        self._declines.append(now)
        return True

    async def _keep(self) -> None:
        while self._unkept:
            batch, self._unkept = self._unkept, []
            try:
                leases = [lease for answer, _ in batch for lease in answer.leases]
                refused = await self._shared.keep(leases)
            except StoreAwayError:
                for answer, peer in batch:
                    if seconds := self._shared.lent(answer.leases):
                        answer.reply = with_lifetimes(answer.reply, seconds)
                        self._finish(answer, peer)
                continue
            except Exception:  # the disk is full or gone: no lease on disk, no reply  # noqa: BLE001 - a fault of ours ends nothing else
                _log.exception("leases could not be kept; no reply is sent")
                continue
            for answer, peer in batch:
                if not any(lease.address in refused for lease in answer.leases):
                    self._finish(answer, peer)

    def _finish(self, answer: Answer6, peer: Peer) -> None:
        if answer.reply:
            try:
                self._sock.sendto(answer.reply, peer)
            except OSError as error:
                _log.warning("a DHCPv6 reply could not be sent: %s", error)
        self._tell(answer.events)

    def _tell(self, events: Sequence[Event]) -> None:
        for event in events:
            self._shared.emit(event)


def _address(peer: Peer) -> IPv6Address:
    return IPv6Address(peer[0].partition("%")[0])
