"""Private roots on a wire: who was admitted reads them, and nobody else anything of them."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.core.site.private import inner_address
from daskel.system.host.privileges import NET_ADMIN
from tests.conftest import site_from, until
from tests.image_roots import image_root
from tests.wire.net import Net
from tests.wire.test_wire import PROGRAM

CI = "CI" in os.environ  # there a missing program is a failure
pytestmark = [
    pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root"),
    pytest.mark.skipif(not shutil.which("wireguard-go") and not CI, reason="no wireguard-go"),
]
CLIENT = (sys.executable, str(Path(__file__).with_name("private_client.py")))
MARKER = "low-water-seven-fathoms-"
SITE = """format = 1
[site]
state = "state.db"
roots = "roots"
slates = "slates"
loaders = []
[site.private]
interface = "dsk-s{number}"
secrets = ["wayline/ticket", "wayline/quay", "wayline/chart"]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
[root.notebook]
private = true
[loadout.notebook]
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
address = "10.61.8.21"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
address = "10.61.8.22"
group = "tide"
"""
INSIDE = "[fd64:6173:6b65::1]"
AT = {"one": ("02:61:08:00:00:01", "10.61.8.21/24"), "two": ("02:61:08:00:00:02", "10.61.8.22/24"),
      "rogue": ("02:61:fe:00:00:01", "10.61.8.66/24")}  # fmt: skip


class Room:
    def __init__(self, folder: Path, site: str = SITE) -> None:
        self.folder, self.net, self.number = folder, Net(), os.getpid() % 10_000
        text = site.replace("{number}", str(self.number))
        (folder / "daskel.toml").write_text(text)
        image_root(folder / "roots/notebook")
        (folder / "roots/notebook/marked").write_text(MARKER * 2000)
        for place in ("clients/tide-01", "clients/TIDE-02", "groups/tide"):
            (folder / "files" / place / "wayline").mkdir(parents=True)
        (folder / "files/clients/tide-01/wayline/ticket").write_text(f"{MARKER}ticket")
        (folder / "files/groups/tide/wayline/chart").write_bytes(bytes((1 << 20) + 1))
        (folder / "files/clients/TIDE-02/wayline/ticket").write_text("another one's")
        (folder / "files/groups/tide/wayline/quay").write_text("for all of the room")
        site = site_from(text)
        self.inner = {name: str(inner_address(site, mac)) for name, (mac, _) in AT.items()}

    def open(self) -> None:
        net = self.net
        sealed = self.daskel("root", "seal", "notebook", "--yes")
        assert "Its image has" in sealed.stdout, sealed
        for name in ("server", *AT):
            net.add(name)
        net.wire("tide0", "10.61.8.1/24")
        for name, (mac, address) in AT.items():
            net.plug("tide0", name, "eth0", mac, address)
            key = self.folder / f"{name}.key"
            key.write_bytes(os.urandom(32))
        self.pcap = self.folder / "all.pcap"
        log = self.folder / "tshark.log"
        net.start("server", "tshark", "-q", "-i", "tide0", "-w", self.pcap, log=log)
        until(lambda: self.pcap.exists() and self.pcap.stat().st_size, log.read_text)
        self.serve()

    def serve(self) -> None:
        log = self.folder / "serve.log"
        words = [PROGRAM, "serve", "--site", self.folder / "daskel.toml"]
        self.serving = self.net.start("server", *words, log=log)
        until(lambda: " ready " in log.read_text(), log.read_text)

    def daskel(self, *words: str) -> subprocess.CompletedProcess[str]:
        command = [PROGRAM, *words, "--site", self.folder / "daskel.toml"]
        return subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)

    def join(self, name: str, key: str | None = None) -> str:
        """A client with its tunnel, and what it says."""
        log = self.folder / f"{name}-{time.monotonic_ns()}.log"
        interface = f"dsk-{name}{self.number}"[:15]
        file = self.folder / f"{key or name}.key"
        self.client = self.net.start(name, *CLIENT, interface, self.inner[name], file, log=log)
        until(lambda: "tunnel" in log.read_text() or self.client.poll() is not None, log.read_text)
        return log.read_text()

    def let_in(self, name: str) -> None:
        """A client whose key is admitted, by an earlier test or now."""
        client = {"one": "tide-01", "two": "tide-02"}[name]
        keys = json.loads(self.daskel("keys", "list", "--json").stdout)["keys"]
        if client not in {key["client"] for key in keys}:
            word = self.join(name).split()[1]
            assert self.daskel("lobby", "admit", client, "--word", word).returncode == 0
        until(lambda: self.fetched(name, f"http://{INSIDE}/nothing") == "404", pause=0.5)

    def read(self, name: str, server: str) -> str:
        inside = server.strip("[]")
        own = self.inner[name] if ":" in inside else AT[name][1].partition("/")[0]
        command = ["timeout", "10", *CLIENT, "read", inside, own]
        return self.net.run(name, " ".join(command), check=False)

    def fetched(self, name: str, url: str) -> str:
        words = ("-g", "-s", "-m", "4", "-o", "/dev/null", "-w", "%{http_code}", url)
        return self.net.run(name, "curl", *words, check=False)

    def close(self) -> None:
        self.net.run("server", f"ip link delete dsk-s{self.number}", check=False)
        for name in AT:
            interface = f"dsk-{name}{self.number}"[:15]
            self.net.run(name, f"ip link delete {interface}", check=False)
        self.net.close()


@pytest.fixture(scope="module")
def room(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Room]:
    made = Room(tmp_path_factory.mktemp("private"))
    try:
        made.open()
        yield made
    finally:
        made.close()


def test_who_is_admitted_reads_it(room: Room) -> None:
    word = room.join("one").split()[1]
    waiting = json.loads(room.daskel("lobby", "list", "--json").stdout)
    assert [entry["key"]["word"] for entry in waiting] == [word]
    assert not room.fetched("one", f"http://{INSIDE}/").startswith("2")
    assert room.daskel("lobby", "admit", "tide-01", "--word", "AAAAAA").returncode == 3
    assert room.daskel("lobby", "admit", "tide-01", "--word", word).returncode == 0
    until(lambda: room.fetched("one", f"http://{INSIDE}/nothing") == "404", pause=0.5)
    assert MARKER in room.read("one", INSIDE)
    until(lambda: room.pcap.stat().st_size > 50_000, lambda: room.pcap.stat())
    assert MARKER.encode() not in room.pcap.read_bytes()
    keys = json.loads(room.daskel("keys", "list", "--json").stdout)["keys"]
    assert [(key["client"], key["fits"]) for key in keys] == [("tide-01", True)]


def test_secret_files_come_through_the_tunnel_alone(room: Room) -> None:
    for name in ("one", "two"):
        room.let_in(name)
    words = ("-g", "-s", "-m", "4", f"http://{INSIDE}/daskel/secrets")
    assert room.net.run("one", "curl", *words) == (
        f"30 wayline/ticket\n{MARKER}ticket19 wayline/quay\nfor all of the room"
    )
    assert room.net.run("two", "curl", *words) == "19 wayline/quay\nfor all of the room"
    log = (room.folder / "serve.log").read_text()
    assert "tide-02 does not get its secret wayline/chart: it has 1048577 bytes" in log
    for path in (
        "clients/tide-01/wayline/ticket",
        "wayline/ticket",
        "Wayline/TICKET",
        "groups/tide/wayline/quay",
        "clients/Tide-01/wayline/Ticket",
        "daskel/secrets",
    ):
        for name in AT:
            assert room.fetched(name, f"http://10.61.8.1/{path}") in ("403", "404"), (name, path)
            tftp = ("-s", "-m", "4", f"tftp://10.61.8.1/{path}")
            assert room.net.run(name, "curl", *tftp, check=False) == "", (name, path)
    room.net.run("two", "curl", "-g", "-s", f"http://{INSIDE}/clients/tide-01/wayline/ticket")
    assert "403" in room.fetched("two", f"http://{INSIDE}/clients/tide-01/wayline/ticket")


def test_nobody_reads_it_in_clear(room: Room) -> None:
    """Not even the client itself, and not from a machine that takes its address inside."""
    room.let_in("one")
    for name in AT:
        assert not room.read(name, "10.61.8.1"), name
    mac = room.net.run("server", "cat /sys/class/net/tide0/address").strip()
    for command in (
        f"ip -6 address add {room.inner['one']}/128 dev eth0 nodad",
        "ip -6 route add fd64:6173:6b65::1/128 dev eth0",
        f"ip -6 neighbour add fd64:6173:6b65::1 lladdr {mac} dev eth0",
    ):
        room.net.run("rogue", command)
    assert room.fetched("rogue", f"http://{INSIDE}/nothing") == "000"
    assert not room.read("rogue", INSIDE)


def test_the_first_message_of_a_tunnel_sent_again(room: Room) -> None:
    """By a machine that has recorded it, before and after the server knows its client anew: it gets
    nothing, and the client goes on."""
    room.let_in("one")
    until(lambda: room.pcap.stat().st_size > 10_000, lambda: room.pcap.stat())
    for replaced in (False, True):
        if replaced:  # as when its machine asks for an address: what it sent before is forgotten
            time.sleep(2.1)
            words = ("-s", "-d", "key=", "http://10.61.8.1/daskel/private/known")
            room.net.run("one", "curl", *words)
        room.net.run("rogue", " ".join(CLIENT), "replay", room.pcap)
        assert not room.read("rogue", INSIDE)
        began = time.monotonic()
        until(lambda: MARKER in room.read("one", INSIDE))
        assert time.monotonic() - began < 30


def test_another_key_of_the_server(room: Room) -> None:
    """It comes through the tunnel of the one before: who has it goes on, and nobody else."""
    for name in ("one", "two"):
        room.let_in(name)
    finish = ("keys", "renew", "--finish", "--json", "--yes")
    assert room.daskel(*finish).returncode != 0, "there is no other yet"
    begun = json.loads(room.daskel("keys", "renew", "--json").stdout)
    assert begun["lack"] == ["tide-01", "tide-02"]
    asked = room.net.run("one", "curl", "-s", "-d", "key=", "http://10.61.8.1/daskel/private/known")
    assert "next" not in asked, "outside of the tunnel anybody can say so"
    key = room.net.run("one", " ".join(CLIENT), "next", room.folder / "one.key").strip()
    keys = json.loads(room.daskel("keys", "list", "--json").stdout)["keys"]
    assert {k["client"]: k["server"] for k in keys} == {"tide-01": "next", "tide-02": "now"}
    done = json.loads(room.daskel(*finish).stdout)
    assert (done["know"], done["lack"]) == (["tide-01"], ["tide-02"])
    assert room.fetched("one", f"http://{INSIDE}/nothing") == "000", "its kernel has the old one"
    told = room.net.run("one", "curl", "-s", "-d", "key=", "http://10.61.8.1/daskel/private/known")
    assert f"server={key}" in told
    assert "word" not in room.join("one")
    until(lambda: room.fetched("one", f"http://{INSIDE}/nothing") == "404", pause=0.5)
    keys = json.loads(room.daskel("keys", "list", "--json").stdout)["keys"]
    assert {k["client"]: k["server"] for k in keys} == {"tide-01": "now", "tide-02": "before"}
    assert (room.folder / "private.key.before").stat().st_mode & 0o777 == 0o600
    room.daskel("keys", "revoke", "tide-02", "--yes")


def test_who_is_not_admitted(room: Room) -> None:
    """A stranger, a client with another one's key, and one whose word nobody has confirmed."""
    room.let_in("one")
    room.daskel("keys", "revoke", "tide-02", "--yes")
    assert "403" in room.join("rogue")
    assert "403" in room.join("two", key="one"), "it is the first one's key"
    room.daskel("keys", "revoke", "tide-01", "--yes")
    words = {n: room.join(n, key="one").split()[1] for n in ("one", "two")}  # one medium in both
    assert room.daskel("lobby", "admit", "tide-01", "--word", words["one"]).returncode == 0
    refused = room.daskel("lobby", "admit", "tide-02", "--word", words["two"])
    assert refused.returncode == 3 and "this key is tide-01's" in refused.stderr, refused
    word = room.join("two").split()[1]
    assert room.fetched("two", f"http://{INSIDE}/nothing") == "000"
    assert room.daskel("lobby", "admit", "tide-02", "--word", word).returncode == 0
    until(lambda: MARKER in room.read("two", INSIDE))


def test_a_server_that_begins_again_and_a_key_that_is_revoked(room: Room) -> None:
    room.let_in("one")
    room.let_in("two")
    room.serving.kill()
    room.serving.wait()
    room.serve()
    until(lambda: MARKER in room.read("one", INSIDE))
    assert room.daskel("keys", "revoke", "tide-01", "--yes").returncode == 0
    assert room.fetched("one", f"http://{INSIDE}/nothing") == "000"
    assert "has no key" in room.daskel("keys", "revoke", "tide-01", "--yes").stderr
    assert room.fetched("two", f"http://{INSIDE}/nothing") == "404", "others go on"
    key = room.folder / "private.key"
    assert key.stat().st_mode & 0o777 == 0o600
    lines = Path(f"/proc/{room.serving.pid}/status").read_text().splitlines()
    (effective,) = (int(line.split()[1], 16) for line in lines if line.startswith("CapEff:"))
    assert not effective >> NET_ADMIN & 1, "it could ask the kernel for the tunnel's key"
