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

from common import CLIENT, RUNS, SERVER, WIRE, compare, daskel

SIZE = 64 << 20  # bytes
BARE_PORT = 25999
ADDRESS, FROM = WIRE.outside(SERVER), WIRE.outside(CLIENT)
MANY, MANY_SIZE = 1000, 6 << 20


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

    def against(self, title: str, window: int, goal: float | None, count: int = 1) -> None:
        def of(port: int) -> Callable[[], float]:
            return lambda: self(port, window, count)

        for costs in self.costs.values():
            costs.clear()
        compare(title, "MB/s", of(WIRE.ports.tftp), ("C sender", of(BARE_PORT)), goal)
        ours, bare = map(statistics.median, self.costs.values())
        print(f"  processor time    {ours:.2f} s/GB against {bare:.2f}: {ours / bare:.2f}")


def processor_time(process: int) -> float:
    """Seconds, user and system."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


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
    for window, goal in ((1, None), (4, None), (16, 0.75), (64, 0.9)):
        fetch.against(f"TFTP, {SIZE >> 20} MiB, blksize 1428, window {window}", window, goal)


def many(fetch: Fetching) -> None:
    fetch.against(f"TFTP, 200 clients at once, {MANY_SIZE >> 20} MiB each, window 1", 1, 0.6, 200)
    port, costs = WIRE.ports.tftp, fetch.costs[WIRE.ports.tftp]
    medians = []
    for count in (1, MANY):
        costs.clear()
        rates = [fetch(port, 16, count) for _ in range(RUNS if count == MANY else 40)]
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
