"""Where the server's processor time goes: bench/where.py WORK [--most N]

The server and the processes that serve NFS look at their own stacks each millisecond of processor
time while a benchmark's work is done. Printed is what of that time each function was in the stack,
and each line at its top. The looks cost something, too: microseconds are those of all the time."""

from __future__ import annotations

import argparse
import json
import os
import signal
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import dhcp
import nfs
from common import daskel, processor_time

from daskel.core.nfs.nfs3 import Procedure

_ALL = 0.97  # of the time: what stands below everything says nothing


@dataclass(frozen=True)
class Work:
    """`run` does `count` of `what`; `first`: nothing is done before that is not looked at."""

    what: str
    count: int
    run: Callable[[Path], Callable[[], object]]
    prepare: str = ""
    more: str = nfs.MORE
    first: bool = False


def _always(run: Callable[[], object]) -> Callable[[Path], Callable[[], object]]:
    return lambda _folder: run


_EXCHANGE = Work("exchange", dhcp.EXCHANGES, _always(dhcp.exchanges), more=dhcp.site())
WORKS = {
    "dhcp": _EXCHANGE,
    "dhcp-written": Work(
        "exchange", dhcp.EXCHANGES, _always(dhcp.exchanges), dhcp.WRITTEN, dhcp.site()
    ),
    "dhcp-first": Work(
        "exchange", dhcp.ARRIVALS, _always(partial(dhcp.arrivals, 0.0)), "", dhcp.site(), True
    ),
    "lookup": Work("call", nfs.CALLS, _always(nfs.asked(Procedure.LOOKUP))),
    "create": Work("file", nfs.MADE, _always(nfs.created)),
    "readdirplus": Work("entry", nfs.MADE, nfs.listed),
    "write": Work("call", nfs.WRITTEN // nfs.WRITE, _always(nfs.written)),
    "read": Work("call", nfs.SIZE // (64 << 10), _always(nfs.read(64 << 10))),
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("work", choices=WORKS)
    parser.add_argument("--most", type=int, default=25, metavar="N", help="lines of each list")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as results:
        sampler = str(Path(__file__).with_name("sampler"))
        path = os.pathsep.join(filter(None, (sampler, os.environ.get("PYTHONPATH"))))
        os.environ.update(WHERE=results, PYTHONPATH=path)
        spent, within, lines = look(WORKS[args.work], Path(results))
    what = WORKS[args.work].what
    print(f"{args.work}: {spent:.1f} µs of the server's processor for each {what}, of which")
    for title, found in (("with all that it calls", within), ("each line", lines)):
        print(f"\n{title}")
        shown = [(name, share) for name, share in found.most_common() if share < _ALL]
        for name, share in shown[: args.most]:
            print(f"{share * spent:8.1f} µs {share:6.1%}  {name}")


def look(work: Work, results: Path) -> tuple[float, Counter[str], Counter[str]]:
    """Microseconds for each; the shares of functions and of lines."""
    large = os.urandom(1 << 20) * (nfs.SIZE >> 20)
    with daskel(large, work.more, work.prepare) as folder:
        time.sleep(5.0 if work.first else 2.5)  # until what was written may be remembered
        run = work.run(folder)
        for _ in range(0 if work.first else 3):  # machines and calls that were here before
            run()
        server = int((folder / "process").read_text())
        processes = nfs.family(server)
        spent = processor_time(server)
        for process in processes:
            os.kill(process, signal.SIGUSR2)
        runs = 1 if work.first else 5
        for _ in range(runs):
            run()
        spent = processor_time(server) - spent
        for process in processes:
            os.kill(process, signal.SIGUSR2)
        time.sleep(1.0)
        found = [json.loads(file.read_text()) for file in results.iterdir()]
    within, lines = Counter[str](), Counter[str]()
    for one in found:
        within.update(one["within"])
        lines.update(one["lines"])
    looks = lines.total()
    shares = [Counter({name: n / looks for name, n in one.items()}) for one in (within, lines)]
    return spent / runs / work.count * 1e6, shares[0], shares[1]


if __name__ == "__main__":
    main()
