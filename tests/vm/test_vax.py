"""A VAX, in a simulator with its real ROM, loads a program of ours by MOP."""

from __future__ import annotations

import json
import os
import pty
import select
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import PROGRAM
from tests.wire.net import Net

CI = "CI" in os.environ  # there a missing program is a failure
pytestmark = [
    pytest.mark.machine,
    pytest.mark.timeout(900),
    pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="network namespaces need root"),
    pytest.mark.skipif(not shutil.which("vax") and not CI, reason="not installed: simh"),
]
# MOVAB text, R1; loop: MOVZBL (R1)+, R0; BEQL done; wait: MFPR #TXCS, R2; BBC #7, R2, wait;
# MTPR R0, #TXDB; BRB loop; done: BRB done; text:
CODE = bytes.fromhex("9EAF14519A8150130CDB2252E10752F9DA502311EF11FE")
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
[loadout.terminal-server]
raw = "terminal-server/any.sys"
names = { "TIDEBOARD-1" = "terminal-server/board.sys" }
[client.tide-01]
mac = "08:00:2b:61:08:31"
segment = "tideroom"
boot = "terminal-server"
[client.tide-02]
mac = "08:00:2b:61:08:32"
segment = "tideroom"
boot = "terminal-server"
"""


def program(says: str, size: int) -> bytes:
    """Prints a line on the console."""
    return (CODE + f"\r\n{says}\r\n".encode() + b"\0").ljust(size, b"\0")


class Vax:
    """One machine; what its console shows, and what is typed there."""

    def __init__(self, net: Net, name: str, folder: Path, mac: str) -> None:
        folder.mkdir()
        shutil.copy(guest.vax_rom(), folder / "ka655x.bin")
        lines = ("load -r ka655x.bin", f"set xq mac={mac}", "attach xq eth0", "boot cpu")
        (folder / "boot.ini").write_text("\n".join(lines) + "\n")
        self._console, other = pty.openpty()
        command = ["ip", "netns", "exec", net.full(name), "vax", "boot.ini"]
        self.process = subprocess.Popen(
            command, cwd=folder, stdin=other, stdout=other, stderr=other
        )
        os.close(other)
        self.text = ""

    def wait_for(self, text: str) -> None:
        while text not in self.text and self.process.poll() is None:
            if select.select([self._console], [], [], 1.0)[0]:
                self.text += os.read(self._console, 4096).decode("latin-1")
        assert text in self.text, self.text

    def type(self, line: str) -> None:
        for letter in f"{line}\r":  # its console takes no more at a time
            os.write(self._console, letter.encode())
            time.sleep(0.05)

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        os.close(self._console)


@pytest.fixture
def net(tmp_path: Path) -> Iterator[Net]:
    made = Net()
    files = tmp_path / "files/terminal-server"
    files.mkdir(parents=True)
    (files / "any.sys").write_bytes(program("THIS IS ANY SYSTEM", 5000))
    (files / "board.sys").write_bytes(program("THIS IS TIDEBOARD", 300 * 1024))
    own = tmp_path / "files/clients/tide-02/terminal-server"
    own.mkdir(parents=True)
    (own / "any.sys").write_bytes(program("THIS IS TIDE-02", 5000))
    (tmp_path / "daskel.toml").write_text(SITE)
    try:
        for name in ("server", "one", "two"):
            made.add(name)
        made.wire("tide0", "10.61.8.1/24")
        for name in ("one", "two"):
            made.plug("tide0", name, "eth0")
        made.start("server", PROGRAM, "serve", "--json", "--site", tmp_path / "daskel.toml",
                   log=tmp_path / "serve.log")  # fmt: skip
        until(lambda: '"ready"' in (tmp_path / "serve.log").read_text(), "not ready")
        yield made
    finally:
        made.close()


def test_two_at_once_and_by_name_with_losses(net: Net, tmp_path: Path) -> None:
    one = Vax(net, "one", tmp_path / "one", "08-00-2b-61-08-31")
    two = Vax(net, "two", tmp_path / "two", "08-00-2b-61-08-32")
    try:
        for vax in (one, two):
            vax.wait_for(">>>")
        for vax in (one, two):
            vax.type("boot xqa0")
        one.wait_for("THIS IS ANY SYSTEM")
        two.wait_for("THIS IS TIDE-02")
    finally:
        one.close()
        two.close()
    for rule in (
        "add table bridge loss",
        "add chain bridge loss output { type filter hook output priority 0 ; }",
        "add chain bridge loss input { type filter hook input priority 0 ; }",
        "add rule bridge loss output ether type != ip numgen random mod 100 < 2 drop",
        "add rule bridge loss input ether type != ip numgen random mod 100 < 2 drop",
    ):
        net.run("server", "nft", rule)
    again = Vax(net, "one", tmp_path / "again", "08-00-2b-61-08-31")
    try:
        again.wait_for(">>>")
        again.type("boot/100 xqa0")
        again.wait_for("Bootfile:")
        again.type("TIDEBOARD-1")
        again.wait_for("THIS IS TIDEBOARD")
    finally:
        again.close()

    def ended() -> list[dict[str, Any]]:
        """The last acknowledgement may be lost, too: then the load is given up after a while."""
        lines = (tmp_path / "serve.log").read_text().rpartition("\n")[0].splitlines()
        events = [json.loads(line) for line in lines]
        return [
            event for event in events if event.get("path") == "terminal-server/board.sys"
            and event["event"] in ("file-sent", "file-aborted")
        ]  # fmt: skip

    (load,) = until(ended)
    assert load["over"] == "MOP"
    assert load["event"] == "file-aborted" or load["resent"] > 0, "nothing was lost"
