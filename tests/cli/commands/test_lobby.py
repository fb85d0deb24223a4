"""The lobby by command: listed, admitted by pattern into a running server, refused, forgotten."""

from __future__ import annotations

import json
import socket
import time
from pathlib import Path
from typing import Any

import pytest

from daskel.core.dhcp.client_messages import LOADER, Face, discover
from daskel.core.dhcp.packet import serialise
from daskel.core.dhcp.pxe import Firmware
from daskel.rehearse.fetch import get_address, tftp_get
from tests.cli.test_editing import site_of
from tests.conftest import SERVER, Serve, Serving, SiteText, daskel, until

MACS = [f"02:61:ff:00:00:{number:02x}" for number in (1, 2, 3)]


@pytest.fixture
def waiting(serve: Serve, demo_folder: Path) -> Serving:
    """A server with three strangers in its lobby."""
    site = demo_folder / "daskel.toml"
    site.write_text(
        SiteText(site.read_text()).replace('lease = "8h"', 'lease = "8h"\nunknown = "lobby"', 1)
    )
    serving = serve(demo_folder)
    for number, mac in enumerate(MACS):
        get_address(serving.wire, SERVER, Face.of(Firmware.BIOS), mac, number + 1)
        time.sleep(0.01)
    until(lambda: len(listed(demo_folder)) == 3)
    return serving


def listed(folder: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(daskel("lobby", "list", "--json", cwd=folder).stdout)
    return found


def test_admitted_into_the_running_server(waiting: Serving) -> None:
    folder = waiting.folder
    assert {s["mac"] for s in listed(folder)} == set(MACS)
    assert {(s["firmware"], s["segment"], s["times"]) for s in listed(folder)} == {
        ("x86 BIOS", "tideroom", 1)
    }
    own = get_address(waiting.wire, SERVER, Face.of(Firmware.BIOS), MACS[0], 7).yiaddr
    screen = tftp_get(waiting.wire, own, SERVER, f"loader/{MACS[0]}.cfg", LOADER)
    assert b"is not known here yet" in screen and waiting.wait_for("waits")["mac"] == MACS[0]

    before = SiteText((folder / "daskel.toml").read_text())
    words = [
        "lobby",
        "admit",
        "all",
        "--name",
        "tide-{:02}",
        "--group",
        "tide",
        "--address",
        "next",
    ]
    assert daskel(*words, "--dry-run", cwd=folder).returncode == 0
    assert (folder / "daskel.toml").read_text() == before
    done = daskel(*words, cwd=folder)
    assert done.returncode == 0 and "The running server has it." in done.stdout, done.stdout
    clients = site_of(folder)["client"]
    assert [
        (n, clients[n]["mac"], clients[n]["address"]) for n in ("tide-13", "tide-14", "tide-15")
    ] == [
        ("tide-13", MACS[0], "10.61.8.30"),
        ("tide-14", MACS[1], "10.61.8.31"),
        ("tide-15", MACS[2], "10.61.8.32"),
    ]
    told = tftp_get(waiting.wire, own, SERVER, f"loader/{MACS[0]}.admitted", LOADER)
    assert told == b"set admitted=yes\n"
    config = tftp_get(waiting.wire, own, SERVER, f"loader/{MACS[0]}.cfg", LOADER)
    assert b"hostname=tide-13" in config
    assert (
        listed(folder) == [] and "No machine waits." in daskel("lobby", "list", cwd=folder).stdout
    )
    assert not waiting.events("file-missing")


def test_refused_and_forgotten(waiting: Serving) -> None:
    folder = waiting.folder
    done = daskel("lobby", "refuse", MACS[1], cwd=folder)
    assert done.returncode == 0 and "The running server has it." in done.stdout
    assert site_of(folder)["segment"]["tideroom"]["refuse"] == [MACS[1]]
    assert daskel("lobby", "forget", MACS[2], cwd=folder).returncode == 0
    until(lambda: [s["mac"] for s in listed(folder)] == [MACS[0]])
    asked = serialise(discover(Face.of(Firmware.BIOS), MACS[1], 9))[0]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.sendto(asked, (waiting.address(), waiting.wire.ports.dhcp))
    assert "daskel.toml" in waiting.wait_for("refused")["reason"]


WRONG = [
    (["admit", "02:61:ff:00:00:77", "--name", "x"], "does not wait"),
    (["admit", "all", "--name", "x"], "need a pattern"),
    (["admit", "all", "--name", "x{:zz}"], "is no pattern"),
    (["admit", "all", "--name", "tide-{:02}", "--address", "10.61.8.9"], "--address next"),
    (["admit", MACS[0], "--name", "tide-01", "--group", "tide"], "is there already"),
    (["admit", MACS[0], "--name", "x", "--group", "tyde"], "did you mean tide?"),
    (["admit", "nonsense", "--name", "x"], "is not a MAC address"),
]


def test_wrong_use(waiting: Serving) -> None:
    before = SiteText((waiting.folder / "daskel.toml").read_text())
    for words, said in WRONG:
        done = daskel("lobby", *words, cwd=waiting.folder)
        assert done.returncode == 2 and said in done.stdout + done.stderr, words
        assert "Traceback" not in done.stderr
    assert (waiting.folder / "daskel.toml").read_text() == before
