"""Roots that come as images, as clients and the administrator meet them."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.nbd.numbers import Command, Flag
from daskel.core.nbd.requests import Request, serialise
from daskel.rehearse.fetch import BootError, http_get
from daskel.rehearse.images import BlockDevice
from tests.cli.commands.test_rehearse import rehearse
from tests.conftest import Serve, Serving, SiteText, daskel
from tests.image_roots import add_kernel, image_root

pytestmark = [
    pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root"),
    pytest.mark.skipif(not shutil.which("mksquashfs") and "CI" not in os.environ, reason="no mksquashfs"),
]  # fmt: skip
ONE, TWO, OTHER = (IPv4Address(f"10.61.8.2{n}") for n in (1, 2, 3))
SITE = SiteText("""format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
loaders = ["bios"]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
[root.notebook]
slate = "keep"
size = "32 MiB"
delivery = "blocks"
[loadout.notebook]
root = "notebook"
[loadout.memory]
root = "notebook"
delivery = "memory"
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
boot = "memory"
slate = "fresh"
""")


@pytest.fixture
def room(tmp_path: Path) -> Path:
    (tmp_path / "files").mkdir()
    image_root(tmp_path / "roots/notebook")
    (tmp_path / "daskel.toml").write_text(SITE)
    run(tmp_path, "root", "seal", "notebook", "--yes")
    return tmp_path


def run(room: Path, *words: str) -> str:
    done = daskel(*words, "--site", room / "daskel.toml")
    assert done.returncode == 0, done
    return done.stdout


def device(serving: Serving, own: IPv4Address, name: str) -> BlockDevice:
    return BlockDevice(serving.wire, own, ("10.61.8.1", serving.wire.ports.nbd), name)


def test_sealing_makes_the_image(room: Path) -> None:
    (version,) = json.loads(run(room, "root", "show", "notebook", "--json"))["versions"]
    image = room / "roots/.versions/notebook/1.image"
    assert version["image"] == image.stat().st_size and image.read_bytes()[:4] == b"hsqs"
    first = image.read_bytes()
    run(room, "root", "pack", "notebook", "1")
    assert image.read_bytes() == first, "the same input is the same bytes"
    listing = subprocess.run(
        ["unsquashfs", "-l", image], capture_output=True, text=True, check=True
    )
    assert "etc/greeting" in listing.stdout and "boot/vmlinuz" not in listing.stdout
    run(room, "check")


def test_who_may_have_what(room: Path, serve: Serve) -> None:
    serving = serve(room)
    image = (room / "roots/.versions/notebook/1.image").read_bytes()
    opened = device(serving, ONE, "notebook@1")
    assert opened.size == len(image) and opened.read(0, 4096) == image[:4096]
    assert serving.wait_for("mounted")["how"] == "blocks, version 1"
    disk = device(serving, ONE, "notebook@1/tide-01")
    assert disk.size == 32 << 20 and disk.read(1024 + 56, 2) == b"\x53\xef", "the magic of ext4"
    place = f"http://10.61.8.1:{serving.wire.ports.http}/published/notebook/1"
    assert http_get(serving.wire, TWO, f"{place}/root.img") == image
    for own, name in (
        (TWO, "notebook@1"), (OTHER, "notebook@1"), (TWO, "notebook@1/tide-01"),
        (ONE, "notebook@1/tide-02"), (ONE, "notebook@2"), (ONE, "notebook@0"), (ONE, "../x@1"),
        (ONE, "notebook@1/../../etc"), (ONE, ""),
    ):  # fmt: skip
        with pytest.raises(BootError, match="NBD"):
            device(serving, own, name)
    for own in (ONE, OTHER):
        with pytest.raises(BootError, match="403"):
            http_get(serving.wire, own, f"{place}/root.img")
    assert http_get(serving.wire, OTHER, f"{place}/vmlinuz"), "kernels are for all"
    opened.close()


def test_what_a_client_keeps(room: Path, serve: Serve) -> None:
    """There again after kill -9; the newest connection alone has it; seen, frozen and wiped."""
    serving = serve(room)
    first = device(serving, ONE, "notebook@1/tide-01")
    write = serialise(Request(Command.WRITE, Flag.FUA, 1, 16 << 20, 5))
    first._sock.sendall(write + b"hello")
    first._take(16)
    second = device(serving, ONE, "notebook@1/tide-01")
    assert second.read(16 << 20, 5) == b"hello"
    with pytest.raises(BootError, match="closed the connection"):
        first.read(0, 512)
    done = daskel("slate", "show", "tide-01", "--site", room / "daskel.toml")
    assert done.returncode == 3 and "power it off" in done.stderr, done
    serving.stop(signal.SIGKILL)
    again = device(serve(room), ONE, "notebook@1/tide-01")
    assert again.read(16 << 20, 5) == b"hello"
    again.close()
    (row,) = json.loads(run(room, "slate", "list", "--json"))
    assert (row["client"], row["version"], row["kind"]) == ("tide-01", 1, "keep")
    run(room, "slate", "freeze", "tide-01", "--yes")
    assert (room / "slates/notebook/tide-01/frozen.disk").exists()
    run(room, "slate", "freeze", "tide-01", "--undo", "--yes")
    run(room, "slate", "wipe", "tide-01", "--yes")
    assert not (room / "slates/notebook/tide-01").exists()


def test_what_a_slate_holds(room: Path, serve: Serve) -> None:
    """Written by an overlay of Linux, as its client would."""
    serving = serve(room)
    device(serving, ONE, "notebook@1/tide-01").close()
    serving.stop()
    disk, top = room / "slates/notebook/tide-01/disk", room / "top"
    top.mkdir()
    subprocess.run(["mount", "-o", "loop", disk, top], check=True)
    try:
        (top / "data/etc").mkdir(parents=True)
        (top / "data/etc/greeting").write_text("changed")
        (top / "data/mine").write_text("new")
    finally:
        subprocess.run(["umount", top], check=True)
    shown = run(room, "slate", "show", "tide-01")
    assert "changed  etc/greeting" in shown and "added    mine" in shown and "2 paths" in shown
    run(room, "slate", "copy-out", "tide-01", "etc", str(room / "out"))
    assert (room / "out/greeting").read_text() == "changed"


def test_the_kernel_is_that_of_the_version(room: Path, serve: Serve) -> None:
    """Also when another version is used in between, and after going back."""
    serving = serve(room)
    place = f"http://10.61.8.1:{serving.wire.ports.http}/published/notebook"
    configuration = f"http://10.61.8.1:{serving.wire.ports.http}/loader/02:61:08:00:00:02.cfg"
    told = http_get(serving.wire, TWO, configuration)
    assert b"/published/notebook/1/vmlinuz" in told and b"notebook/1/daskel.img" in told
    add_kernel(room / "roots/notebook", "6.1.0-12-demo")
    run(room, "root", "seal", "notebook", "--yes", "--use")
    now = http_get(serving.wire, TWO, configuration)
    assert b"/published/notebook/2/vmlinuz" in now, "at once, by the running server"
    assert b"6.1.0-1-demo" in http_get(serving.wire, TWO, f"{place}/1/vmlinuz"), "begun before"
    assert b"6.1.0-12-demo" in http_get(serving.wire, TWO, f"{place}/2/vmlinuz")
    explained = run(room, "explain", "tide-02")
    assert "6.1.0-12-demo, the root's own" in explained
    run(room, "root", "use", "notebook", "1")
    assert b"/published/notebook/1/vmlinuz" in http_get(serving.wire, TWO, configuration)
    run(room, "root", "drop", "notebook", "2", "--yes")
    with pytest.raises(BootError, match="404"):
        http_get(serving.wire, TWO, f"{place}/2/vmlinuz")
    blobs = {path.name for path in (room / "files.published/blobs").iterdir()}
    manifest = (room / "files.published/notebook.json").read_text()
    assert all(name in manifest for name in blobs), "nothing is left of what was dropped"
    made = run(room, "root", "seal", "notebook", "--yes")
    assert "Version 3 of notebook" in made, "a number is not given twice: a client may name it"


def test_rehearsed(room: Path) -> None:
    """Also after what was published was damaged, and the image was made anew."""
    assert rehearse(room, "tide-02")["good"]
    image = room / "roots/.versions/notebook/1.image"
    (blob,) = [p for p in (room / "files.published/blobs").iterdir() if p.samefile(image)]
    with blob.open("r+b") as file:
        file.seek(100)
        file.write(b"damaged")
    (broken,) = rehearse(room, "tide-02")["clients"]
    assert broken["finding"]["cause"] == "image-digest", broken
    run(room, "root", "pack", "notebook")
    both = rehearse(room, "tide-01", "tide-02")["clients"]
    assert [(c["stage"], c["problem"]) for c in both] == [("root", None)] * 2, both


def test_what_cannot_be(room: Path) -> None:
    site = room / "daskel.toml"
    site.write_text(SITE.replace('boot = "memory"\nslate = "fresh"', 'boot = "memory"'))
    done = daskel("check", "--site", site)
    assert done.returncode == 1 and "memory is lost" in done.stdout, done
    site.write_text(SITE)
    run(room, "root", "seal", "notebook", "--yes")
    (room / "roots/.versions/notebook/2.image").unlink()
    state = room / "roots/.versions/notebook/root.json"
    kept = json.loads(state.read_text())
    kept["versions"]["2"] |= {"image": 0, "digest": ""}
    state.write_text(json.dumps(kept))
    run(room, "root", "use", "notebook", "2")
    done = daskel("check", "--site", site)
    assert done.returncode == 1 and "daskel root pack notebook" in done.stdout, done
