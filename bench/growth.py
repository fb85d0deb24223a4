"""What Daskel's work costs at 10 to 20,000 clients: bench/growth.py [PAGE PICTURE].

What is done for one machine must cost the same however many there are; what is done for all of
them, no more than in proportion. What grows faster is named. In PAGE (Markdown) the table takes
the place of the one between its marks; PICTURE is drawn, with logarithmic axes.
"""

from __future__ import annotations

import math
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from pathlib import Path

import dhcp
from common import QUICK, SERVER, SITE, WIRE, daskel, interpreter, processor_time

from daskel.core.dhcp.client_messages import SYSTEM
from daskel.core.history.boots import Boot
from daskel.core.history.events import Addressed, FileKind, FileSent, Seen, Who
from daskel.rehearse.fetch import NfsRoot, get_address
from daskel.store.database import Store
from daskel.system.control_client import ask, socket_path
from daskel.system.site_check import load_checked

SIZES = (10, 40) if QUICK else (10, 100, 1000, 5000, 20000)
MOUNTS, WRITTEN, LOOKS = 50, 20, 20
SLACK = 0.25  # how much faster than it should something may grow, as an exponent: measuring errs
MARKS = ("<!-- growth: begin -->", "<!-- growth: end -->")


@dataclass
class Figure:
    """One thing that is measured at each size. `whole`: it is for all clients together."""

    title: str
    unit: str
    whole: bool
    values: list[float] = field(default_factory=list)

    @property
    def exponent(self) -> float:
        """The growth between the last two sizes: 0 when it stays the same, 1 in proportion."""
        before, last = self.values[-2:]
        return math.log(last / before) / math.log(SIZES[-1] / SIZES[-2])

    @property
    def too_fast(self) -> bool:
        return self.exponent > self.whole + SLACK


FIRST = Figure("first exchange since the start", "µs", whole=False)
AGAIN = Figure("exchange of one that was here", "µs", whole=False)
MOUNT = Figure("mount of a root", "µs", whole=False)
STORED = Figure("a boot written to the store", "µs", whole=False)
CHANGED = Figure("`watch`: what is new", "ms", whole=False)
WATCH = Figure("`watch`: all machines", "ms", whole=True)
CHECK = Figure("`check`, without its start", "ms", whole=True)
START = Figure("start of the server", "ms", whole=True)
MEMORY = Figure("memory at the start", "MiB", whole=True)
MEMORY_AFTER = Figure("memory when all were here", "MiB", whole=True)
FIGURES = (FIRST, AGAIN, MOUNT, STORED, CHANGED, WATCH, CHECK, START, MEMORY, MEMORY_AFTER)


def clients(count: int) -> str:
    each = (f'[client.c{n}]\nmac = "{dhcp._mac(n)}"\ngroup = "rooms"\n' for n in range(count))
    return '[group.rooms]\nsegment = "tideroom"\nboot = "notebook"\n' + "".join(each)


def at_size(count: int) -> None:
    dhcp.EXCHANGES, dhcp.OUTSTANDING, dhcp._serial = count, min(64, count // 2), 0
    with daskel(more=clients(count)) as folder:
        server = int((folder / "process").read_text())
        START.values.append(processor_time(server) * 1000)
        MEMORY.values.append(dhcp._memory(server) / 1024)
        control = socket_path(folder / "state.db")
        FIRST.values.append(per_machine(server, count))
        time.sleep(3)  # until boots are written
        rounds = max(3, 6000 // count)
        per_machine(server, count)
        AGAIN.values.append(per_machine(server, count, rounds))
        MEMORY_AFTER.values.append(dhcp._memory(server) / 1024)
        MOUNT.values.append(mounted(server, min(count, MOUNTS)))
        WATCH.values.append(looked(server, lambda: ask(control, "watch", since=0)))
        CHANGED.values.append(looked(server, lambda: ask(control, "watch", since=time.time())))


def per_machine(server: int, count: int, rounds: int = 1) -> float:
    """Microseconds of the server's processor for one exchange of a machine; all have `rounds`."""
    before = processor_time(server)
    for _ in range(rounds):
        dhcp.exchanges()
    return (processor_time(server) - before) / count / rounds * 1e6


def mounted(server: int, count: int) -> float:
    """Microseconds of all processes of the server for each mount."""
    own = [get_address(WIRE, SERVER, SYSTEM, dhcp._mac(n), n + 1).yiaddr for n in range(count)]
    NfsRoot(WIRE, own[0], SERVER, "/roots/notebook").close()
    before = processor_time(server)
    roots = [NfsRoot(WIRE, address, SERVER, "/roots/notebook") for address in own]
    took = (processor_time(server) - before) / count * 1e6
    for root in roots:
        root.close()
    return took


def looked(server: int, look: Callable[[], object]) -> float:
    """Milliseconds of the server's processor for one look, of several the middle: it writes boots
    meanwhile."""
    took = []
    for _ in range(LOOKS):
        before = processor_time(server)
        assert look() is not None
        took.append(processor_time(server) - before)
    return statistics.median(took) * 1000


def boot(number: int) -> Boot:
    """As its row is: with the events of a boot."""
    who = Who(f"c{number}", dhcp._mac(number), IPv4Address("10.61.16.1"))
    made = Boot(number, dhcp._mac(number), who.name, 1e9 + number)
    made.add(1e9, Seen(who, "tideroom", "UEFI x64", "PXEClient:Arch:00007", 7))
    made.add(1e9, Addressed(who, "tideroom", IPv4Address("10.61.16.1"), 3600, "x64.efi", False))
    for name in ("grub.cfg", "notebook/vmlinuz", "notebook/initrd.img"):
        made.add(1e9, FileSent(who, name, FileKind.KERNEL, 1 << 20, 1.0, "http"))
    return made


def stored(count: int) -> float:
    """Microseconds of the processor for a boot, in a store that has one of each client: as they are
    written, some at a time."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        store = Store(Path(name) / "state.db")
        store.keep_boots([boot(number) for number in range(1, count + 1)])
        before = time.process_time()
        for turn in range(WRITTEN):
            first = count + 1 + turn * 10
            store.keep_boots([boot(number) for number in range(first, first + 10)])
        took = (time.process_time() - before) / WRITTEN / 10 * 1e6
        store.close()
    return took


def checked(count: int) -> float:
    """Milliseconds of the processor to read and check a site."""
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        for place in ("files", "roots/notebook"):
            (Path(name) / place).mkdir(parents=True)
            (Path(name) / place / "large").write_bytes(b"x")
        path = Path(name) / "daskel.toml"
        path.write_text(SITE + clients(count))
        before = time.process_time()
        assert load_checked(path).usable
        return (time.process_time() - before) * 1000


def table() -> list[str]:
    head = [f"{size:,}" for size in SIZES]
    lines = [
        f"| clients | {' | '.join(head)} | grows as n to the |",
        "|---" * (len(SIZES) + 2) + "|",
    ]
    for kind, whole in (("for each machine", False), ("for all of them", True)):
        lines.append(f"| *{kind}* |{' |' * (len(SIZES) + 1)}")
        for figure in (one for one in FIGURES if one.whole is whole):
            digits = 1 if figure.values[0] < 10 else 0
            values = " | ".join(f"{value:,.{digits}f}" for value in figure.values)
            said = f"**{figure.exponent:.1f}**" if figure.too_fast else f"{figure.exponent:.1f}"
            lines.append(f"| {figure.title}, {figure.unit} | {values} | {said} |")
    return lines


def draw(picture: Path) -> None:
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, sides = pyplot.subplots(1, 2, figsize=(12.8, 6.4), layout="constrained")
    for axes, whole in zip(sides, (False, True), strict=True):
        for one in (one for one in FIGURES if one.whole is whole):
            axes.plot(
                SIZES, one.values, marker="o", label=f"{one.title.replace('`', '')}, {one.unit}"
            )
        axes.set_xscale("log")
        axes.set_yscale("log")
        axes.yaxis.set_major_formatter(lambda value, _: f"{value:,g}")
        axes.set_xticks(SIZES, [f"{size:,}" for size in SIZES])
        axes.set_xlabel("clients")
        axes.grid(visible=True, which="major", color="#dddddd")
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_ylim(bottom=axes.get_ylim()[0] / 2, top=axes.get_ylim()[1] * 12)
        axes.legend(loc="upper left", fontsize=9, frameon=False)
    low, high = sides[1].get_ylim()
    for start in (low * 10**n for n in range(-3, 6)):
        ends = [start, start * SIZES[-1] / SIZES[0]]
        sides[1].plot([SIZES[0], SIZES[-1]], ends, color="#bbbbbb", linewidth=0.6, zorder=0)
    sides[1].set_ylim(low, high)
    sides[0].set_title("For each machine: it should stay the same")
    sides[1].set_title("For all together: as the thin lines, in proportion, or less")
    figure.savefig(picture, dpi=100)


def main(page: Path | None, picture: Path | None) -> None:
    for count in SIZES:
        at_size(count)
        STORED.values.append(stored(count))
        CHECK.values.append(checked(count))
    lines = table()
    print("\n".join(lines))
    for figure in FIGURES:
        if figure.too_fast and not QUICK:
            print(f"grows too fast: {figure.title}, as n to the {figure.exponent:.2f}")
    if page and picture:
        text = page.read_text()
        head, tail = text.split(MARKS[0])[0], text.split(MARKS[1])[1]
        said = "\n".join([f"Processor time and memory, {interpreter()}.", "", *lines])
        page.write_text(f"{head}{MARKS[0]}\n{said}\n{MARKS[1]}{tail}")
        draw(picture)


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:3])) if len(sys.argv) > 2 else main(None, None)
