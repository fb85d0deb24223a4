"""Several servers of one site on a wire, with one database: they are killed, frozen and cut off, and
no address is given twice, no lease that was acknowledged is lost, and machines come up."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import until
from tests.image_roots import image_root
from tests.postgres import Postgres, running
from tests.wire.net import Net

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")

SITE = """format = 1
[site]
name = "Skerry Point"
state = "postgresql://daskel@10.61.8.250/site"
local = "local"
roots = "roots"
slates = "slates"
[server.north]
addresses = { tideroom = "10.61.8.1" }
[server.south]
addresses = { tideroom = "10.61.8.2" }
[server.west]
addresses = { tideroom = "10.61.8.3" }
[segment.tideroom]
network = "10.61.8.0/22"
dhcp = "full"
pool = ["10.61.9.0 - 10.61.11.100"]
lease = "20s"
unknown = "address-only"
[loadout.rescue]
kernel = "rescue/vmlinuz"
[group.tide]
segment = "tideroom"
boot = "rescue"
"""
WAYS = SITE  # and with IPv6, and a machine that knows no IP
for _number, _name in enumerate(("north", "south"), 1):
    _own = f'addresses = {{ tideroom = "10.61.8.{_number}" }}\n'
    WAYS = WAYS.replace(_own, f'{_own}addresses6 = {{ tideroom = "fd61:8::{_number}" }}\n')
WAYS = WAYS.replace(
    'lease = "20s"\n', 'network6 = "fd61:8::/64"\npool6 = "slaac"\nlease = "1min"\nraw = true\n'
)
WAYS += """[loadout.terminal-server]
raw = "terminal-server/wwng.sys"
[client.old-1]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "terminal-server"
[client.new-1]
mac = "02:61:08:00:00:02"
group = "tide"
address6 = "fd61:8::21"
"""
ADDRESSES = {"north": "10.61.8.1", "south": "10.61.8.2", "west": "10.61.8.3"}
DASKEL = (sys.executable, "-m", "daskel")
UNGUARDED = (sys.executable, str(Path(__file__).with_name("unguarded.py")))
CROWD = (sys.executable, str(Path(__file__).with_name("crowd.py")))
SIX = (sys.executable, str(Path(__file__).with_name("six.py")))
RAW = (sys.executable, str(Path(__file__).with_name("raw_client.py")))
CALM = 5.0  # seconds after an event, from which on every boot comes up
WITHIN = 10.0  # seconds that it takes at most, as firmware repeats itself


@dataclass
class Sea:
    """A wire with servers, a database and machines. `events`: when something was done to them."""

    folder: Path
    net: Net
    postgres: Postgres
    program: tuple[str, ...]
    clients: int
    events: list[tuple[float, float]]
    site: str

    def __post_init__(self) -> None:
        self.serving: dict[str, subprocess.Popen[bytes]] = {}
        self.logs: dict[str, Path] = {}

    def lay_out(self, name: str) -> None:
        folder = self.folder / name
        kernel = folder / "files/rescue/vmlinuz"
        kernel.parent.mkdir(parents=True)
        kernel.write_bytes(bytes(0x202) + b"HdrS" + bytes(1000))
        clients = (
            f'[client.tide-{n}]\nmac = "02:61:08:01:{n >> 8:02x}:{n & 255:02x}"\ngroup = "tide"\n'
            for n in range(self.clients)
        )
        (folder / "files/terminal-server").mkdir()
        (folder / "files/terminal-server/wwng.sys").write_bytes(bytes(5000))
        text = (self.site + "".join(clients)).replace("{own}", name)
        (folder / "daskel.toml").write_text(text)
        if "[root.notebook]" in text:
            image_root(folder / "roots/notebook")
            assert "Its image has" in self.daskel(name, "root", "seal", "notebook", "--yes")

    def serve(self, name: str) -> None:
        self.logs[name] = log = self.folder / f"{name}-{len(self.events)}.log"
        words = [*self.program, "serve", "--site", self.folder / name / "daskel.toml"]
        self.serving[name] = self.net.start(name, *words, log=log)

    def wait_ready(self, name: str) -> None:
        until(lambda: " ready " in self.logs[name].read_text(), self.logs[name].read_text)

    def daskel(self, name: str, *words: str) -> str:
        command = [*DASKEL, *words, "--site", self.folder / name / "daskel.toml"]
        done = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
        return done.stdout + done.stderr

    @contextmanager
    def happens(self) -> Iterator[None]:
        began = time.time()
        yield
        self.events.append((began, time.time()))

    def kill(self, name: str) -> None:
        with self.happens():
            self.serving[name].kill()
            self.serving[name].wait()

    def crash_database(self, seconds: float) -> None:
        with self.happens():
            self.postgres.stop("immediate")
            time.sleep(seconds)
            self.postgres.start(self.net.full("db"))

    def freeze(self, name: str, seconds: float) -> None:
        with self.happens():
            self.serving[name].send_signal(signal.SIGSTOP)
            time.sleep(seconds)
            self.serving[name].send_signal(signal.SIGCONT)

    def cut_off(self, name: str, seconds: float) -> None:
        """From the database, without a word."""
        with self.happens():
            self.net.run(name, "ip route add blackhole 10.61.8.250/32")
            time.sleep(seconds)
            self.net.run(name, "ip route del blackhole 10.61.8.250/32")

    def crowds(self, machines: int, others: int, seconds: int) -> list[subprocess.Popen[bytes]]:
        return [
            self.net.start(
                place, *CROWD, "eth0", str(seed), str(count), str(seconds),
                log=self.folder / f"crowd-{seed}.log",
            )
            for place, seed, count in (("crowd", 1, machines), ("strangers", 2, others))
        ]  # fmt: skip

    def told(self) -> list[dict[str, Any]]:
        """What the machines say, in the order of its times."""
        lines = [
            json.loads(line)
            for path in self.folder.glob("crowd-*.log")
            for line in path.read_text().splitlines()
        ]
        return sorted(lines, key=lambda line: line.get("now", line["began"]))


@contextmanager
def sea(
    folder: Path, program: tuple[str, ...], clients: int, *names: str, site: str = SITE
) -> Iterator[Sea]:
    net = Net()
    with ExitStack() as ending:
        ending.callback(net.close)
        for name in ("server", "db", "crowd", "strangers", *names):
            net.add(name)
        net.wire("tide0")
        net.plug("tide0", "db", "eth0", "", "10.61.8.250/22")
        net.plug("tide0", "crowd", "eth0", "", "10.61.8.200/22")
        net.plug("tide0", "strangers", "eth0", "", "10.61.8.201/22")
        for name in names:
            net.plug("tide0", name, "eth0", "", f"{ADDRESSES[name]}/22")
            last = ADDRESSES[name].rpartition(".")[2]
            net.run(name, f"ip address add fd61:8::{last}/64 dev eth0 nodad")
        postgres = ending.enter_context(running("0.0.0.0", net.full("db")))
        postgres.create("site")
        made = Sea(folder, net, postgres, program, clients, [], site)
        try:
            for name in names:
                made.lay_out(name)
                made.serve(name)
            for name in names:
                made.wait_ready(name)
            yield made
        finally:
            for process in made.serving.values():
                process.kill()
                process.wait()


def twice(told: list[dict[str, Any]]) -> list[tuple[str, str, str]]:
    """Addresses that a machine was given while another was promised them."""
    promised: dict[str, tuple[str, float]] = {}
    found = []
    for line in (line for line in told if line["what"] == "up"):
        mac, ends = promised.get(line["address"], ("", 0.0))
        if mac != line["mac"] and line["now"] < ends:
            found.append((line["address"], mac, line["mac"]))
            ends = 0.0
        own = line["sent"] + line["lease"]
        promised[line["address"]] = line["mac"], max(own, ends if mac == line["mac"] else own)
    return found


def lost(sea: Sea, told: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What was acknowledged, still holds, and is not in the database."""
    text = sea.postgres.sql("site", "SELECT address, mac, expires FROM leases")
    rows = {one[0]: (one[1], float(one[2])) for one in (r.split("|") for r in text.splitlines())}
    now = time.time()
    return [
        line for line in told
        if line["what"] == "up" and (ends := line["sent"] + line["lease"]) > now
        and (rows[line["address"]][0] != line["mac"] or rows[line["address"]][1] < ends - 1)
    ]  # fmt: skip


def late(sea: Sea, told: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Machines of the site that did not come up, or took too long, when nothing was happening."""
    noisy = [(began, ended + CALM) for began, ended in sea.events]
    found = []
    for line in told:
        began, ended = line["began"], line.get("now", line["began"] + 60)
        took = ended - began
        calm = not any(began < b2 and ended > a for a, b2 in noisy)
        if (
            calm
            and line["mac"].startswith("02:61:08")
            and (line["what"] == "down" or took > WITHIN)
        ):
            found.append(line)
    return found


def judged(sea: Sea) -> None:
    told = sea.told()
    assert len([line for line in told if line["what"] == "up"]) > sea.clients
    assert not twice(told)
    assert not lost(sea, told)
    assert not late(sea, told), late(sea, told)[:5]


def test_two_servers_one_of_which_dies(tmp_path: Path) -> None:
    with sea(tmp_path, DASKEL, 200, "north", "south") as made:
        crowds = made.crowds(200, 60, 40)
        time.sleep(5)
        both = {line["server"] for line in made.told()}
        assert both == {"10.61.8.1", "10.61.8.2"}
        made.kill("north")
        time.sleep(8)
        made.serve("north")
        made.wait_ready("north")
        made.crash_database(2)
        for crowd in crowds:
            crowd.wait()
        judged(made)


def test_without_the_guard_it_is_noticed(tmp_path: Path) -> None:
    """The control: a store that gives addresses away is found out by the same look."""
    with sea(tmp_path, UNGUARDED, 200, "north", "south") as made:
        for crowd in made.crowds(200, 300, 25):
            crowd.wait()
        assert twice(made.told())


def test_over_ipv6_and_in_raw_frames(tmp_path: Path) -> None:
    """One server answers; and machines go on when the database is away."""
    with sea(tmp_path, DASKEL, 0, "north", "south", site=WAYS) as made:
        new = ("eth0", "02:61:08:00:00:02")
        address, _, seconds = made.net.run("crowd", " ".join(SIX), "take", *new).split()
        assert (address, seconds) == ("fd61:8::21", "60")
        old = [*RAW, "eth0", "02:61:08:00:00:01", "SNAP", "", tmp_path / "old-1.got"]
        made.net.run("crowd", " ".join(map(str, RAW)), *map(str, old[2:]))
        assert (tmp_path / "old-1.got").read_bytes() == bytes(5000)
        for words in ("fd61:8::21", "terminal-server/wwng.sys"):
            told = [name for name, log in made.logs.items() if words in log.read_text()]
            assert len(told) == 1, (words, told)
        made.postgres.stop("immediate")
        until(lambda: all("the store does not" in log.read_text() for log in made.logs.values()))
        again, _, left = made.net.run("crowd", " ".join(SIX), "take", *new).split()
        assert again == address and 10 <= int(left) < 62, left
        stranger = made.net.run(
            "crowd", " ".join(SIX), "take", "eth0", "02:61:08:00:00:03", check=False
        )
        assert not stranger
        assert any("no address can be promised" in log.read_text() for log in made.logs.values())


@pytest.mark.extended
def test_three_servers_in_heavy_weather(tmp_path: Path) -> None:
    with sea(tmp_path, DASKEL, 500, "north", "south", "west") as made:
        crowds = made.crowds(500, 100, 170)
        weather: list[Callable[[], object]] = [
            lambda: made.kill("north"), lambda: made.serve("north"),
            lambda: made.freeze("south", 8), lambda: made.cut_off("west", 30),
            lambda: made.crash_database(0.1), lambda: made.kill("west"),
            lambda: made.serve("west"), lambda: made.crash_database(4),
        ]  # fmt: skip
        for blow in weather:
            time.sleep(10)
            blow()
        for crowd in crowds:
            crowd.wait()
        judged(made)
