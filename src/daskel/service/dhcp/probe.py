"""Asks whether somebody has an address already, before it is offered to somebody else."""

from __future__ import annotations

import asyncio
import os
import socket
from contextlib import suppress
from ipaddress import IPv4Address

from daskel.core.dhcp import frame
from daskel.service.clock import Clock

ARP_WAIT, ECHO_WAIT = 0.1, 0.3  # seconds for an answer on the wire, and from behind a relay
_GOOD_FOR = 60.0  # seconds that "nobody answered" is believed
_MOST = 10_000  # answers remembered


class ArpProbe:
    """For one interface. Raises OSError where packet sockets are forbidden."""

    def __init__(self, interface: str, clock: Clock) -> None:
        self._clock = clock
        kind = socket.SOCK_RAW | socket.SOCK_NONBLOCK
        self._sock = socket.socket(socket.AF_PACKET, kind, socket.htons(frame.ARP))
        self._sock.bind((interface, frame.ARP))
        self.hardware: bytes = self._sock.getsockname()[4]
        self._asked: dict[IPv4Address, asyncio.Future[bytes]] = {}
        self._free: dict[IPv4Address, float] = {}
        asyncio.get_running_loop().add_reader(self._sock, self._receive)

    async def holder(
        self, address: IPv4Address, asker: bytes, *, anew: bool = False
    ) -> bytes | None:
        """The hardware address of somebody other than `asker` who has `address`; `anew`: what was
        found a moment ago does not count."""
        if (
            not anew
            and self._clock.monotonic() - self._free.get(address, float("-inf")) < _GOOD_FOR
        ):
            return None
        future = self._asked.get(address)
        if future is None:
            future = self._asked[address] = asyncio.get_running_loop().create_future()
            with suppress(OSError):
                self._sock.send(frame.arp_probe(self.hardware, address))
        try:
            found = await asyncio.wait_for(asyncio.shield(future), ARP_WAIT)
        except TimeoutError:
            found = asker
        finally:
            self._asked.pop(address, None)
        if found != asker:
            return found
        if len(self._free) >= _MOST:
            self._free.clear()
        self._free[address] = self._clock.monotonic()
        return None

    def _receive(self) -> None:
        for _ in range(64):
            try:
                said = frame.arp_sender(self._sock.recv(256))
            except OSError:
                return
            future = self._asked.get(said[0]) if said else None
            if said and future and not future.done():
                future.set_result(said[1])

    def close(self) -> None:
        """Close its socket."""
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()


class EchoProbe:
    """For addresses behind relay agents. Raises OSError where raw sockets are forbidden."""

    def __init__(self) -> None:
        kind = socket.SOCK_RAW | socket.SOCK_NONBLOCK
        self._sock = socket.socket(socket.AF_INET, kind, socket.IPPROTO_ICMP)
        self._asked: dict[IPv4Address, asyncio.Future[None]] = {}
        asyncio.get_running_loop().add_reader(self._sock, self._receive)

    async def answers(self, address: IPv4Address) -> bool:
        """Whether somebody answers an echo request (RFC 792) in time."""
        future = self._asked.get(address)
        if future is None:
            future = self._asked[address] = asyncio.get_running_loop().create_future()
            with suppress(OSError):
                request = frame.echo_request(os.getpid() & 0xFFFF, 1)
                self._sock.sendto(request, (str(address), 0))
        try:
            await asyncio.wait_for(asyncio.shield(future), ECHO_WAIT)
        except TimeoutError:
            return False
        finally:
            self._asked.pop(address, None)
        return True

    def _receive(self) -> None:
        for _ in range(64):
            try:
                data, (sender, _) = self._sock.recvfrom(256)
            except OSError:
                return
            future = self._asked.get(IPv4Address(sender))
            echo_reply = len(data) > 20 and data[(data[0] & 15) * 4] == 0
            if future and echo_reply and not future.done():
                future.set_result(None)

    def close(self) -> None:
        """Close its socket."""
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
