"""One file for many at once on a real wire: the script of the initrd as receiver, with losses."""

from __future__ import annotations

import hashlib
import json
import os
import random
import subprocess
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PATIENCE, until
from tests.wire.net import Net
from tests.wire.test_wire import PROGRAM

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")
SCRIPT = files("daskel.system.roots").joinpath("client", "daskel.pl")
HEARS = """
use Time::HiRes;
eval { do $ENV{SCRIPT} };
{ no warnings; *main::available = sub { 1 << 40 }; *main::uptime = \\&Time::HiRes::time; }
my ($url, $file) = @ARGV;
print eval { hear($url, $file) } ? "heard\\n" : "fetches $@\\n";
"""
SITE = """format = 1
[site]
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
multicast = "239.61.8.1"
BANDWIDTH
unknown = "lobby"
[loadout.live]
kernel = "live/vmlinuz"
"""


class Room:
    """A server and machines on one wire; they get a file by the script of the initrd."""

    def __init__(self, folder: Path, machines: int, data: bytes, bandwidth: str = "") -> None:
        self.folder, self.net = folder, Net()
        self.names = [f"tide-{number:02}" for number in range(1, machines + 1)]
        (folder / "files/live").mkdir(parents=True)
        (folder / "files/live/root.img").write_bytes(data)
        (folder / "files/live/vmlinuz").write_bytes(b"kernel")
        site = SITE.replace("BANDWIDTH", bandwidth)
        (folder / "daskel.toml").write_text(site + "".join(map(self._client, self.names)))
        self.log = folder / "serve.log"

    def _client(self, name: str) -> str:
        number = int(name[-2:])
        place = f'mac = "02:61:08:00:00:{number:02}"\naddress = "10.61.8.{20 + number}"\n'
        return f'[client.{name}]\nsegment = "tideroom"\nboot = "live"\n{place}'

    def open(self, loss: float = 0.0) -> None:
        self.net.add("server")
        self.net.wire("tide0", "10.61.8.1/24")
        self.net.run("server", "ip link set tide0 gso_max_segs 1 type bridge mcast_snooping 0")
        for number, name in enumerate(self.names, 1):
            mac, address = f"02:61:08:00:00:{number:02}", f"10.61.8.{20 + number}/24"
            self.net.add(name)
            self.net.plug("tide0", name, "eth0", mac, address)
            self.lose(name, loss)
        command = [PROGRAM, "serve", "--json", "--site", self.folder / "daskel.toml"]
        self.server = self.net.start("server", *command, log=self.log)
        until(lambda: self.events("ready"), "not ready")

    def lose(self, name: str, part: float) -> None:
        """A part of the datagrams to the group does not reach a machine."""
        for rule in (
            "add table ip loss", "flush table ip loss",
            "add chain ip loss input { type filter hook input priority 0 ; }",
            f"add rule ip loss input udp dport 10808 numgen random mod 1000 <= {part * 1000 - 1:.0f} drop",
        ):  # fmt: skip
            self.net.run(name, "nft", rule) if part else None

    def events(self, kind: str) -> list[dict[str, Any]]:
        lines = self.log.read_text().splitlines() if self.log.exists() else []
        found = [json.loads(line) for line in lines if line.startswith("{")]
        return [event for event in found if event.get("event") == kind]

    def hear(self, name: str) -> subprocess.Popen[bytes]:
        words = ["perl", "-e", HEARS, "hear", "http://10.61.8.1:80/live/root.img", self.got(name)]
        os.environ["SCRIPT"] = str(SCRIPT)
        return self.net.start(name, *words, log=self.said(name))

    def got(self, name: str) -> Path:
        return self.folder / f"{name}.img"

    def said(self, name: str) -> Path:
        return self.folder / f"{name}.log"

    def close(self) -> None:
        self.net.close()


DATA = random.Random(61).randbytes(20_000_001)


@pytest.fixture
def room(tmp_path: Path) -> Iterator[Room]:
    made = Room(tmp_path, 5, DATA, 'bandwidth = "8 MiB/s"')
    try:
        made.open(loss=0.02)
        yield made
    finally:
        made.close()


def test_a_room_with_losses(room: Room) -> None:
    """Three that lose some, one that comes late, and one that multicast does not reach."""
    deaf = room.names[3]
    room.lose(deaf, 1)
    running = {name: room.hear(name) for name in room.names[:4]}
    until(lambda: "10 %" in room.said(room.names[0]).read_text(), "nothing is sent")
    late = room.names[4]
    running[late] = room.hear(late)
    for process in running.values():
        process.wait(PATIENCE)
    digest = hashlib.sha256(DATA).digest()
    for name in (*room.names[:3], late):
        said = room.said(name).read_text()
        assert said.endswith("heard\n"), said
        assert hashlib.sha256(room.got(name).read_bytes()).digest() == digest
    said = room.said(deaf).read_text()
    assert "over HTTP: nothing of what is sent to all was heard" in said and "fetches" in said
    until(lambda: room.events("sent-to-all"), "it does not end")
    (told,) = room.events("sent-to-all")
    assert told["receivers"] >= 4 and len(DATA) <= told["sent"] < 2.2 * len(DATA)
    ended = {event["client"] for event in room.events("file-sent")}
    assert ended == {*room.names[:3], late}
    assert [event["client"] for event in room.events("file-aborted")] == [deaf]
