"""TFTP against a C sender of the same protocol that lets the kernel cut its datagrams, too.

Both are fetched by the same C client (bench/tftp.c). The C sender has its file mapped, does nothing
about loss, and knows no clients.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from common import CLIENT, QUICK, RUNS, SERVER, WIRE, Limit, compare, daskel, processor_time, small

SIZE = small(64) << 20  # bytes
BARE_PORT = 25999
ADDRESS, FROM = WIRE.outside(SERVER), WIRE.outside(CLIENT)
CLIENTS, MANY, MANY_SIZE = small(200), small(1000), (1 if QUICK else 6) << 20


def build(folder: Path) -> Path:
    program, source = folder / "tftp", Path(__file__).with_suffix(".c")
    command = ["cc", "-O2", "-D_GNU_SOURCE", "-o", program, source]
    subprocess.run(command, check=True)
    return program


class Fetching:
    """Fetches from Daskel and from the C sender; what it cost them."""

    def __init__(self, program: Path, server: int, bare: int) -> None:
        self.program = program
        self.processes = {WIRE.ports.tftp: server, BARE_PORT: bare}
        self.costs: dict[int, list[float]] = {WIRE.ports.tftp: [], BARE_PORT: []}

    def __call__(self, port: int, window: int, count: int = 1) -> float:
        """MB/s of all together; notes the seconds of processor time per GB."""
        before = processor_time(self.processes[port])
        command = [self.program, "fetch", FROM, ADDRESS, port, window, count]
        done = subprocess.run(list(map(str, command)), capture_output=True, text=True, check=False)
        seconds, size, left = done.stdout.split()
        assert left == "0" and int(size) % count == 0, f"{left} of {count} did not end"
        cost = processor_time(self.processes[port]) - before
        self.costs[port].append(cost / int(size) * 1e9)
        return int(size) / float(seconds) / 1e6

    def against(
        self, title: str, window: int, goal: float | None, count: int = 1,
        cost_goal: float | None = None,
    ) -> None:  # fmt: skip
        def of(port: int) -> Callable[[], float]:
            return lambda: self(port, window, count)

        own, bare = self.processes[WIRE.ports.tftp], self.processes[BARE_PORT]
        limit = Limit("C sender", of(BARE_PORT), bare)
        compare(title, "MB/s", of(WIRE.ports.tftp), limit, goal, own, cost_goal)


def with_file(program: Path, size: int, run: Callable[[Fetching], None]) -> None:
    content = os.urandom(1 << 20) * (size >> 20)
    with daskel(content) as folder:
        command = [program, "send", ADDRESS, str(BARE_PORT), folder / "files/large"]
        bare = subprocess.Popen(command)
        try:
            time.sleep(0.5)
            run(Fetching(program, int((folder / "process").read_text()), bare.pid))
        finally:
            bare.kill()
            bare.wait()


def one(fetch: Fetching) -> None:
    for window, goal, cost in ((1, None, None), (4, None, None), (16, 0.88, 1.3), (64, 0.98, 1.1)):
        title = f"TFTP, {SIZE >> 20} MiB, blksize 1428, window {window}"
        fetch.against(title, window, goal, cost_goal=cost)


def many(fetch: Fetching) -> None:
    title = f"TFTP, {CLIENTS} clients at once, {MANY_SIZE >> 20} MiB each, window 1"
    fetch.against(title, 1, 0.56, CLIENTS)
    port, costs = WIRE.ports.tftp, fetch.costs[WIRE.ports.tftp]
    medians = []
    for count in (1, MANY):
        costs.clear()
        rates = [fetch(port, 16, count) for _ in range(RUNS if count == MANY else small(40))]
        medians.append(statistics.fmean(costs))
        print(f"{count} clients, window 16: {statistics.median(rates):,.0f} MB/s in all", end=", ")
        print(f"{medians[-1]:.2f} s/GB; all of them got it")
    print(f"  processor time    {medians[1] / medians[0]:.2f} of one client's per GB")


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        program = build(Path(name))
        with_file(program, SIZE, one)
        with_file(program, MANY_SIZE, many)


if __name__ == "__main__":
    main()
