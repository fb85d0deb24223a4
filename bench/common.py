"""Starts Daskel on loopback for a benchmark, and prints ratios of runs made in turn.

BENCH names the file that results are added to, BENCH_RUNS how many pairs there are of each;
BENCH_QUICK makes all of it small, to see that it works; BENCH_ANY_PYTHON lets a Python measure that
was built without optimisation."""

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
import sysconfig
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path
from typing import TypeVar

from daskel.core.boot.wire import Ports, Wire

T = TypeVar("T")
BASE = 25000
SERVER, CLIENT = IPv4Address("10.61.8.1"), IPv4Address("10.61.8.21")
WIRE = Wire(Ports.from_base(BASE), loopback=True)
BLAST_PORT, ECHO_PORT = 25997, 25996
QUICK = bool(os.environ.get("BENCH_QUICK"))
RUNS = int(os.environ.get("BENCH_RUNS", "1" if QUICK else "5"))
DISTURBED, AGAIN = 0.1, 2  # of the processors' time, by others; times that a pair is made again

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
        drain = multiprocessing.Process(target=read_away, args=(process.stdout.fileno(),))
        drain.start()
        try:
            yield folder
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait()
            drain.join()


def read_away(descriptor: int) -> None:
    """Reads the log away, as a terminal would."""
    with open(descriptor, "rb", closefd=False) as log:
        while log.read(65536):
            pass


@contextmanager
def started(target: Callable[..., None], *arguments: object) -> Iterator[int]:
    """A baseline's server as a process of its own; its number."""
    process = multiprocessing.Process(target=target, args=arguments)
    process.start()
    assert process.pid
    try:
        yield process.pid
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


def small(number: int, least: int = 1) -> int:
    """How much of something; little where it is only to be seen that it works."""
    return max(number // 50, least) if QUICK else number


def interpreter() -> str:
    """Which Python measures. Ends the program where that was built without optimisation: it needs
    1.3 to 1.6 times as long, and says nothing of what users have."""
    how = sysconfig.get_config_var("CONFIG_ARGS") or ""
    own = "the distribution's" if sys.base_prefix == "/usr" else sys.base_prefix
    said = f"Python {sys.version.split()[0]}, {own}"
    if sys.base_prefix == "/usr" or "--enable-optimizations" in how:
        return said
    if QUICK or os.environ.get("BENCH_ANY_PYTHON"):
        return f"{said}, built without optimisation"
    sys.exit(f"{said}: built without optimisation; make bench takes the distribution's own, "
             "BENCH_ANY_PYTHON=1 measures with this one")  # fmt: skip


def processor_time(*processes: int) -> float:
    """Seconds of processes and their children until now, to the nanosecond (schedstat)."""
    return sum(_time_of(process) for process in processes)


def _time_of(process: int) -> float:
    tasks = Path(f"/proc/{process}/task")
    try:
        threads = [int((task / "schedstat").read_text().split()[0]) for task in tasks.iterdir()]
        children = (tasks / str(process) / "children").read_text().split()
    except OSError:  # it has ended
        return 0.0
    return sum(threads) / 1e9 + sum(_time_of(int(child)) for child in children)


def _ours() -> float:
    """Seconds of this process and all that it started, also of those that have ended."""
    spent = os.times()
    running = sum(_time_of(child) for child in _children())
    return spent.user + spent.system + spent.children_user + spent.children_system + running


def _children() -> Iterable[int]:
    own = os.getpid()
    return map(int, Path(f"/proc/{own}/task/{own}/children").read_text().split())


def _busy() -> float:
    """Seconds that all processors worked for processes."""
    fields = Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:4]  # user, nice, system
    return sum(map(int, fields)) / os.sysconf("SC_CLK_TCK")


def undisturbed(pair: Callable[[], T]) -> T:
    """What `pair` returns; made again where other processes took much of the machine meanwhile."""
    for _ in range(AGAIN + 1):
        began, busy, own = time.monotonic(), _busy(), _ours()
        found = pair()
        whole = (time.monotonic() - began) * (os.cpu_count() or 1)
        if (_busy() - busy - (_ours() - own)) / whole < DISTURBED:
            break
    return found


@dataclass(frozen=True)
class Limit:
    """What something is measured beside; `process` is its server's."""

    name: str
    run: Callable[[], float]
    process: int | None = None


def compare(
    title: str,
    unit: str,
    ours: Callable[[], float],
    limit: tuple[str, Callable[[], float]] | Limit,
    goal: float | None = None,
    process: int | None = None,
    cost_goal: float | None = None,
) -> None:
    """Run both in turn; print the medians, and the median of the ratios of each pair; with the
    processes of both, the ratio of processor time for the same work, too. All go into the file that
    BENCH names; goals are what is to be reached."""
    beside = limit if isinstance(limit, Limit) else Limit(*limit)

    def pair() -> tuple[float, float, float]:
        own, other = process or os.getpid(), beside.process or os.getpid()
        spent = processor_time(own)
        rate = ours()
        spent, theirs = processor_time(own) - spent, processor_time(other)
        bare = beside.run()
        theirs = processor_time(other) - theirs
        return rate, bare, spent / theirs if theirs else 0.0

    if not QUICK:
        ours(), beside.run()  # warm up
    pairs = [undisturbed(pair) for _ in range(RUNS)]
    ratios = [rate / bare for rate, bare, _ in pairs]
    costs = [cost for _, _, cost in pairs] if process and beside.process else []
    found = {"title": title, "of": beside.name, "goal": goal, "ratios": ratios, "unit": unit,
             "rates": [rate for rate, _, _ in pairs], "costs": costs, "cost_goal": cost_goal,
             "python": interpreter()}  # fmt: skip
    note(found)
    print(title)
    print(f"  daskel            {statistics.median(a for a, _, _ in pairs):12,.1f} {unit}")
    print(f"  {beside.name:<18}{statistics.median(b for _, b, _ in pairs):12,.1f} {unit}")
    print(f"  ratio             {shown(ratios)}   (median of {RUNS} pairs)")
    if costs:
        print(f"  processor time    {shown(costs)}")


def at_most(title: str, unit: str, values: list[float], most: float | None = None) -> None:
    """Something that has no limit to be measured beside: print it, and add it to the file that
    BENCH names. `most` is what is to be reached."""
    note({"title": title, "unit": unit, "values": values, "most": most, "python": interpreter()})
    goal = "" if most is None else f"   (goal {most:g})"
    print(f"{title:<62} {shown(values).strip()} {unit}{goal}")


def note(found: dict[str, object]) -> None:
    """Into the file that BENCH names."""
    if "BENCH" in os.environ:
        with Path(os.environ["BENCH"]).open("a") as file:
            file.write(json.dumps(found) + "\n")


def shown(ratios: list[float]) -> str:
    """Median and spread."""
    return f"{statistics.median(ratios):12.2f} ({min(ratios):.2f} to {max(ratios):.2f})"


# Else modules of an editable installation would be compiled anew at each start
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
print(interpreter())
