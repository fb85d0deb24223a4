"""`daskel files`: listed, shown as one client gets them, added from a folder or an ISO image."""

from __future__ import annotations

import gzip
import json
from functools import partial
from io import BytesIO
from pathlib import Path

import pycdlib
import pytest

from daskel.core.dhcp.client_messages import LOADER, SYSTEM
from daskel.rehearse.fetch import BootError, get_address, tftp_get
from tests.conftest import SERVER, Serve, daskel

CONFIGURATION = "loader/02:61:08:00:00:01.cfg"


def kernel() -> bytes:
    """As much of one as its release is read from."""
    head = bytearray(0x400)
    head[0x202:0x206], head[0x20E:0x210] = b"HdrS", (0x100).to_bytes(2, "little")
    return bytes(head[:0x300]) + b"6.1.0-demo (made up)\0" + bytes(100)


def initrd() -> bytes:
    packed = b""
    for name in (b"init\0", b"TRAILER!!!\0"):
        fields = [0] * 11 + [len(name), 0]
        packed += b"070701" + b"".join(b"%08x" % field for field in fields) + name
        packed += bytes(-len(packed) % 4)
    return gzip.compress(packed)


def test_what_is_shown_is_what_is_sent(demo_folder: Path, serve: Serve) -> None:
    shown = daskel("files", "show", CONFIGURATION, "--as", "tide-01", cwd=demo_folder)
    assert shown.returncode == 0 and "from what it boots" in shown.stderr
    serving = serve(demo_folder)
    own = get_address(serving.wire, SERVER, SYSTEM, "02:61:08:00:00:01", 1).yiaddr
    get = partial(tftp_get, serving.wire, own, SERVER, face=LOADER)
    got = get(CONFIGURATION).decode().replace(f"port={serving.wire.ports.nfs},", "port=2049,")
    assert (
        got.replace(f"(http,{SERVER}:{serving.wire.ports.http})", f"(http,{SERVER})")
        == shown.stdout
    )
    loud = get("NOTEBOOK\\VMLINUZ")
    assert loud == (demo_folder / "files/notebook/vmlinuz").read_bytes()
    assert serving.wait_for("file-sent", path="notebook/vmlinuz")["kind"] == "kernel"
    with pytest.raises(BootError, match=r"no such file \(error 1\)"):
        get("notebook/vmlinux")
    missing = serving.wait_for("file-missing", path="notebook/vmlinux")
    assert missing["reason"] == "no such file" and missing["why"] == "absent"
    assert missing["near"] == ["notebook/vmlinuz"], "for the log alone"


def test_files_of_one_client_and_one_group(demo_folder: Path, serve: Serve) -> None:
    for place, text in (("clients/tide-01", "one"), ("groups/tide", "group"), ("", "all")):
        (demo_folder / "files" / place).mkdir(parents=True, exist_ok=True)
        (demo_folder / "files" / place / "splash.png").write_text(text)
    serving = serve(demo_folder)
    got = {}
    for number in (1, 2):
        mac, name = f"02:61:08:00:00:0{number}", f"tide-0{number}"
        own = get_address(serving.wire, SERVER, SYSTEM, mac, number).yiaddr
        got[name] = tftp_get(serving.wire, own, SERVER, "splash.png", face=LOADER)
        shown = daskel("files", "show", "splash.png", "--as", name, cwd=demo_folder)
        assert shown.stdout.encode() == got[name]
    assert got == {"tide-01": b"one", "tide-02": b"group"}
    other = get_address(serving.wire, SERVER, SYSTEM, "02:61:ff:00:00:01", 9).yiaddr
    get = partial(tftp_get, serving.wire, other, SERVER, face=LOADER)
    assert get("splash.png") == b"all"
    for path in (
        "clients/tide-01/splash.png",
        "CLIENTS/tide-01/splash.png",
        "groups/tide/splash.png",
    ):
        with pytest.raises(BootError, match=r"another client's or group's own \(error 2\)"):
            get(path)
    rows = json.loads(daskel("files", "list", "--json", cwd=demo_folder).stdout)
    what = {row["path"]: row["what"] for row in rows}
    assert what["clients/tide-01/splash.png"] == "file, tide-01 alone"
    (demo_folder / "files/clients/tide-1").mkdir()
    said = daskel("check", cwd=demo_folder).stdout
    assert "clients/tide-1: there is no such client" in said and "did you mean tide-1" in said


SHOWN = [
    (("notebook/VMLINUZ",), 0, '"what": "kernel", "size": 300000'),
    (("boards/02-61-0a-00-00-01/cmdline.txt", "--as", "buoy-1"), 0, '"from": "daskel.toml:89:7"'),
    (("notebook/vmlinux",), 1, "there is notebook/vmlinuz"),
    (("vmlinuz",), 1, "there is catalogue/vmlinuz, notebook/vmlinuz"),
    (("../daskel.toml",), 1, "nobody gets ../daskel.toml: a path with .."),
    (("x", "--as", "tide-1"), 2, "did you mean"),
]


@pytest.mark.parametrize(("words", "code", "said"), SHOWN)
def test_show(demo_folder: Path, words: tuple[str, ...], code: int, said: str) -> None:
    done = daskel("files", "show", *words, "--json", cwd=demo_folder)
    assert done.returncode == code and said in done.stdout + done.stderr, done


def test_list(demo_folder: Path) -> None:
    rows = json.loads(daskel("files", "list", "--json", cwd=demo_folder).stdout)
    by_path = {row["path"]: row for row in rows}
    assert by_path["notebook/vmlinuz"] == {
        "path": "notebook/vmlinuz", "size": 300000, "what": "kernel", "from": "the disk"
    }  # fmt: skip
    assert by_path["loader/{{ client.mac }}.cfg"]["what"] == "for 22 clients"
    mine = json.loads(daskel("files", "list", "--as", "buoy-1", "--json", cwd=demo_folder).stdout)
    assert "boards/02-61-0a-00-00-01/cmdline.txt" in {row["path"] for row in mine}


def test_links_that_nobody_gets(demo_folder: Path) -> None:
    (demo_folder / "files/out").symlink_to("../daskel.toml")
    (demo_folder / "files/gone").symlink_to("nothing")
    rows = json.loads(daskel("files", "list", "--json", cwd=demo_folder).stdout)
    found = {row["path"]: row["from"] for row in rows if row["what"] == "no client gets it"}
    assert found == {"out": "it leads out of the files folder", "gone": "no such file"}
    shown = daskel("files", "show", "out", cwd=demo_folder)
    assert shown.returncode == 1 and "leads out of the files folder" in shown.stderr
    assert "Skerry" not in shown.stdout


def iso(path: Path) -> None:
    image = pycdlib.PyCdlib()
    image.new(rock_ridge="1.09")
    for name, data in (("vmlinuz", kernel()), ("initrd", initrd()), ("notes", b"text")):
        image.add_fp(BytesIO(data), len(data), f"/{name.upper()}.;1", rr_name=name)
    image.write(str(path))
    image.close()


def test_add_from_an_iso_image_and_a_folder(demo_folder: Path) -> None:
    iso(demo_folder / "live.iso")
    made = daskel("files", "add", "live", "live.iso", cwd=demo_folder)
    assert made.returncode == 0, made
    assert "kernel live/vmlinuz: 6.1.0-demo" in made.stdout and "initrd live/initrd" in made.stdout
    assert "daskel loadout add live kernel=live/vmlinuz initrd=live/initrd" in made.stdout
    assert (demo_folder / "files/live/vmlinuz").read_bytes() == kernel()
    again = daskel("files", "add", "live", "files/notebook", cwd=demo_folder)
    assert again.returncode == 2 and "is there already" in again.stderr
    words = ("files", "add", "live", "files/notebook", "--replace", "--yes", "--json")
    assert json.loads(daskel(*words, cwd=demo_folder).stdout)["files"] == 2
    assert sorted(path.name for path in (demo_folder / "files/live").iterdir()) == [
        "initrd.img",
        "vmlinuz",
    ]
    (demo_folder / "bad.iso").write_bytes(b"x" * 100_000)
    bad = daskel("files", "add", "other", "bad.iso", cwd=demo_folder)
    assert bad.returncode == 1 and "Traceback" not in bad.stderr
    assert not [path for path in (demo_folder / "files").iterdir() if "other" in path.name]


def test_a_live_system_becomes_a_loadout(demo_folder: Path) -> None:
    """And stands in a menu at once; again, it is changed in place."""
    image, target = pycdlib.PyCdlib(), demo_folder / "live.iso"
    image.new(rock_ridge="1.09")
    image.add_directory("/LIVE", rr_name="live")
    for name, long, data in (("VMLINUZ", "vmlinuz", kernel()), ("INITRD", "initrd.img", initrd()),
                             ("SYSTEM", "filesystem.squashfs", b"hsqs" + bytes(100))):  # fmt: skip
        image.add_fp(BytesIO(data), len(data), f"/LIVE/{name}.;1", rr_name=long)
    image.write(str(target))
    image.close()
    done = daskel("files", "add", "live", target, "--choice", "tideroom", cwd=demo_folder)
    assert done.returncode == 0 and "It is a live system (live-boot)." in done.stdout, done
    explained = daskel("explain", "tide-01", cwd=demo_folder).stdout
    assert "menuentry live --id live" in explained
    assert "fetch=http://10.61.8.1/live/live/filesystem.squashfs" in explained
    again = daskel("files", "add", "live", target, "--replace", "--yes", "--json", cwd=demo_folder)
    told = json.loads(again.stdout)
    assert told["live"] == "a live system (live-boot)" and told["files"] == 3, again
    unknown = daskel("files", "add", "x", target, "--choice", "tiderom", cwd=demo_folder)
    assert unknown.returncode == 2 and "did you mean tideroom" in unknown.stderr, unknown
