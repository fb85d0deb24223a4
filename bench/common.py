"""Starts Daskel on loopback for a benchmark, and prints ratios of runs made in turn."""

from __future__ import annotations

import asyncio
import json
import multiprocessing
import os
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from ipaddress import IPv4Address
from pathlib import Path

from daskel.core.boot.wire import Ports, Wire

BASE = 25000
SERVER, CLIENT = IPv4Address("10.61.8.1"), IPv4Address("10.61.8.21")
WIRE = Wire(Ports.from_base(BASE), loopback=True)
BLAST_PORT, ECHO_PORT = 25997, 25996
RUNS = 5

SITE = """format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
loaders = []
tftp-window = 64
[segment.tideroom]
network = "10.61.0.0/16"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.16.0 - 10.61.255.0"]
[root.notebook]
[loadout.notebook]
kernel = "large"
root = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "notebook"
address = "10.61.8.21"
"""


@contextmanager
def daskel(large: bytes = b"x", more: str = "", prepare: str = "") -> Iterator[Path]:
    """`daskel serve` with the file `large` below `files` and in the root, and `more` in its site
    file; its folder. `prepare` is Python that is run in the server before it begins."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        folder = Path(name)
        for place in ("files", "roots/notebook"):
            (folder / place).mkdir(parents=True)
            (folder / place / "large").write_bytes(large)
        (folder / "roots/slated/etc").mkdir(parents=True)
        (folder / "daskel.toml").write_text(SITE + more)
        program = f"{prepare}\nimport sys\nfrom daskel.cli.main import main\nsys.exit(main())"
        command = [sys.executable, "-c", program, "serve", "--json", "--loopback", str(BASE)]
        process = subprocess.Popen(
            [*command, "--site", str(folder / "daskel.toml")], stdout=subprocess.PIPE, text=True
        )
        assert process.stdout
        for line in process.stdout:
            if json.loads(line)["event"] == "ready":
                break
        (folder / "process").write_text(str(process.pid))
        drain = multiprocessing.Process(target=_drain, args=(process.stdout.fileno(),))
        drain.start()
        try:
            yield folder
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait()
            drain.join()


def _drain(descriptor: int) -> None:
    """Reads the log away, as a terminal would."""
    with open(descriptor, "rb", closefd=False) as log:
        while log.read(65536):
            pass


@contextmanager
def beside(target: Callable[..., None], *arguments: object) -> Iterator[None]:
    """A baseline's server as a process of its own."""
    process = multiprocessing.Process(target=target, args=arguments)
    process.start()
    try:
        yield
    finally:
        process.terminate()
        process.join()


def blast(path: Path) -> None:
    """Sends the file to each that connects: as fast as TCP brings it here."""
    with socket.create_server((WIRE.outside(SERVER), BLAST_PORT)) as server:
        while True:
            stream, _ = server.accept()
            with stream, path.open("rb") as file:
                offset, size = 0, path.stat().st_size
                while offset < size:
                    offset += os.sendfile(stream.fileno(), file.fileno(), offset, size - offset)


def blasted(size: int) -> float:
    """MB/s of `blast`, for a file of `size` bytes."""
    buffer = bytearray(1 << 20)
    with socket.create_connection((WIRE.outside(SERVER), BLAST_PORT)) as stream:
        began = time.perf_counter()
        take(stream, buffer, size)
        return size / (time.perf_counter() - began) / 1e6


def take(stream: socket.socket, buffer: bytearray, count: int) -> None:
    while count:
        got = stream.recv_into(buffer, min(count, len(buffer)))
        assert got, "the server closed the connection"
        count -= got


def echo(answer: bytes, length: Callable[[bytearray, int], int]) -> None:
    """Answers each request with the same bytes, doing nothing else. `length` is the one of the
    request that begins at an offset, or 0 if not even its head has come."""

    async def run() -> None:
        loop = asyncio.get_running_loop()
        server = socket.create_server((WIRE.outside(SERVER), ECHO_PORT))
        server.setblocking(False)
        while True:
            stream, _ = await loop.sock_accept(server)
            stream.setblocking(False)
            stream.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            waiting, ended = bytearray(), loop.create_future()

            def readable(stream=stream, waiting=waiting, ended=ended) -> None:
                data = stream.recv(1 << 18)
                if not data:
                    loop.remove_reader(stream)
                    ended.set_result(None)
                    return
                waiting.extend(data)
                at, out = 0, []
                while (size := length(waiting, at)) and at + size <= len(waiting):
                    bytes(waiting[at : at + size])
                    out.append(answer)
                    at += size
                del waiting[:at]
                stream.sendmsg(out)

            loop.add_reader(stream, readable)
            await ended

    asyncio.run(run())


def udp(address: str, port: int = 0) -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind((address, port))
    return sock


def compare(
    title: str, unit: str, ours: Callable[[], float], limit: tuple[str, Callable[[], float]],
    goal: float | None = None,
) -> None:  # fmt: skip
    """Run both in turn; print the medians, and the median of the ratios of each pair. All ratios go
    into the file that BENCH names, for a picture; `goal` is the one to be reached."""
    ours(), limit[1]()  # warm up
    pairs = [(ours(), limit[1]()) for _ in range(RUNS)]
    ratio = statistics.median(a / b for a, b in pairs)
    if "BENCH" in os.environ:
        found = {"title": title, "of": limit[0], "goal": goal, "ratios": [a / b for a, b in pairs]}
        with Path(os.environ["BENCH"]).open("a") as file:
            file.write(json.dumps(found) + "\n")
    print(title)
    print(f"  daskel            {statistics.median(a for a, _ in pairs):12,.1f} {unit}")
    print(f"  {limit[0]:<18}{statistics.median(b for _, b in pairs):12,.1f} {unit}")
    print(f"  ratio             {ratio:12.2f}   (median of {RUNS} pairs)")
