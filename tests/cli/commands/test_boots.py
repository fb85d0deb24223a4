"""Past boots, the live view, and diagnoses, of clients that boot against a running server."""

from __future__ import annotations

import csv
import io
import json
import subprocess
import sys
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import dpkt
import pytest

from daskel.core.dhcp.client_messages import FACES
from daskel.demo.data import lay_out
from daskel.rehearse.client import SimulatedBoot, boot
from daskel.rehearse.fetch import DIRECT, Way
from daskel.system.captures import read_frames
from tests.conftest import Serve, Serving, SiteText, daskel, until

SERVER = IPv4Address("10.61.8.1")
CAPTURES = Path(__file__).parents[2] / "core/capture"


@dataclass
class Room:
    """tide-01 and lib-03 came up, tide-02 found no kernel, nobody knows 02:61:08:00:00:63."""

    folder: Path
    serving: Serving

    @property
    def watched(self) -> str:
        return (self.folder / "watched").read_text()

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        return daskel(*words, cwd=self.folder)

    def json(self, *words: str) -> Any:
        return json.loads(self.run(*words, "--json").stdout)


@pytest.fixture(scope="module")
def room(tmp_path_factory: pytest.TempPathFactory, serve_for_all: Serve) -> Room:
    folder = tmp_path_factory.mktemp("room")
    site = lay_out(folder)
    text = SiteText(site.read_text()).replace(
        'lease = "8h"\n', 'lease = "8h"\nunknown = "lobby"\n', 1
    )
    text = text.replace("[client.tide-02]\n", '[client.tide-02]\nboot = "rescue"\n')
    site.write_text(text)
    serving = serve_for_all(folder)
    (folder / "files/rescue/vmlinuz").rename(folder / "files/rescue/vmlinuz-6.1")
    program, seen = str(Path(sys.executable).with_name("daskel")), folder / "watched"
    with seen.open("w") as lines:
        watching = subprocess.Popen([program, "watch", "--plain"], cwd=folder, stdout=lines)
    booted("tide-99", "02:61:08:00:00:63", "bios", serving)
    until(lambda: "02:61:08:00:00:63" in seen.read_text())
    booted("tide-01", "02:61:08:00:00:01", "bios", serving)
    booted("tide-02", "02:61:08:00:00:02", "bios", serving)
    way = Way(address=IPv4Address("10.61.9.23"))
    booted("lib-03", "02:61:09:00:00:03", "uefi-x64-http", serving, IPv4Address("10.61.9.1"), way)
    found = Room(folder, serving)
    until(lambda: {"root"} == {b["result"] for b in found.json("boots", "list", "lib-03")})
    until(lambda: " lib-03 " in found.watched)
    watching.terminate()
    watching.wait()
    return found


def booted(
    name: str,
    mac: str,
    face: str,
    serving: Serving,
    server: IPv4Address = SERVER,
    way: Way = DIRECT,
) -> SimulatedBoot:
    return boot(serving.wire, server, name, mac, FACES[face], lambda _: None, way)


def test_list(room: Room) -> None:
    rows = {row["client"] or row["mac"]: row for row in room.json("boots", "list")}
    told = {name: (row["result"], row["stage"], row["loadout"]) for name, row in rows.items()}
    assert told.pop("tide-02")[0] in ("under way", "stuck")
    assert told == {
        "tide-01": ("root", "root", "notebook"),
        "lib-03": ("root", "root", "catalogue"),
        "02:61:08:00:00:63": ("lobby", "lobby", None),
    }
    sizes = [(room.folder / "files" / path).stat().st_size for path in (
        "loader/bios.img", "notebook/vmlinuz", "notebook/initrd.img")]  # fmt: skip
    assert sum(sizes) < rows["tide-01"]["bytes"] < sum(sizes) + 2000
    text = room.run("boots", "list").stdout
    assert all(name in text for name in rows)


@pytest.mark.parametrize(
    ("words", "names"),
    [
        (["tide-01"], {"tide-01"}),
        (["lib"], {"lib-03"}),
        (["--result", "root"], {"tide-01", "lib-03"}),
        (["--day", "today", "tide"], {"tide-01", "tide-02"}),
        (["--day", "2026-01-01"], set()),
        (["--result", "under-way", "lib"], set()),
        (["--most", "1"], {"lib-03"}),
        (["02-61-08-00-00-63"], {""}),
    ],
)
def test_filters(room: Room, words: list[str], names: set[str]) -> None:
    rows = list(csv.DictReader(io.StringIO(room.run("boots", "list", *words, "--csv").stdout)))
    assert {row["client"] for row in rows} == names


def test_show(room: Room) -> None:
    text = room.run("boots", "show", "tide-01").stdout
    assert "handed out notebook (of 3 that it can choose): root=/dev/nfs" in text
    whole = room.json("boots", "show", "tide-01")
    assert [f["path"] for f in whole["files"]] == [
        "loader/bios.img", "loader/02:61:08:00:00:01.cfg", "notebook/vmlinuz", "notebook/initrd.img",
    ]  # fmt: skip
    assert whole["result"] == "root" and next(iter(whole["durations"])) == "seen"
    assert room.run("boots", "show", str(whole["number"])).stdout == text


@pytest.mark.parametrize(
    ("more", "head"), [(["one.png"], b"\x89PNG"), (["two.svg", "--against", "today"], b"<?xml")]
)
def test_plot(room: Room, more: list[str], head: bytes) -> None:
    done = room.run("boots", "plot", *more)
    assert done.returncode == 0, done.stderr
    assert (room.folder / more[0]).read_bytes().startswith(head)


def test_diagnose(room: Room) -> None:
    """The file that is not there, and the one that is meant; a machine that is nobody's; a client
    that was never seen; one that is well."""
    found = room.json("diagnose", "tide-02")[0]
    assert found["findings"][0]["cause"] == "file-missing"
    text = room.run("diagnose", "tide-02")
    assert text.returncode == 1 and "rescue/vmlinuz-6.1" in text.stdout, text.stdout
    assert "daskel lobby admit" in room.run("diagnose", "02:61:08:00:00:63").stdout
    assert room.json("diagnose", "tide-03")[0]["findings"][0]["cause"] == "not-seen"
    well = room.run("diagnose", "tide-01")
    assert well.returncode == 0 and "it mounted its root" in well.stdout


def test_watch_plain(room: Room) -> None:
    """A line for each change, in words."""
    watched = room.watched.splitlines()
    lines = [line for line in watched if " tide-02 " in line]
    assert any("menu" in line and "rescue/vmlinuz" in line for line in lines), watched
    assert any(" tide-01 " in line and " root" in line for line in watched), watched
    assert any("02:61:08:00:00:63" in line and "lobby" in line for line in watched)


def test_status(room: Room) -> None:
    told = room.json("status")
    assert told["by_client"] == {"tide-01": "root", "tide-02": "menu", "lib-03": "root"}
    assert told["results"].pop("root") == 2 and told["transfers"] == 0
    assert told["results"] in ({"under way": 1}, {"stuck": 1})  # 20 s later, it is stuck


@pytest.mark.parametrize(
    ("words", "code", "text"),
    [
        (["boots", "list", "tide-1"], 2, "did you mean"),
        (["boots", "list", "--day", "monday"], 2, "is not a day"),
        (["boots", "plot", "x.txt"], 2, "is not a .png or .svg file"),
        (["boots", "plot", "no/where.png"], 3, "cannot write"),
        (["boots", "show", "tide-03"], 1, "no boot of tide-03"),
        (["boots", "show", "99"], 1, "no boot of 99"),
        (["diagnose"], 2, "which client?"),
        (["diagnose", "tide"], 2, "is a group"),
        (["diagnose", "--capture", "daskel.toml"], 2, "is not a capture"),
        (["diagnose", "--capture", "nothing.pcap"], 3, "No such file"),
        (["watch", "tide-1"], 2, "no client"),
    ],
)
def test_wrong_use(room: Room, words: list[str], code: int, text: str) -> None:
    done = room.run(*words)
    assert (done.returncode, text in done.stderr) == (code, True), (done.stdout, done.stderr)


def test_a_damaged_capture_tells_what_comes_before_the_damage(room: Room, tmp_path: Path) -> None:
    whole = io.BytesIO()
    writer = dpkt.pcapng.Writer(whole)
    for at, frame in read_frames(CAPTURES / "good/bios.pcap"):
        writer.writepkt(frame, ts=at)
    damaged = tmp_path / "monday.pcapng"
    damaged.write_bytes(whole.getvalue()[:60_010])
    done = room.run("diagnose", "--capture", str(damaged))
    assert "is damaged after packet" in done.stderr and "came to kernel" in done.stdout
    wireless = bytearray((CAPTURES / "good/bios.pcap").read_bytes())
    wireless[20] = 105
    damaged.write_bytes(wireless)
    done = room.run("diagnose", "--capture", str(damaged))
    assert done.returncode == 2 and "its link type is 105" in done.stderr


def test_what_came_before_a_restart_goes_on(room: Room) -> None:
    """The next server knows the boot of a client that only renews its lease."""
    assert room.json("boots", "show", "tide-01")["stage"] == "root"
    room.serving.stop()
    done = room.run("watch", "--plain")
    assert done.returncode == 3 and "no server runs" in done.stderr
