"""DHCP, complete four-packet exchanges with leases on disk, against a UDP echo.

64 clients are under way at any time, each in a closed loop. An exchange is two round trips, so
the echo's limit is half of its round trips.
"""

from __future__ import annotations

import time
from collections import deque

from common import SERVER, WIRE, beside, compare, daskel, udp

from daskel.core.dhcp.packet import MessageType, parse, serialise
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


def _discovers(count: int) -> deque[bytes]:
    """From machines that were never seen before."""
    global _serial
    messages: deque[bytes] = deque()
    for _ in range(count):
        _serial += 1
        mac = (0x0261F0000000 + _serial).to_bytes(6, "big").hex(":")
        messages.append(serialise(discover(SYSTEM, mac, _serial))[0])
    return messages


def exchanges() -> float:
    """Exchanges per second, each ended by an ACK."""
    waiting, done = _discovers(EXCHANGES), 0
    with udp("127.0.0.1") as sock:
        sock.settimeout(5)
        target = (ADDRESS, WIRE.ports.dhcp)
        began = time.perf_counter()
        for _ in range(OUTSTANDING):
            sock.sendto(waiting.popleft(), target)
        while done < EXCHANGES:
            reply = parse(sock.recv(2048))
            if reply.message_type is MessageType.OFFER:
                sock.sendto(serialise(request(SYSTEM, reply))[0], target)
                continue
            assert reply.message_type is MessageType.ACK
            done += 1
            if waiting:
                sock.sendto(waiting.popleft(), target)
        return EXCHANGES / (time.perf_counter() - began)


def echoes() -> float:
    """Pairs of round trips per second, of messages as large, read and written as above."""
    waiting, done = _discovers(2 * EXCHANGES), 0
    with udp("127.0.0.1") as sock:
        sock.settimeout(5)
        target = (ADDRESS, ECHO_PORT)
        began = time.perf_counter()
        for _ in range(OUTSTANDING):
            sock.sendto(waiting.popleft(), target)
        while done < 2 * EXCHANGES:
            sock.recv(2048)
            done += 1
            if waiting:
                sock.sendto(waiting.popleft(), target)
        return EXCHANGES / (time.perf_counter() - began)


def main() -> None:
    with daskel(), beside(echo):
        time.sleep(0.5)
        title = f"DHCP, four-packet exchanges, committed, {OUTSTANDING} outstanding"
        compare(title, "exchanges/s", exchanges, ("UDP echo / 2", echoes))


if __name__ == "__main__":
    main()
