"""NBD: READ against a TCP blast of the same file, small reads against an echo, many clients."""

from __future__ import annotations

import random
import socket
import subprocess
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from ipaddress import IPv4Address
from pathlib import Path

from common import (
    ECHO_PORT,
    SERVER,
    WIRE,
    blast,
    blasted,
    compare,
    daskel,
    echo,
    small,
    started,
    take,
)

from daskel.core.nbd.requests import HEAD, Request, serialise
from daskel.rehearse.images import BlockDevice

SIZE, UNDER_WAY, SMALL, READS = small(256) << 20, 16, 4096, small(40_000)
MANY, EACH = small(200), min(8 << 20, SIZE)  # clients at once, and bytes that each reads
ADDRESS = WIRE.outside(SERVER)
OWN = IPv4Address("10.61.8.23")


def _client(number: int) -> str:
    mac = f"02:61:08:00:01:{number:02x}"
    place = f'address = "10.61.9.{number}"\nboot = "blocked"\n'
    return f'[client.many-{number}]\nmac = "{mac}"\nsegment = "tideroom"\n{place}'


MORE = """
[root.blocked]
delivery = "blocks"
[loadout.blocked]
root = "blocked"
[client.tide-03]
mac = "02:61:08:00:00:03"
segment = "tideroom"
boot = "blocked"
address = "10.61.8.23"
""" + "".join(_client(number) for number in range(1, MANY + 1))
PREPARE = f"""
import json, os, sys
from pathlib import Path
roots = Path(sys.argv[-1]).parent / "roots"
(roots / "blocked").mkdir()
versions = roots / ".versions/blocked"
(versions / "1/boot").mkdir(parents=True)
(versions / "1/boot/vmlinuz-demo").write_bytes(b"x")
(versions / "1.initrd").write_bytes(b"x")
(versions / "1.image").write_bytes(os.urandom(1 << 20) * {SIZE >> 20})
version = dict(sealed=1, files=1, size=1, new=1, note="", image={SIZE}, digest="0" * 64)
(versions / "root.json").write_text(json.dumps({{"used": 1, "versions": {{"1": version}}}}))
"""


def opened(own: IPv4Address = OWN) -> BlockDevice:
    return BlockDevice(WIRE, own, (str(SERVER), WIRE.ports.nbd), "blocked@1")


def request(waiting: bytearray, at: int) -> int:
    return HEAD.size if at + HEAD.size <= len(waiting) else 0


def asked(stream: socket.socket, offsets: Iterator[int], size: int, count: int) -> float:
    """Seconds for `count` READs, UNDER_WAY of them at a time."""
    buffer, sent = bytearray(1 << 20), 0
    began = time.perf_counter()
    for _ in range(min(UNDER_WAY, count)):
        stream.sendall(serialise(Request(0, 0, sent, next(offsets), size)))
        sent += 1
    for _ in range(count):
        take(stream, buffer, size + 16)
        if sent < count:
            stream.sendall(serialise(Request(0, 0, sent, next(offsets), size)))
            sent += 1
    return time.perf_counter() - began


def read(size: int) -> float:
    """MB/s, from front to back."""
    device = opened()
    seconds = asked(device._sock, iter(range(0, SIZE, size)), size, SIZE // size)
    device.close()
    return SIZE / seconds / 1e6


def _anywhere() -> Iterator[int]:
    chosen = random.Random(61)
    while True:
        yield chosen.randrange(SIZE // SMALL) * SMALL


def small() -> float:
    """Reads a second, anywhere."""
    device = opened()
    seconds = asked(device._sock, _anywhere(), SMALL, READS)
    device.close()
    return READS / seconds


def echoed() -> float:
    with socket.create_connection((ADDRESS, ECHO_PORT)) as stream:
        return READS / asked(stream, _anywhere(), SMALL, READS)


def many(process: int) -> None:
    """All at once; what the processes of the server take meanwhile."""

    def one(number: int) -> int:
        device = opened(IPv4Address(f"10.61.9.{number}"))
        found = sum(len(device.read(at, 128 << 10)) for at in range(0, EACH, 128 << 10))
        device.close()
        return found

    began = time.perf_counter()
    with ThreadPoolExecutor(max_workers=MANY) as pool:
        running = [pool.submit(one, number) for number in range(1, MANY + 1)]
        most = 0
        while any(not run.done() for run in running):
            most = max(most, memory_of(process))
            time.sleep(0.2)
        assert all(run.result() == EACH for run in running), "each has all of its bytes"
    seconds = time.perf_counter() - began
    print(f"{MANY} clients at once, {EACH >> 20} MiB each")
    speed = MANY * EACH / seconds / 1e6
    print(f"  in                {seconds:12.1f} s, {speed:,.0f} MB/s; none failed")
    print(f"  memory            {most / 1e6:12,.0f} MB of all processes that serve (limit 300 MB)")


def memory_of(process: int) -> int:
    """Bytes of the processes below the server, each page once (proportional set size)."""
    found, pending = 0, [process]
    while pending:
        below = subprocess.run(
            ["pgrep", "-P", str(pending.pop())], capture_output=True, text=True, check=False
        )
        for child in map(int, below.stdout.split()):
            pending.append(child)
            lines = Path(f"/proc/{child}/smaps_rollup").read_text().splitlines()
            found += next(int(line.split()[1]) for line in lines if line.startswith("Pss:")) * 1024
    return found


def main() -> None:
    with daskel(more=MORE, prepare=PREPARE) as folder:
        image = folder / "roots/.versions/blocked/1.image"
        with started(blast, image), started(echo, bytes(SMALL + 16), request):
            time.sleep(0.5)
            bare = ("TCP blast", lambda: blasted(SIZE))
            for size, goal in ((1 << 20, 0.85), (128 << 10, 0.6)):
                title = f"NBD READ, {size >> 10} KiB, {UNDER_WAY} under way"
                compare(title, "MB/s", lambda size=size: read(size), bare, goal)
            title = f"NBD READ, {SMALL >> 10} KiB anywhere, {UNDER_WAY} under way"
            compare(title, "reads/s", small, ("echo", echoed), 0.5)
        many(int((folder / "process").read_text()))


if __name__ == "__main__":
    main()
