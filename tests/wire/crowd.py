"""Simulated clients on a wire, which boot again and again against whatever servers answer:
`crowd.py INTERFACE SEED CLIENTS SECONDS`. With an even seed each boot is another machine's. Prints
a line of JSON for each ACK, for each boot that came up, and for each that did not within its time."""

from __future__ import annotations

import asyncio
import json
import random
import socket
import sys
import time
from dataclasses import replace

from daskel.core.dhcp.client_messages import FACES, discover, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, parse, serialise

_WAITS = (0.5, 1.0, 2.0, 3.0, 4.0)  # seconds for an answer, as firmware waits
_BROADCAST = 0x8000
FACE = FACES["bios"]


class Crowd(asyncio.DatagramProtocol):
    """All of them; each hears what has its number."""

    def __init__(self, seed: int) -> None:
        self._waiting: dict[int, asyncio.Future[Packet]] = {}
        self._random, self._xid = random.Random(seed), seed << 24

    def datagram_received(self, data: bytes, _: object) -> None:
        reply = parse(data)
        waiting = self._waiting.get(reply.xid)
        if waiting and not waiting.done():
            waiting.set_result(reply)

    async def boot(self, mac: str) -> None:
        began, xid = time.time(), self._number()
        while time.time() < began + 60:
            offer = await self._ask(discover(FACE, mac, xid))
            if offer is None or offer.message_type is not MessageType.OFFER:
                continue
            sent = time.time()
            told = await self._ask(request(FACE, offer))
            if told is not None and told.message_type is MessageType.ACK:
                say("up", mac, told, began, sent)
                return
            xid = self._number()
        write({"what": "down", "mac": mac, "began": began})

    def _number(self) -> int:
        self._xid = (self._xid & 0xFF000000) | (self._xid + 1 & 0xFFFFFF)
        return self._xid

    async def _ask(self, message: Packet) -> Packet | None:
        data, _ = serialise(replace(message, flags=_BROADCAST))
        for wait in _WAITS:
            waiting = self._waiting[message.xid] = asyncio.get_running_loop().create_future()
            self.transport.sendto(data, ("255.255.255.255", 67))
            try:
                return await asyncio.wait_for(waiting, wait * self._random.uniform(0.9, 1.1))
            except TimeoutError:
                continue
            finally:
                del self._waiting[message.xid]
        return None

    transport: asyncio.DatagramTransport


def say(what: str, mac: str, told: Packet, began: float, sent: float) -> None:
    lease = int.from_bytes(told.options.get(Code.LEASE_TIME, b""), "big")
    server = told.address_option(Code.SERVER_ID)
    write({"what": what, "mac": mac, "address": str(told.yiaddr), "server": str(server),
           "lease": lease, "began": began, "sent": sent, "now": time.time()})  # fmt: skip


def write(line: dict[str, object]) -> None:
    sys.stdout.write(json.dumps(line) + "\n")


async def live(crowd: Crowd, mac: str, until: float, pause: random.Random) -> None:
    """One machine, which boots again and again; `mac` is empty for one that never comes back."""
    while time.time() < until:
        await asyncio.sleep(pause.uniform(0, 6))
        await crowd.boot(mac or "02:61:ff:" + pause.randbytes(3).hex(":"))


async def main(interface: str, seed: int, clients: int, seconds: float) -> None:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
    sock.bind(("0.0.0.0", 68))
    sock.setblocking(False)
    loop = asyncio.get_running_loop()
    transport, crowd = await loop.create_datagram_endpoint(lambda: Crowd(seed), sock=sock)
    crowd.transport = transport
    until, pause = time.time() + seconds, random.Random(seed)
    macs = [f"02:61:08:{seed:02x}:{n >> 8:02x}:{n & 255:02x}" for n in range(clients)]
    macs = macs if seed % 2 else [""] * clients
    await asyncio.gather(*(live(crowd, mac, until, pause) for mac in macs))


if __name__ == "__main__":
    asyncio.run(main(sys.argv[1], *map(int, sys.argv[2:])))
