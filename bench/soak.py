"""Boots in a loop: memory, descriptors, log and store of a server for each boot, and what that is
in a year of 200 clients that boot twice a day. The first boots are left out: a server learns.

    .venv/bin/python bench/soak.py [BOOTS]
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from ipaddress import IPv4Address
from pathlib import Path

from daskel.cli.practice_server import free_base
from daskel.core.boot.wire import Ports, Wire
from daskel.core.dhcp.client_messages import SYSTEM, Face
from daskel.core.dhcp.pxe import Firmware
from daskel.rehearse.fetch import NfsRoot, get_address, http_get, tftp_get

CLIENTS, A_YEAR = 200, 200 * 2 * 365
SERVER = IPv4Address("10.61.8.1")
SITE = """format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.8.0/23"
server = "10.61.8.1"
dhcp = "full"
[root.notebook]
slate = "none"
[loadout.notebook]
kernel = "vmlinuz"
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
"""


def mac(number: int) -> str:
    return f"02:61:08:00:00:{number:02x}"


def address(number: int) -> IPv4Address:
    return IPv4Address("10.61.8.10") + number


def boot(wire: Wire, number: int, xid: int) -> None:
    """Firmware, kernel, and root, as a client does it."""
    own = get_address(wire, SERVER, Face.of(Firmware.BIOS), mac(number), xid).yiaddr
    tftp_get(wire, own, SERVER, "vmlinuz", Face.of(Firmware.BIOS))
    http_get(wire, own, f"http://{SERVER}/vmlinuz")
    get_address(wire, SERVER, SYSTEM, mac(number), xid)
    root = NfsRoot(wire, own, SERVER, "/roots/notebook")
    for _ in root.files():
        pass
    root.close()


class Measured:
    """The server with its NFS processes: bytes of memory, descriptors; bytes of log and store."""

    def __init__(self, process: int, folder: Path) -> None:
        self._process, self._folder = process, folder

    def _tree(self, process: int) -> list[int]:
        text = Path(f"/proc/{process}/task/{process}/children").read_text()
        return [process, *(p for child in text.split() for p in self._tree(int(child)))]

    def now(self) -> dict[str, int]:
        memory = files = 0
        for process in self._tree(self._process):
            lines = Path(f"/proc/{process}/smaps_rollup").read_text().splitlines()
            memory += next(int(line.split()[1]) << 10 for line in lines if line.startswith("Pss:"))
            files += len(list(Path(f"/proc/{process}/fd").iterdir()))
        store = sum(path.stat().st_size for path in self._folder.glob("state.db*"))
        return {"memory": memory, "descriptors": files, "store": store,
                "log": (self._folder / "log").stat().st_size}  # fmt: skip


def lay_out(folder: Path) -> None:
    clients = (f'[client.tide-{n}]\nmac = "{mac(n)}"\naddress = "{address(n)}"\ngroup = "tide"\n'
               for n in range(CLIENTS))  # fmt: skip
    (folder / "daskel.toml").write_text(SITE + "".join(clients))
    (folder / "roots/notebook/etc").mkdir(parents=True)
    (folder / "roots/notebook/etc/greeting").write_text("hello")
    (folder / "files").mkdir()
    (folder / "files/vmlinuz").write_bytes(b"MZ" + bytes(100_000))


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    with tempfile.TemporaryDirectory() as name:
        folder, base = Path(name), free_base()
        lay_out(folder)
        command = [Path(sys.executable).with_name("daskel"), "serve", "--loopback", str(base)]
        with (folder / "log").open("w") as log:
            server = subprocess.Popen(
                [*command, "--site", folder / "daskel.toml"], stdout=log, stderr=log
            )
        wire = Wire(Ports.from_base(base), loopback=True)
        try:
            while "ready" not in (folder / "log").read_text():
                time.sleep(0.1)
            soak(wire, Measured(server.pid, folder), count)
        finally:
            server.terminate()
            server.wait()


def soak(wire: Wire, measured: Measured, count: int) -> None:
    rows: list[tuple[int, dict[str, int]]] = []
    step = max(1, count // 20)
    with ThreadPoolExecutor(4) as pool:
        for done in range(0, count, step):
            list(pool.map(lambda n: boot(wire, n % CLIENTS, n), range(done, done + step)))
            time.sleep(3)  # boots are written every two seconds
            rows.append((done + step, measured.now()))
            shown = (f"{what} {value:,}" for what, value in rows[-1][1].items())
            print(f"{done + step:7,} boots: {', '.join(shown)}", flush=True)
    (first, early), (last, late) = rows[len(rows) // 2], rows[-1]
    print(f"\nfor each boot, of the last {last - first:,}, and in a year of {CLIENTS} clients:")
    for what in late:
        each = (late[what] - early[what]) / (last - first)
        print(f"  {what:<12} {each:12.1f}   {each * A_YEAR:16,.0f}")
    print(json.dumps({"boots": last, "early": early, "late": late}))


if __name__ == "__main__":
    main()
