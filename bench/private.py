"""Private roots: NFS READ through the tunnel, against iperf3 through the same one, and against a
root in clear; and peers. Both ends are wireguard-go where the kernel has no WireGuard: ratios, not
rates, say something about other machines.

Needs root, wireguard-go and iperf3."""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time
from ipaddress import IPv4Address, ip_address
from pathlib import Path
from typing import cast

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

import nfs
from common import RUNS, at_most, compare, small

from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.private import inner_address
from daskel.rehearse.fetch import NfsRoot
from daskel.system.host.wireguard import Peer, make
from tests.conftest import site_from, until
from tests.image_roots import image_root
from tests.wire.test_private import INSIDE, SITE, Room

READ = 1 << 20  # bytes
PEERS = small(1000, 20)
OPEN = """
[root.open]
[loadout.open]
root = "open"
"""
OTHER = SITE.replace("[client.tide-02]\n", f'{OPEN}[client.tide-02]\nboot = "open"\n')


def pull(server: str, own: str, root: str) -> None:
    """MB/s of the file `large`; run in the client's namespace."""
    where, me = (cast(IPv4Address, ip_address(one)) for one in (server, own))
    there = NfsRoot(Wire(Ports()), me, where, f"/roots/{root}")
    handle = there.resolve("/large") or b""
    print(nfs.pulled(there._sock, nfs.reads(READ, handle)))


def peers(name: str) -> None:
    """Seconds for many, and for one of them; run in a namespace of its own."""
    device = make(name, "fd64:6173:6b65::1/64")
    device.set_up(os.urandom(32), 51821)
    keys = [
        Peer(os.urandom(32), f"fd64:6173:6b65::{number + 2:x}", ("10.61.8.1", 51820))
        for number in range(PEERS)
    ]
    began = time.perf_counter()
    device.replace(keys)
    many = time.perf_counter() - began
    one = []
    for key in keys[:20]:
        began = time.perf_counter()
        device.replace([key])
        one.append(time.perf_counter() - began)
    print(json.dumps({"many": many, "one": sorted(one)[len(one) // 2]}))


class Bench(Room):
    def measured(self, name: str, *words: str) -> str:
        return self.net.run(name, f"{sys.executable} {__file__}", *words)

    def reads(self, name: str, server: str, own: str, root: str) -> float:
        return float(self.measured(name, "pull", server, own, root).splitlines()[-1])

    def bare(self) -> float:
        words = ("-6", "-c", INSIDE.strip("[]"), "-R", "-J", "-n", str(nfs.SIZE))
        found = json.loads(self.net.run("one", "iperf3", *words))
        return float(found["end"]["sum_received"]["bits_per_second"]) / 8e6


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="daskel-bench-") as place:
        made = Bench(Path(place), OTHER)
        for root in ("notebook", "open"):
            folder = made.folder / "roots" / root
            if root == "open":
                image_root(folder)
            (folder / "large").write_bytes(os.urandom(nfs.SIZE))
        try:
            made.open()
            made.let_in("one")
            log = made.folder / "iperf.log"
            made.net.start("server", "iperf3", "-s", "--forceflush", log=log)
            until(lambda: b"listening" in log.read_bytes(), log.read_text)
            own = str(inner_address(site_from(SITE.replace("{number}", "1")), "02:61:08:00:00:01"))

            def private() -> float:
                return made.reads("one", INSIDE.strip("[]"), own, "notebook")

            def plain() -> float:
                return made.reads("two", "10.61.8.1", "10.61.8.22", "open")

            by = made.daskel("keys", "list").stdout.strip().splitlines()[-1]
            print(by)
            compare("READ of 1 MiB through the tunnel", "MB/s", private, ("iperf3", made.bare), 0.8)
            compare("READ of 1 MiB, private beside in clear", "MB/s", private, ("in clear", plain))
            made.net.add("alone")
            name = f"dsk-b{os.getpid() % 10_000}"
            runs = [
                json.loads(made.measured("alone", "peers", name).splitlines()[-1])
                for _ in range(RUNS)
            ]
            made.net.run("alone", f"ip link delete {name}")
            at_most(f"{PEERS} peers in one request", "s", [run["many"] for run in runs])
            at_most(f"One peer of {PEERS} replaced", "ms", [run["one"] * 1e3 for run in runs])
        finally:
            made.close()


if __name__ == "__main__":
    what = {"pull": pull, "peers": peers}.get(sys.argv[1]) if sys.argv[1:] else None
    what(*sys.argv[2:]) if what else main()
