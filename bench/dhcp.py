"""DHCP, complete four-packet exchanges with leases on disk, against a UDP echo.

64 clients are under way at any time, each in a closed loop. An exchange is two round trips, so
the echo's limit is half of its round trips.
"""

from __future__ import annotations

import time
from collections import deque

from common import SERVER, WIRE, beside, compare, daskel, udp

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, serialise
from daskel.rehearse.firmware import SYSTEM, discover, request

OUTSTANDING, EXCHANGES = 64, 3000
ECHO_PORT = 25998
ADDRESS = WIRE.outside(SERVER)
_serial = 0


def echo() -> None:
    with udp(ADDRESS, ECHO_PORT) as sock:
        while True:
            data, peer = sock.recvfrom(2048)
            sock.sendto(data, peer)


def _mac(number: int) -> str:
    return (0x0261F0000000 + number).to_bytes(6, "big").hex(":")


def site() -> str:
    """Clients with places in the pool: what machines that are not in the site may do is limited."""
    clients = (
        f'[client.c{n}]\nmac = "{_mac(n)}"\nsegment = "tideroom"\n' for n in range(EXCHANGES)
    )
    return "".join(clients)


def _messages(count: int) -> deque[tuple[bytes, bytearray]]:
    """DISCOVER, and REQUEST without its address, of one machine after the other."""
    global _serial
    messages: deque[tuple[bytes, bytearray]] = deque()
    for _ in range(count):
        _serial += 1
        asked = discover(SYSTEM, _mac(_serial % EXCHANGES), _serial)
        offer = Packet(2, _serial, asked.chaddr, {Code.SERVER_ID: SERVER.packed})
        taken = bytearray(serialise(request(SYSTEM, offer))[0])
        messages.append((serialise(asked)[0], taken))
    return messages


def exchanges() -> float:
    """Exchanges per second, each ended by an ACK. The client only patches and sends."""
    waiting, done = _messages(EXCHANGES), 0
    place = waiting[0][1].index(bytes((Code.REQUESTED_ADDRESS, 4))) + 2
    under_way: dict[bytes, bytearray] = {}  # by transaction number
    with udp("127.0.0.1") as sock:
        sock.settimeout(5)
        target = (ADDRESS, WIRE.ports.dhcp)

        def begin() -> None:
            first, second = waiting.popleft()
            under_way[first[4:8]] = second
            sock.sendto(first, target)

        began = time.perf_counter()
        for _ in range(OUTSTANDING):
            begin()
        while done < EXCHANGES:
            reply = sock.recv(2048)
            assert reply[240:242] == b"\x35\1"
            if reply[242] == MessageType.OFFER:
                taken = under_way.pop(reply[4:8])
                taken[place : place + 4] = reply[16:20]
                sock.sendto(taken, target)
                continue
            assert reply[242] == MessageType.ACK
            done += 1
            if waiting:
                begin()
        return EXCHANGES / (time.perf_counter() - began)


def echoes() -> float:
    """Pairs of round trips per second, of messages as large."""
    waiting, done = [first for first, _ in _messages(2 * EXCHANGES)], 0
    with udp("127.0.0.1") as sock:
        sock.settimeout(5)
        target = (ADDRESS, ECHO_PORT)
        began = time.perf_counter()
        for _ in range(OUTSTANDING):
            sock.sendto(waiting.pop(), target)
        while done < 2 * EXCHANGES:
            sock.recv(2048)
            done += 1
            if waiting:
                sock.sendto(waiting.pop(), target)
        return EXCHANGES / (time.perf_counter() - began)


def main() -> None:
    with daskel(more=site()), beside(echo):
        time.sleep(0.5)
        title = f"DHCP, four-packet exchanges, committed, {OUTSTANDING} outstanding"
        compare(title, "exchanges/s", exchanges, ("UDP echo / 2", echoes))


if __name__ == "__main__":
    main()
