"""DHCP, complete four-packet exchanges with leases on disk, against a UDP echo.

64 clients are under way at any time, each in a closed loop. An exchange is two round trips, so
the echo's limit is half of its round trips.
"""

from __future__ import annotations

import socket
import statistics
import time
from collections import deque
from pathlib import Path

from common import (
    RUNS,
    SERVER,
    WIRE,
    Limit,
    at_most,
    compare,
    daskel,
    processor_time,
    shown,
    small,
    started,
    udp,
    undisturbed,
)

from daskel.core.dhcp.client_messages import SYSTEM, discover, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, serialise

OUTSTANDING, FLOOD = 64, 10_000
FIRST, FIRST_P99 = 215.0, 225.0  # half of what it was: microseconds of a machine, milliseconds
EXCHANGES, ARRIVALS = small(3000, 200), small(1000, 100)
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


def arrivals(spread: float) -> list[float]:
    """Seconds from DISCOVER to ACK of 1,000 machines that come evenly within `spread` seconds;
    each asks again after one second without an answer."""
    waiting = _messages(ARRIVALS)
    place = waiting[0][1].index(bytes((Code.REQUESTED_ADDRESS, 4))) + 2
    second = {first[4:8]: bytearray(taken) for first, taken in waiting}
    began: dict[bytes, float] = {}
    again: deque[tuple[float, bytes, bytes]] = deque()  # when, whose, what to send again
    took: dict[bytes, float] = {}
    with udp("127.0.0.1") as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8 << 20)
        sock.setblocking(False)
        target, start = (ADDRESS, WIRE.ports.dhcp), time.perf_counter()

        def send(whose: bytes, data: bytes, now: float) -> None:
            sock.sendto(data, target)
            again.append((now + 1.0, whose, data))

        while len(took) < ARRIVALS:
            now = time.perf_counter()
            while waiting and now - start >= spread * len(began) / ARRIVALS:
                first = waiting.popleft()[0]
                began[first[4:8]] = now
                send(first[4:8], first, now)
            while again and again[0][0] < now:
                _, whose, data = again.popleft()
                if whose not in took:
                    send(whose, data, now)
            try:
                reply = sock.recv(2048)
            except BlockingIOError:
                continue
            whose = reply[4:8]
            if reply[242] == MessageType.OFFER:
                taken = second[whose]
                taken[place : place + 4] = reply[16:20]
                send(whose, bytes(taken), now)
            elif whose not in took:
                took[whose] = time.perf_counter() - began[whose]
    return sorted(took.values())


def say_arrivals(what: str, spread: float, most: float | None = None, runs: int = RUNS) -> None:
    """From DISCOVER to ACK; `most`: milliseconds that 99 of 100 are to take."""
    times = [undisturbed(lambda: arrivals(spread)) for _ in range(runs)]
    half, nearly = ([one[int(len(one) * part)] * 1000 for one in times] for part in (0.5, 0.99))
    print(f"  {what}: the middle {shown(half).strip()} ms")
    at_most(f"DHCP, {ARRIVALS:,} machines {what}, 99 of 100", "ms", nearly, most)


def flood() -> None:
    """DISCOVERs of 10,000 made-up machines a second."""
    data = bytearray(serialise(discover(SYSTEM, "02:61:ff:00:00:01", 1))[0])
    with udp("127.0.0.1") as sock:
        began, sent = time.perf_counter(), 0
        while True:
            if sent > (time.perf_counter() - began) * FLOOD:
                time.sleep(0.001)
                continue
            data[30:34] = sent.to_bytes(4, "big")
            sock.sendto(data, (ADDRESS, WIRE.ports.dhcp))
            sent += 1


def say_flood(server: int) -> None:
    """Known machines during a flood, and what the server's memory grew by in it."""
    before = _memory(server)
    with started(flood):
        time.sleep(1)
        say_arrivals(f"that were here, within one second, {FLOOD:,} strangers/s", 1.0)
    print(f"  the server's memory grew by        {(_memory(server) - before) / 1024:.1f} MiB")


def _memory(process: int) -> int:
    """KiB."""
    lines = Path(f"/proc/{process}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS:"))


# Each lease written, whatever is on disk; with a commit for each; a disk that takes 5 ms to sync.
WRITTEN = """
try:
    from daskel.core.boot.on_disk import OnDisk
    OnDisk.covers = lambda self, lease: False
except ImportError:
    pass  # an older Daskel, which writes each
"""
ONE_BY_ONE = """
from daskel.service.dhcp.service import DhcpService
together = DhcpService._keep_batch
async def one_by_one(self, batch):
    for decided in batch:
        await together(self, [decided])
DhcpService._keep_batch = one_by_one
"""
SLOW_DISK = """
import time
from daskel.store.database import Store
keep = Store.keep
Store.keep = lambda self, leases, now: (leases and time.sleep(0.005), keep(self, leases, now))[1]
"""


def main() -> None:
    with daskel(more=site()) as folder, started(echo) as echoing:
        time.sleep(5)  # as servers nearly always run before machines are switched on
        server = int((folder / "process").read_text())
        before = processor_time(server)
        say_arrivals("at once, the first since the start", 0.0, FIRST_P99, 1)
        spent = (processor_time(server) - before) / ARRIVALS * 1e6
        at_most("DHCP, first exchange since the start, processor time", "µs", [spent], FIRST)
        for _ in range(2):  # machines that were here before are answered from memory
            exchanges()
        title = f"DHCP, four-packet exchanges, committed, {OUTSTANDING} outstanding"
        limit = Limit("UDP echo / 2", echoes, echoing)
        compare(title, "exchanges/s", exchanges, limit, 0.38, server, 3.7)
        say_arrivals("that were here, within one second", 1.0)
        say_arrivals("that were here, at once", 0.0)
        say_flood(server)
    with daskel(more=site(), prepare=WRITTEN) as folder, started(echo) as echoing:
        time.sleep(0.5)
        for _ in range(2):
            exchanges()
        server = int((folder / "process").read_text())
        limit = Limit("UDP echo / 2", echoes, echoing)
        compare(f"{title}, a write each", "exchanges/s", exchanges, limit, 0.26, server)
    for disk, prepare in (("this disk", ""), ("a sync of 5 ms", SLOW_DISK)):
        rates = []
        for way in ("", ONE_BY_ONE):
            with daskel(more=site(), prepare=prepare + WRITTEN + way):
                exchanges(), exchanges()
                rates.append(statistics.median(exchanges() for _ in range(3)))
        print(
            f"group commit against a commit each, {disk}: {rates[0] / rates[1]:.1f} times the rate"
        )
    with daskel(more=site(), prepare=SLOW_DISK):
        exchanges(), exchanges()
        say_arrivals("that were here, within one second, a sync of 5 ms", 1.0, 5.0)


if __name__ == "__main__":
    main()
