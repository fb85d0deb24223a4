"""What one server carries: boots a minute of each kind, by the processor time that they take here
and by what a line carries: bench/capacity.py [PAGE]. In PAGE (Markdown) it takes the place of what
stands between its marks."""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

import blocks
import forecast
import http_files
import nfs
import tftp
from common import QUICK, WIRE, daskel, interpreter, processor_time

from daskel.demo.data import lay_out
from daskel.rehearse.costs import measured
from daskel.system.site_check import load_checked

MIB, TIMES = 1 << 20, 1 if QUICK else 5
LINES = {"1 Gbit/s": 112e6, "10 Gbit/s": 1120e6}  # bytes of files that they carry a second
LOADER, KERNEL, ROOT, IMAGE = 2, 60, 200, 400  # MiB that a boot fetches of each
MARKS = ("<!-- capacity: begin -->", "<!-- capacity: end -->")


@dataclass(frozen=True)
class Cost:
    """Seconds of processors: of the server's first process, and of those that it began."""

    first: float
    below: float = 0.0

    def times(self, count: float) -> Cost:
        return Cost(self.first * count, self.below * count)

    def __add__(self, other: Cost) -> Cost:
        return Cost(self.first + other.first, self.below + other.below)


@dataclass(frozen=True)
class Kind:
    """A way to boot: MiB by each way of fetching."""

    title: str
    fetches: dict[str, int]


KINDS = (
    Kind("kernel by HTTP, root by NFS", {"TFTP": LOADER, "HTTP": KERNEL, "NFS": ROOT}),
    Kind("kernel by TFTP, root by NFS", {"TFTP": LOADER + KERNEL, "NFS": ROOT}),
    Kind("kernel by HTTP, root by blocks", {"TFTP": LOADER, "HTTP": KERNEL, "blocks": ROOT}),
    Kind("kernel by HTTP, root in memory", {"TFTP": LOADER, "HTTP": KERNEL + IMAGE}),
)


def spent(server: int) -> Cost:
    own = sum(
        int((task / "schedstat").read_text().split()[0])
        for task in Path(f"/proc/{server}/task").iterdir()
    )
    return Cost(own / 1e9, processor_time(server) - own / 1e9)


def of_each_mib(server: int, run: object, size: float) -> Cost:
    """The median of several runs, each of `size` bytes."""
    assert callable(run)
    found = []
    for _ in range(TIMES):
        before = spent(server)
        run()
        after = spent(server)
        found.append(Cost(after.first - before.first, after.below - before.below))
    middle = Cost(*(statistics.median(getattr(c, n) for c in found) for n in ("first", "below")))
    return middle.times(MIB / size)


def bytes_cost() -> dict[str, Cost]:
    """Of one MiB, by the way of fetching. TFTP: a block at a time, as firmware and GRUB ask, and as
    many of them do at once."""
    http_files.SIZE = nfs.SIZE
    large = os.urandom(MIB) * (nfs.SIZE // MIB)
    with daskel(large, more=nfs.MORE) as folder:
        server = int((folder / "process").read_text())
        costs = {
            "HTTP": of_each_mib(server, lambda: http_files.fetch(WIRE.ports.http), nfs.SIZE),
            "NFS": of_each_mib(server, nfs.read(128 << 10), nfs.SIZE),
        }
    with daskel(os.urandom(tftp.MANY_SIZE)) as folder, tempfile.TemporaryDirectory() as built:
        server, count = int((folder / "process").read_text()), tftp.CLIENTS
        fetching = tftp.Fetching(tftp.build(Path(built)), server, server)
        size = tftp.MANY_SIZE * count
        costs["TFTP"] = of_each_mib(server, lambda: fetching(WIRE.ports.tftp, 1, count), size)
    with daskel(more=blocks.MORE, prepare=blocks.PREPARE) as folder:
        server = int((folder / "process").read_text())
        costs["blocks"] = of_each_mib(server, lambda: blocks.read(128 << 10), blocks.SIZE)
    return costs


def boot_cost(each: dict[str, Cost]) -> Cost:
    """Of a boot of the demo site, without the bytes of its files: addresses, configuration, log,
    store, mount."""
    with tempfile.TemporaryDirectory() as folder:
        file = load_checked(lay_out(Path(folder)))
        with forecast.practice(file, 1) as (_, jobs, server):
            stages = measured(jobs[0], server)
    whole = sum((Cost(stage.server, stage.below) for stage in stages), Cost(0))
    fetched = sum(stage.size for stage in stages) / MIB
    return Cost(max(0.0, whole.first - each["TFTP"].first * fetched), whole.below)


def carried(kind: Kind, each: dict[str, Cost], boot: Cost, processors: int) -> list[str]:
    """A line of the table."""
    cost = sum((each[way].times(size) for way, size in kind.fetches.items()), boot)
    size = sum(kind.fetches.values())
    cells = [kind.title, str(size), f"{cost.first * 1000:.0f} + {cost.below * 1000:.0f}"]
    for rate in LINES.values():
        limits = {
            "the line": size * MIB / rate,
            "its first process": cost.first,
            "the processors": (cost.first + cost.below) / processors,
        }
        what = max(limits, key=lambda name: limits[name])
        cells.append(f"{60 / limits[what]:,.0f} ({what})")
    return cells


def main(page: Path | None) -> None:
    each = bytes_cost()
    boot, processors = boot_cost(each), os.cpu_count() or 1
    lines = [
        f"With {interpreter()}, {processors} processors; the sizes of a desktop: {LOADER} MiB of",
        f"boot loader, {KERNEL} of kernel and initrd, {ROOT} of the root that a boot reads, or an",
        f"image of {IMAGE}. Processor time: of the server's first process, and of the others.", "",
        f"| a boot | MiB | processor, ms | {' | '.join(f'a minute, {n}' for n in LINES)} |",
        "|---|---|---|---|---|",
    ]  # fmt: skip
    lines += [f"| {' | '.join(carried(kind, each, boot, processors))} |" for kind in KINDS]
    said = ", ".join(
        f"{way} {(cost.first + cost.below) * 1e6:.0f} µs" for way, cost in each.items()
    )
    fixed = (boot.first + boot.below) * 1000
    lines += ["", f"Of that, a boot itself takes {fixed:.0f} ms, and each MiB: {said}."]
    print("\n".join(lines))
    if page:
        text = page.read_text()
        head, tail = text.split(MARKS[0])[0], text.split(MARKS[1])[1]
        page.write_text(f"{head}{MARKS[0]}\n" + "\n".join(lines) + f"\n{MARKS[1]}{tail}")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else None)
