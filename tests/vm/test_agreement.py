"""A simulated boot and the same client as a virtual machine come to the same verdict: for systems
that were built, imported, or put together by hand, and for five that are spoilt."""

from __future__ import annotations

import asyncio
import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pycdlib
import pytest
from qemu.qmp import QMPClient

from tests.conftest import PATIENCE, until
from tests.vm import guest
from tests.vm.lab import with_machines

pytestmark = with_machines(seconds=3600)
PROGRAM = Path(sys.executable).with_name("daskel")
HEAD = """format = 1
[site]
name = "Skerry Point"
roots = "roots"
state = "state.db"
loaders = ["bios"]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
router = "10.61.8.254"
name-servers = ["10.61.8.253"]
args = ["console=ttyS0,115200"]
[group.tide]
segment = "tideroom"
firmware = "bios"
"""
HELLO = "#!/bin/sh\nmount -t proc proc /proc\necho GUEST runs\nsleep 3600\n"
OTHER_RELEASE = b"6.1.0-49-cloud-amd64"
SHOWS = ["--package", "xterm", "--program", "xterm -fs 40"]
GOOD = ["built", "thin", "live", "busybox"]
SPOILT = {  # and the cause that each machine shows
    "no-modules": "kernel-silent",
    "other-processor": "init-fails",
    "no-interpreter": "init-fails",
    "wrong-path": "mount-refused",
    "no-driver": "kernel-silent",
}


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A client for each system, named like it."""
    folder = tmp_path_factory.mktemp("agreement")
    path, text = folder / "daskel.toml", HEAD
    names = [*GOOD, *SPOILT]
    for number, name in enumerate(names, 1):
        text += f'[client.{name}]\nmac = "02:61:08:00:00:{number:02}"\ngroup = "tide"\n'
        text += f'boot = "{name}"\n'
        if name == "wrong-path":
            text += 'args = ["nfsroot=10.61.8.1:/roots/nothing,v3,tcp,port=2049,nolock"]\n'
        text += f'[loadout.{name}]\nkernel = "{name}/vmlinuz"\ninitrd = ["{name}/initrd.img"]\n'
        text += f'root = "{name}"\n[root.{name}]\n'
        text += 'slate = "fresh"\n' if name in ("built", "thin") else ""
    path.write_text(text)
    (folder / "roots").mkdir()
    subprocess.run(["cp", "-al", guest.debian(), folder / "roots/built"], check=True)
    _live(guest.debian(), folder / "live.iso")
    _daskel(path, "root", "import", "live", str(folder / "live.iso"), "--yes")
    _daskel(path, "root", "build", "thin", "--list", "thin-client", *SHOWS, "--yes")
    for name in ("built", "thin", "live"):
        _daskel(path, "root", "files", name)
    for name in ("busybox", *SPOILT):
        _small(folder, name)
    return path


def _small(folder: Path, name: str) -> None:
    """A system that is little more than busybox, whole or spoilt."""
    root, files = folder / "roots" / name, folder / "files" / name
    processor = "arm64" if name == "other-processor" else "amd64"
    guest.write_root(root, name, b"", processor)
    (root / "sbin/hello").write_text(HELLO)
    (root / "sbin/init").symlink_to("hello")
    (root / "bin/sleep").symlink_to("busybox")
    if name == "no-interpreter":
        shutil.copy("/bin/dash", root / "sbin/hello")
    files.mkdir(parents=True)
    shutil.copy(guest.kernel(), files / "vmlinuz")
    there = next(guest.CACHE.glob("lib/modules/*"))
    (root / "lib/modules" / there.name).mkdir(parents=True)
    shutil.copy(there / "modules.builtin", root / "lib/modules" / there.name)
    without = "virtio_net" if name == "no-driver" else ""
    release = OTHER_RELEASE if name == "no-modules" else b""
    guest.write_initrd(files / "initrd.img", without=without, release=release)


def _live(tree: Path, target: Path) -> None:
    """An ISO image of a live system: its root is a squashfs in a folder of its own."""
    packed = target.with_suffix(".squashfs")
    words = [
        "mksquashfs",
        tree,
        packed,
        "-quiet",
        "-no-progress",
        "-comp",
        "zstd",
        "-Xcompression-level",
        "1",
    ]
    subprocess.run(words, check=True, capture_output=True)
    iso = pycdlib.PyCdlib()
    iso.new(rock_ridge="1.09", interchange_level=3)
    iso.add_directory("/LIVE", rr_name="live")
    iso.add_file(str(packed), "/LIVE/FS.SQU;1", rr_name="filesystem.squashfs")
    iso.write(str(target))
    iso.close()


def _daskel(site: Path, *words: str) -> None:
    done = subprocess.run(
        [PROGRAM, *words, "--site", site], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, (words, done.stdout, done.stderr)


@pytest.fixture(scope="module")
def simulated(site: Path) -> dict[str, dict[str, Any]]:
    done = subprocess.run(
        [PROGRAM, "rehearse", "--json", "--site", site], cwd=site.parent, capture_output=True,
        text=True, timeout=PATIENCE, check=False,
    )  # fmt: skip
    told = json.loads(done.stdout)
    return {client["client"]: client for client in told["clients"]}


def machines(site: Path, names: list[str]) -> dict[str, dict[str, Any]]:
    """At once: some only wait."""
    running = {
        name: subprocess.Popen(
            [PROGRAM, "rehearse", name, "--machine", "--json", "--site", site],
            cwd=site.parent, stdout=subprocess.PIPE, text=True,
        )
        for name in names
    }  # fmt: skip
    return {
        name: json.loads(process.communicate(timeout=PATIENCE)[0])
        for name, process in running.items()
    }


def test_systems_that_boot(site: Path, simulated: dict[str, dict[str, Any]]) -> None:
    for name, found in machines(site, GOOD).items():
        told = simulated[name]
        assert told["good"] and found["good"], (told["problem"], found["findings"])
        assert told["stage"] == found["stage"] == "root", (name, told, found)


def test_systems_that_do_not(site: Path, simulated: dict[str, dict[str, Any]]) -> None:
    for name, found in machines(site, list(SPOILT)).items():
        told = simulated[name]
        assert not told["good"] and not found["good"], (name, told, found["findings"])
        assert found["findings"][0]["cause"] == SPOILT[name], found["findings"]


def test_somebody_logs_in(site: Path) -> None:
    """To the list for a text terminal: on the machine's own screen and keyboard."""
    keys = f"<see built login:>{guest.USER}<enter><see Password:>{guest.PASSWORD}<enter>"
    keys += "<see built:>date +%Z%:z; locale | head -1<enter>"
    words = [
        "rehearse",
        "built",
        "--machine",
        "--json",
        "--keys",
        keys,
        "--until",
        "LANG=en_GB.UTF-8",
    ]
    done = subprocess.run(
        [PROGRAM, *words, "--site", site], cwd=site.parent, capture_output=True, text=True,
        timeout=PATIENCE, check=False,
    )  # fmt: skip
    told = json.loads(done.stdout)
    screen = next(Path(path) for path in told["kept"] if path.endswith("screen.txt")).read_text()
    assert told["good"] and f"{guest.USER}@built" in screen, screen
    assert "WET+00:00" in screen or "WEST+01:00" in screen, screen


@pytest.mark.extended
def test_the_screen_shows_its_program(site: Path, tmp_path: Path) -> None:
    """The list for a screen: a window as large as the screen, of an account without rights; when
    its program ends, it is begun again."""
    words = ["rehearse", "thin", "--machine", "--stay", "--keep", tmp_path / "kept"]
    process = subprocess.Popen(
        [PROGRAM, *words, "--site", site], cwd=site.parent, stdout=subprocess.DEVNULL,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # as at a terminal
    )  # fmt: skip
    monitor, picture = tmp_path / "kept/thin.monitor", tmp_path / "screen.ppm"
    try:
        until(monitor.exists)
        until(lambda: brightness(monitor, picture) > 0.9, pause=2)  # a terminal, black on white
        for key in "exit\n":
            ask(monitor, "send-key", keys=[{"type": "qcode", "data": {"\n": "ret"}.get(key, key)}])
            time.sleep(0.3)
        until(lambda: brightness(monitor, picture) < 0.9, pause=0.05)
        until(lambda: brightness(monitor, picture) > 0.9, pause=1)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(PATIENCE)


def ask(monitor: Path, command: str, **arguments: Any) -> None:
    async def asked() -> None:
        client = QMPClient()
        await client.connect(str(monitor))
        await client.execute(command, arguments)
        await client.disconnect()

    asyncio.run(asked())


def brightness(monitor: Path, picture: Path) -> float:
    """Of the machine's screen, from 0 to 1."""
    ask(monitor, "screendump", filename=str(picture))
    return sum(sample := picture.read_bytes()[64::997]) / 255 / len(sample)
