"""Machines that ask for a system in raw Ethernet frames, on a wire of their own."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PATIENCE, daskel, until
from tests.formats import check_event, check_printed
from tests.wire.net import Net
from tests.wire.test_wire import PROGRAM

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")
CLIENT = [sys.executable, str(Path(__file__).with_name("raw_client.py"))]
IMAGE = random.Random(61).randbytes(300 * 1024 + 7)  # more blocks than a message's number can count
SITE = """format = 1
[site]
name = "skerry"
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
raw = true
unknown = "lobby"
refuse = ["02:61:08:00:00:66"]
[loadout.terminal-server]
raw = "terminal-server/wwng.sys"
load = 0x5200
start = 0x5204
names = { "TIDEBOARD-1" = "terminal-server/board.sys" }
[loadout.old-disk]
raw = "terminal-server/boot.bin"
load = 0x7c00
parts = { "terminal-server/floppy.img" = 0x900000 }
names = { "TIDEBOARD" = "terminal-server/boot2.bin" }
[client.tide-04]
mac = "02:61:08:00:00:04"
segment = "tideroom"
boot = "old-disk"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "terminal-server"
[client.tide-02]
mac = "02:61:08:00:00:02"
segment = "tideroom"
boot = "terminal-server"
[client.tide-03]
mac = "02:61:08:00:00:03"
segment = "tideroom"
boot = "terminal-server"
"""
ONE, TWO, THREE, FOUR, STRANGER, REFUSED = (
    f"02:61:08:00:00:{n}" for n in ("01", "02", "03", "04", "77", "66")
)
JUNK = "1000000"  # frames
FLOPPY = random.Random(144).randbytes(1_474_560)


class Wire:
    """A server, and a namespace that machines are simulated in."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.net, self.log = folder, Net(), folder / "serve.log"
        (folder / "files/terminal-server").mkdir(parents=True)
        (folder / "files/terminal-server/wwng.sys").write_bytes(IMAGE)
        (folder / "files/terminal-server/board.sys").write_bytes(b"board")
        (folder / "files/terminal-server/boot.bin").write_bytes(b"a boot block")
        (folder / "files/terminal-server/boot2.bin").write_bytes(b"another" * 300)
        (folder / "files/terminal-server/floppy.img").write_bytes(FLOPPY)
        (folder / "files/wwng3.sys").write_bytes(b"found by itself")
        (folder / "files/clients/tide-02/terminal-server").mkdir(parents=True)
        (folder / "files/clients/tide-02/terminal-server/wwng.sys").write_bytes(b"its own")
        (folder / "daskel.toml").write_text(SITE)

    def open(self) -> None:
        self.net.add("server")
        self.net.add("old")
        self.net.wire("tide0", "10.61.8.1/24")
        self.net.plug("tide0", "old", "eth0")
        command = [PROGRAM, "serve", "--json", "--site", self.folder / "daskel.toml"]
        self.server = self.net.start("server", *command, log=self.log)
        until(lambda: self.events("ready"), "not ready")

    def events(self, kind: str, **fields: object) -> list[dict[str, Any]]:
        lines = self.log.read_text().splitlines() if self.log.exists() else []
        found = [json.loads(line) for line in lines if line.startswith("{")]
        for event in found:
            check_event(event)
        return [e for e in found if e["event"] == kind and fields.items() <= e.items()]

    def boot(
        self, mac: str, name: str = "", framing: str = "SNAP", loss: float = 0.0
    ) -> subprocess.Popen[bytes]:
        words = [*CLIENT, "eth0", mac, framing, name, self.folder / f"{mac}.got"]
        words += [str(loss)] if loss else []
        return self.net.start("old", *words, log=self.folder / f"{mac}.log")

    def loaded(self, mac: str, *more: Any, **how: Any) -> bytes:
        """What it got, "" when it got nothing."""
        self.boot(mac, *more, **how).wait(PATIENCE)
        got = self.folder / f"{mac}.got"
        data = got.read_bytes() if got.exists() else b""
        got.unlink(missing_ok=True)
        return data

    def said(self, mac: str) -> str:
        return (self.folder / f"{mac}.log").read_text().strip()


@pytest.fixture(scope="module")
def wire(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Wire]:
    made = Wire(tmp_path_factory.mktemp("raw"))
    try:
        made.open()
        yield made
    finally:
        made.net.close()


@pytest.mark.parametrize("framing", ["SNAP", "ETHERNET", "RPL"])
def test_any_system(wire: Wire, framing: str) -> None:
    assert wire.loaded(ONE, framing=framing) == IMAGE
    assert wire.said(ONE).startswith(f"0x5200:{len(IMAGE)} 0x5204 ")
    over = "RPL" if framing == "RPL" else "MOP"
    again = 2 if framing == "RPL" else 0  # its last block is not acknowledged
    until(lambda: wire.events("file-sent", client="tide-01", over=over), "it was not told")
    sent = wire.events("file-sent", client="tide-01", over=over)[-1]
    assert (sent["path"], sent["size"]) == ("terminal-server/wwng.sys", len(IMAGE))
    assert sent["resent"] == again
    (seen, *_) = wire.events("seen", client="tide-01")
    assert (seen["firmware"], seen["asks"]) == ("MOP, DELQA or DESQA", "a system")


def test_by_name_and_by_client(wire: Wire) -> None:
    assert wire.loaded(ONE, "tideboard-1") == b"board"
    assert wire.loaded(ONE, "WWNG3.SYS") == b"found by itself"
    assert wire.loaded(TWO) == b"its own"
    assert wire.loaded(ONE, "WWNG4.SYS") == b"" and "nobody answers" in wire.said(ONE)
    (missing,) = wire.events("file-missing", client="tide-01")
    assert missing["path"] == "WWNG4.SYS" and missing["near"] == ["wwng3.sys"]
    assert wire.loaded(ONE, "../daskel.toml") == b""


def test_a_boot_block_and_a_disk(wire: Wire) -> None:
    """By RPL also for what its boot ROM calls itself; and a dissector finds no fault."""
    disk = f",0x900000:{len(FLOPPY)} 0x7c00 "
    assert wire.loaded(FOUR) == b"a boot block" + FLOPPY
    assert wire.said(FOUR).startswith(f"0x7c00:12{disk}")
    assert wire.loaded(FOUR, "TideBoard", framing="RPL") == b"another" * 300 + FLOPPY
    assert wire.said(FOUR).startswith(f"0x7c00:2100{disk}")
    read = f"tshark -r {wire.folder}/{FOUR}.got.pcap -Y"
    faults = wire.net.run("old", read, "_ws.malformed || _ws.expert")
    fields = "-T fields -e rpl.laddress -e rpl.data"
    blocks = wire.net.run("old", f"{read} rpl.type==32 {fields}").splitlines()
    placed = {int(at, 16): bytes.fromhex(data) for at, data in map(str.split, blocks)}
    whole = b"".join(data for _, data in sorted(placed.items()))
    assert (faults, whole) == ("", b"another" * 300 + FLOPPY)


def test_who_gets_none(wire: Wire) -> None:
    for process in [wire.boot(STRANGER), wire.boot(REFUSED)]:
        assert process.wait(PATIENCE)
    assert len(wire.events("waits", mac=STRANGER)) == 1, "said once, however often it asks"
    assert wire.events("refused", mac=REFUSED)[0]["why"] == "listed"
    lobby = json.loads(
        daskel("lobby", "list", "--json", "--site", wire.folder / "daskel.toml").stdout
    )
    assert STRANGER in json.dumps(lobby)


def test_two_at_once_on_a_wire_with_losses(wire: Wire) -> None:
    """And junk of the same protocols beside it."""
    running = [wire.boot(mac, loss=0.02) for mac in (ONE, TWO)]
    running.append(wire.boot(THREE, framing="RPL", loss=0.05))
    junk = Path(__file__).with_name("raw_junk.py")
    wire.net.start("old", sys.executable, junk, "eth0", JUNK, log=wire.folder / "junk.log").wait(
        PATIENCE
    )
    for process in running:
        process.wait(PATIENCE)
    assert (wire.folder / f"{ONE}.got").read_bytes() == IMAGE, wire.said(ONE)
    assert (wire.folder / f"{TWO}.got").read_bytes() == b"its own"
    assert (wire.folder / f"{THREE}.got").read_bytes() == IMAGE, wire.said(THREE)
    assert wire.events("file-sent", client="tide-01", over="MOP")[-1]["resent"] > 0
    assert wire.events("malformed", service="mop") and wire.server.poll() is None
    boots = daskel("boots", "show", "tide-01", "--site", wire.folder / "daskel.toml").stdout
    assert "MOP" in boots and "wwng.sys" in boots, boots


def test_who_says_what_it_is(wire: Wire) -> None:
    console = Path(__file__).with_name("raw_console.py")
    wire.net.start("server", sys.executable, console, "tide0", log=wire.folder / "console.log")
    wire.net.run("old", "sleep 1")
    said = wire.net.run("old", f"{PROGRAM} survey --wire eth0 --json")
    check_printed(["survey", "--json"], said)
    (found,) = json.loads(said)["consoles"]
    assert found["device"] == "DELQA or DESQA"
    assert found["functions"] == ["loop", "multi-block loader", "boot", "data link counters"]
    assert found["more"] == ["item 190h: 01", "unreadable: 04"]
    assert found["mac"] in wire.net.run("old", f"{PROGRAM} survey --wire eth0")
