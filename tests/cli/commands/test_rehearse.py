"""Simulated clients against the site as it is on disk: what comes up, and the first thing that is
wrong; nothing of the site is changed."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
from hashlib import sha256
from pathlib import Path
from typing import Any

import pytest

from daskel.demo.data import lay_out
from tests.conftest import PATIENCE, SiteText, daskel, until


def rehearse(folder: Path, *words: str) -> dict[str, Any]:
    done = daskel("rehearse", *words, "--json", cwd=folder)
    assert done.stdout, done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    assert (done.returncode == 0) is found["good"], done.stdout
    return found


def contents(folder: Path) -> dict[str, bytes]:
    files = (path for path in folder.rglob("*") if path.is_file())
    return {str(path): sha256(path.read_bytes()).digest() for path in files}


def test_all_clients_come_up_and_nothing_of_the_site_changes(demo_folder: Path) -> None:
    before = contents(demo_folder)
    found = rehearse(demo_folder)
    assert len(found["clients"]) == 22
    kernel = demo_folder / "files/notebook/vmlinuz"
    for client in found["clients"]:
        assert (client["stage"], client["problem"]) == ("root", None), client
        assert {f["what"] for f in client["files"]} == {
            "loader", "configuration", "kernel", "initrd", "root",
        }  # fmt: skip
    first = {f["path"]: f for f in found["clients"][0]["files"]}
    assert first["notebook/vmlinuz"]["sha256"] == sha256(kernel.read_bytes()).hexdigest()
    assert "sbin/init" in first
    assert contents(demo_folder) == before


@pytest.mark.parametrize(
    ("who", "firmware", "stage", "words"),
    [
        ("tide-01", "uefi-x64", "root", ""),
        ("tide-01", "uefi-x64-http", "root", ""),
        ("tide-01", "uefi-x86", "local disk", "no boot file"),
        ("lib-01", "uefi-x64", "root", ""),
        ("lib-01", "uefi-x64-http", "root", ""),
        ("buoy-1", "board", "root", ""),
        ("buoy-1", "uboot", "root", ""),
        ("tide-01", "board", "root", ""),
    ],
)
def test_each_kind_of_firmware(
    demo_folder: Path, who: str, firmware: str, stage: str, words: str
) -> None:
    (client,) = rehearse(demo_folder, who, "--firmware", firmware)["clients"]
    assert client["stage"] == stage, client
    assert words in (client["problem"] or "")


def edit(folder: Path, old: str, new: str) -> None:
    site = folder / "daskel.toml"
    assert old in site.read_text()
    site.write_text(SiteText(site.read_text()).replace(old, new, 1))


def renamed_root(folder: Path) -> None:
    edit(folder, 'args = ["-quiet", "console=ttyS0,115200"]', 'args = ["nfsroot=/roots/nothing"]')


def no_init(folder: Path) -> None:
    (folder / "roots/notebook/sbin/init").unlink()
    (folder / "roots/notebook/usr/bin/sh").unlink()


def linked(folder: Path) -> None:
    """A real program as init, and none of its libraries."""
    shutil.copy("/bin/sh", folder / "roots/notebook/sbin/init")


def refused(folder: Path) -> None:
    edit(folder, 'lease = "8h"\n', 'lease = "8h"\nrefuse = ["02:61:08:00:00:01"]\n')


@pytest.mark.parametrize(
    ("spoil", "stage", "problem", "cause"),
    [
        (renamed_root, "running kernel", "mount 10.61.8.1:/roots/nothing", "mount-refused"),
        (no_init, "running kernel", "the root has none of /sbin/init, /etc/init", None),
        (linked, "running kernel", "/sbin/init of the root is", None),
        (refused, "nothing", "no answer to DHCP DISCOVER", "refused"),
    ],
)
def test_the_first_thing_that_is_wrong(
    demo_folder: Path, spoil: Any, stage: str, problem: str, cause: str | None
) -> None:
    spoil(demo_folder)
    (client,) = rehearse(demo_folder, "tide-01")["clients"]
    assert client["stage"] == stage and client["problem"].startswith(problem), client
    if cause:
        assert client["finding"]["cause"] == cause
    text = daskel("rehearse", "tide-01", cwd=demo_folder)
    assert text.returncode == 1 and problem in text.stdout
    assert "0 of 1 client would come up." in text.stdout


def test_init_and_its_libraries_are_read(demo_folder: Path) -> None:
    root = demo_folder / "roots/notebook"
    needed = subprocess.run(["ldd", "/bin/sh"], capture_output=True, text=True, check=True).stdout
    paths = [word for word in needed.split() if word.startswith("/")]
    for path in ["/bin/sh", *paths]:
        target = root / ("sbin/init" if path == "/bin/sh" else path.lstrip("/"))
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, target)
    (client,) = rehearse(demo_folder, "tide-01")["clients"]
    read = {Path(f["path"]).name for f in client["files"] if f["what"] == "root"}
    assert read == {"init", *(Path(path).name for path in paths)}, client


def test_a_client_that_tells_when_it_is_up(demo_folder: Path) -> None:
    edit(demo_folder, "[root.notebook]\n", "[root.notebook]\nup = true\n")
    (client,) = rehearse(demo_folder, "tide-01", "--keep", "kept")["clients"]
    assert client["stage"] == "up", client
    log = [json.loads(line) for line in (demo_folder / "kept/serve.log").read_text().splitlines()]
    (told,) = (event for event in log if event["event"] == "up")
    assert told["arguments"] == client["command_line"]


OLD = """
[loadout.old-disk]
raw = "old/boot.bin"
load = 0x7c00
parts = { "old/floppy.img" = 0x100000 }
[client.board-1]
mac = "02:61:08:00:00:31"
segment = "tideroom"
boot = "old-disk"
"""


def test_machines_that_ask_in_raw_frames(demo_folder: Path) -> None:
    edit(demo_folder, 'lease = "8h"\n', 'lease = "8h"\nraw = true\n')
    site = demo_folder / "daskel.toml"
    site.write_text(site.read_text() + OLD)
    files = {"old/boot.bin": b"boot" * 128, "old/floppy.img": bytes(range(256)) * 5760}
    (demo_folder / "files/old").mkdir()
    for path, data in files.items():
        (demo_folder / "files" / path).write_bytes(data)
    for kind in ("mop", "rpl"):
        (client,) = rehearse(demo_folder, "board-1", "--firmware", kind)["clients"]
        assert (client["stage"], client["firmware"], client["problem"]) == ("loaded", kind, None)
        got = {file["path"]: file["sha256"] for file in client["files"]}
        assert got == {path: sha256(data).hexdigest() for path, data in files.items()}
    (client,) = rehearse(demo_folder, "tide-01", "--firmware", "mop")["clients"]
    assert client["problem"].startswith("nobody answers") and client["finding"], client
    for old, new, words in (
        ("0x100000", "0x7d00", "old/floppy.img of loadout old-disk is loaded over old/boot.bin"),
        ("0x7d00", "0xffff0000", "ends behind 0xffffffff"),
        ("old/floppy.img", "../daskel.toml", "old-disk cannot be read: it leads out of the files"),
        ("../daskel.toml", "old/floppy.img", "ends behind"),
        ("floppy.img", "flopy.img", "flopy.img of loadout old-disk cannot be read: no such file"),
    ):
        edit(demo_folder, old, new)
        done = daskel("check", cwd=demo_folder)
        assert done.returncode == 1 and words in " ".join(done.stdout.split()), done.stdout


def test_a_storm_of_three_hundred(tmp_path: Path) -> None:
    """All come up, however busy the machine is; what they wait for each is bench/dhcp.py's."""
    lay_out(tmp_path)
    for path in (tmp_path / "files").glob("*/*"):
        if path.parent.name != "loader":
            path.write_bytes(path.read_bytes()[:30_000])
    picture = tmp_path / "storm.png"
    found = rehearse(tmp_path, "--storm", "300", "--within", "10s", "--plot", str(picture))
    assert (found["clients"], found["up"], found["failed"]) == (300, 300, [])
    assert found["limit"] and found["stages"]["root"]["longest"] <= found["seconds"]
    assert picture.read_bytes().startswith(b"\x89PNG")


@pytest.mark.parametrize(
    ("number", "code"), [(signal.SIGHUP, 128 + signal.SIGHUP), (signal.SIGKILL, -signal.SIGKILL)]
)
def test_nothing_goes_on_when_it_is_ended(demo_folder: Path, number: int, code: int) -> None:
    kept = demo_folder / "kept"
    words = ["rehearse", "--storm", "100", "--within", "300s", "--keep", kept]
    program = Path(sys.executable).with_name("daskel")
    log = kept / "serve.log"
    with subprocess.Popen([program, *words], cwd=demo_folder) as process:
        until(lambda: log.exists() and '"mounted"' in log.read_text())
        begun = _begun_by(process.pid)
        assert len(begun) >= 3, "a server, and simulated clients"
        process.send_signal(number)
        assert process.wait(PATIENCE) == code
    until(lambda: not any(map(_runs, begun)), begun)


def _begun_by(parent: int) -> list[str]:
    tasks = Path(f"/proc/{parent}/task").glob("*/children")
    return " ".join(path.read_text() for path in tasks).split()


def _runs(process: str) -> bool:
    try:
        return bool(Path(f"/proc/{process}/cmdline").read_bytes())  # nothing when it has ended
    except OSError:
        return False


@pytest.mark.parametrize(
    ("words", "code", "text"),
    [
        (["tide-1"], 2, "did you mean tide-"),
        (["tide", "--plot", "x.txt"], 2, "is not a .png or .svg file"),
        (["tide", "--within", "5s"], 2, "go with --storm"),
        (["tide", "--machine"], 2, "one client"),
        (["tide", "--keep", "daskel.toml"], 3, "cannot be made"),
        (["tide", "--storm", "0"], 2, "from 1 to 5000"),
        (["lib-01", "--firmware", "board"], 2, "reads text files"),
        (["tide-01", "--machine", "--firmware", "board"], 2, "cannot be a virtual machine"),
    ],
)
def test_wrong_use(demo_folder: Path, words: list[str], code: int, text: str) -> None:
    if words[0] == "lib-01":
        table = demo_folder.joinpath("daskel.toml").read_text().split('[file."boards')[1]
        edit(demo_folder, '[file."boards' + table.partition("# ---")[0], "")
    done = daskel("rehearse", *words, cwd=demo_folder)
    assert done.returncode == code and text in done.stderr, (done.stdout, done.stderr)
