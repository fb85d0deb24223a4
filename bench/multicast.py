"""One file for eight receivers on a wire that loses 1 %: how often it is sent, and what that costs
the server beside one fetch over HTTP. Needs root: network namespaces."""

from __future__ import annotations

import os
import random
import re
import sys
import tempfile
from pathlib import Path
from statistics import median

from common import RUNS, small

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.conftest import until
from tests.wire.test_multicast import Room

SIZE, MACHINES, LOSS = small(128) << 20, 8, 0.01
LOOP = f"""
import resource, socket, struct, time
sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("10.61.8.1"))
sock.connect(("239.61.8.1", 10807))  # nobody listens there
data, cut = bytes(44 * 1472), [(socket.SOL_UDP, 103, struct.pack("=H", 1472))]
for _ in range({SIZE} // (44 * 1456)):
    sock.sendmsg([data], cut)
    time.sleep(0.001)
used = resource.getrusage(resource.RUSAGE_SELF)
print(used.ru_utime + used.ru_stime)
"""
MISSED = re.compile(r"([\d.]+) % were missed")


def seconds(process: int) -> float:
    """Of processors, that all threads of a process and of those below it have had."""
    found, pending = 0, [process]
    while pending:
        one = pending.pop()
        for task in Path(f"/proc/{one}/task").iterdir():
            found += int((task / "schedstat").read_text().split()[0])
            pending += [int(n) for n in (task / "children").read_text().split()]
    return found / 1e9


def bench(room: Room, times: list[float]) -> None:
    server = room.server.pid

    def to_all() -> float:
        before, ended = seconds(server), len(room.events("sent-to-all"))
        running = [room.hear(name) for name in room.names]
        for process in running:
            process.wait(300)
        until(lambda: len(room.events("sent-to-all")) > ended, "no transmission")
        said = [room.said(name).read_text() for name in room.names]
        assert all(text.endswith("heard\n") for text in said), said
        rest = sum(float(found) / 100 for text in said for found in MISSED.findall(text))
        told = room.events("sent-to-all")[-1]
        times.append(told["sent"] / told["size"] + rest)
        return seconds(server) - before

    def alone() -> float:
        before = seconds(server)
        url = "http://10.61.8.1/live/root.img"
        room.net.run(room.names[0], f"curl -s -o {room.got(room.names[0])} {url}")
        return seconds(server) - before

    def loop() -> float:
        return float(room.net.run("server", sys.executable, "-c", LOOP))

    runs = [(to_all(), alone(), loop()) for _ in range(RUNS + 1)][1:]
    print(f"multicast: {MACHINES} receivers, {SIZE >> 20} MiB, {LOSS:.0%} lost")
    print(f"  sent              {median(times):12.2f} times the file (goal 1.2)")
    print(f"  processor         {median(run[0] for run in runs):12.2f} s")
    fetches = median(run[0] / run[1] for run in runs)
    print(f"  of an HTTP fetch  {fetches:12.2f}   (goal 1.5; median of {RUNS})")
    loops = median(run[0] / run[2] for run in runs)
    print(f"  of a bare loop    {loops:12.2f}   that does nothing but send the same datagrams")


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as name:
        room = Room(Path(name), MACHINES, random.Random(61).randbytes(SIZE))
        try:
            room.open(LOSS)
            bench(room, [])
        finally:
            room.close()


if __name__ == "__main__":
    if os.geteuid() == 0:
        main()
    else:
        print("multicast: not measured, network namespaces need root")
