"""Several servers on one PostgreSQL against one on SQLite, in the same run: four-packet exchanges
with a lease on disk for each, the time of one alone, and how long 50,000 leases take to load.

Needs root and the programs of PostgreSQL, of which it runs one of its own."""

from __future__ import annotations

import contextlib
import json
import multiprocessing
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from ipaddress import IPv4Address
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from common import QUICK, read_away, shown, small, udp
from dhcp import WRITTEN

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.boot.turns import owner
from daskel.core.boot.wire import Ports, Wire
from daskel.core.dhcp.client_messages import SYSTEM, discover, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import MessageType, Packet, serialise
from daskel.store.shared_store import SharedStore
from tests.postgres import Postgres, running

MACHINES, OUTSTANDING = small(3000, 200), 64
ALONE = small(300, 30)
RUNS = int(os.environ.get("BENCH_RUNS", "1" if QUICK else "3"))
LEASES = small(50_000, 500)
NAMES = ("east", "north", "south", "west")
GOALS = {1: 0.7, 2: 1.3}  # of what one on SQLite does
SITE = """format = 1
[site]
name = "Skerry Point"
roots = "roots"
slates = "slates"
state = "{state}"
local = "."
loaders = []
[segment.tideroom]
network = "10.61.0.0/16"
dhcp = "full"
pool = ["10.61.16.0 - 10.61.255.0"]
"""
Place = tuple[str, int, IPv4Address]  # where a server listens, and how it calls itself
_serial = 0


def mac(number: int) -> str:
    return (0x0261F0000000 + number).to_bytes(6, "big").hex(":")


@contextmanager
def servers(state: str, count: int) -> Iterator[dict[str, Place]]:
    """That many, each ready; where they listen, by name."""
    names, places = NAMES[:count], {}
    tables = "".join(
        f'[server.{name}]\naddresses = {{ tideroom = "10.61.8.{n + 1}" }}\n'
        for n, name in enumerate(names)
    )
    tables += "".join(
        f'[client.c{n}]\nmac = "{mac(n)}"\nsegment = "tideroom"\n' for n in range(MACHINES)
    )
    with ExitStack() as ending, tempfile.TemporaryDirectory(prefix="daskel-bench-") as place:
        for number, name in enumerate(names):
            folder, base = Path(place, name), 25000 + 200 * number
            (folder / "files").mkdir(parents=True)
            (folder / "daskel.toml").write_text(SITE.format(state=state) + tables)
            ending.enter_context(_serving(folder, name, base))
            wire, own = (
                Wire(Ports.from_base(base), loopback=True),
                IPv4Address(f"10.61.8.{number + 1}"),
            )
            places[name] = wire.outside(own), wire.ports.dhcp, own
        time.sleep(1.5)  # until each has heard of the others
        yield places


@contextmanager
def _serving(folder: Path, name: str, base: int) -> Iterator[None]:
    program = f"{WRITTEN}\nimport sys\nfrom daskel.cli.main import main\nsys.exit(main())"
    command = [sys.executable, "-c", program, "serve", "--json", "--as", name]
    command += ["--loopback", str(base), "--site", str(folder / "daskel.toml")]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout
    for line in process.stdout:
        if json.loads(line)["event"] == "ready":
            break
    drain = multiprocessing.Process(target=read_away, args=(process.stdout.fileno(),))
    drain.start()
    try:
        yield
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait()
        drain.join()


def exchanges(places: dict[str, Place], count: int, outstanding: int) -> list[float]:
    """Seconds of each exchange, and of all: the last one."""
    global _serial
    first = _serial
    _serial += count
    took: list[float] = []
    under_way: dict[bytes, tuple[bytearray, tuple[str, int], float]] = {}
    numbers = iter(range(first, first + count))
    with udp("127.0.0.1") as sock:
        sock.settimeout(5)

        def begin(number: int) -> None:
            whose = mac(number % MACHINES)
            host, port, own = places[owner(bytes.fromhex(whose.replace(":", "")), list(places))]
            asked = discover(SYSTEM, whose, number + 1)
            offer = Packet(2, number + 1, asked.chaddr, {Code.SERVER_ID: own.packed})
            taken = bytearray(serialise(request(SYSTEM, offer))[0])
            under_way[(number + 1).to_bytes(4, "big")] = taken, (host, port), time.perf_counter()
            sock.sendto(serialise(asked)[0], (host, port))

        began = time.perf_counter()
        for _ in range(outstanding):
            begin(next(numbers))
        while len(took) < count:
            reply = sock.recv(2048)
            taken, target, since = under_way[reply[4:8]]
            if reply[242] == MessageType.OFFER:
                place = taken.index(bytes((Code.REQUESTED_ADDRESS, 4)), 240) + 2
                taken[place : place + 4] = reply[16:20]
                sock.sendto(taken, target)
                continue
            assert reply[242] == MessageType.ACK, reply[242]
            took.append(time.perf_counter() - since)
            with contextlib.suppress(StopIteration):
                begin(next(numbers))
        return [*took, time.perf_counter() - began]


def rate(state: str, count: int) -> float:
    """Exchanges a second, after one for each machine."""
    with servers(state, count) as places:
        exchanges(places, MACHINES, OUTSTANDING)
        return MACHINES / exchanges(places, MACHINES, OUTSTANDING)[-1]


def alone(state: str) -> tuple[float, float]:
    """Milliseconds of an exchange while nothing else happens: the middle, and 99 of 100."""
    with servers(state, 1) as places:
        exchanges(places, MACHINES, OUTSTANDING)
        found = sorted(exchanges(places, ALONE, 1)[:-1])
    return statistics.median(found) * 1e3, found[int(len(found) * 0.99)] * 1e3


def say_load(postgres: Postgres) -> None:
    store = SharedStore(postgres.create("load"), "Skerry Point", "north")
    now = time.time()
    leases = [
        Lease(IPv4Address(0x0A3D0000 + n), "tideroom", mac(n), LeaseState.BOUND, now + 9e4, 0)
        for n in range(LEASES)
    ]
    for start in range(0, LEASES, 1000):
        store.keep(leases[start : start + 1000], now)
    began = time.process_time()
    assert len(store.load().all()) == LEASES
    print(f"{LEASES:,} leases are loaded in {time.process_time() - began:.2f} s of processor time")
    store.close()


def main() -> None:
    with running() as postgres:
        number = iter(range(1000))

        def database() -> str:
            return postgres.create(f"bench{next(number)}")

        counts = (1, 2) if QUICK else (1, 2, 4)
        ratios: dict[int, list[float]] = {count: [] for count in counts}
        for _ in range(RUNS):
            base = rate("state.db", 1)
            for count in counts:
                ratios[count].append(rate(database(), count) / base)
        cores = os.cpu_count() or 1
        print(f"exchanges a second with a write each, against one server on SQLite; {cores} cores")
        for count, found in ratios.items():
            goal = f"   (goal {GOALS[count]})" if count in GOALS else ""
            print(f"  {count} on PostgreSQL: {shown(found).strip()} times{goal}")
        (half, nearly), (half_pg, nearly_pg) = alone("state.db"), alone(database())
        print("an exchange alone, milliseconds: the middle, and 99 of 100")
        print(f"  SQLite {half:.2f}, {nearly:.2f}; PostgreSQL {half_pg:.2f}, {nearly_pg:.2f}")
        say_load(postgres)


if __name__ == "__main__":
    main()
