"""`nfs = "kernel"`: what is mounted and exported for the operating system's NFS server, in a mount
namespace of the test's own, with a stand-in for the command that reads the exports again."""

from __future__ import annotations

import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.dhcp.client_messages import SYSTEM, Face
from daskel.core.dhcp.pxe import Firmware
from daskel.rehearse.fetch import get_address
from tests.conftest import SERVER, Serve, Serving, SiteText, daskel, until
from tests.service.nfs.test_slates import lay_out

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
BIOS = Face.of(Firmware.BIOS)
MACS = {name: f"02:61:08:00:00:0{name[-1]}" for name in ("tide-01", "tide-02", "tide-03")}
MORE = """
[root.shared]
[loadout.shared]
kernel = "vmlinuz"
root = "shared"
[client.tide-03]
mac = "02:61:08:00:00:03"
address = "10.61.8.23"
segment = "tideroom"
boot = "shared"
"""
INSIDE = """mount --make-rprivate / && mount -t overlay etc -o lowerdir=/etc,upperdir={0}/up,workdir={0}/wk /etc \
&& mount -t tmpfs run /run && exec sleep 1000"""
EXPORTFS = "#!/bin/sh\ncat /etc/exports.d/daskel.exports >> {}/reloads\necho == >> {}/reloads\n"


class Lab:
    def __init__(self, folder: Path, serve: Serve, holder: int) -> None:
        self.folder, self._serve, self._holder = folder, serve, holder
        self.inside = Path(f"/proc/{holder}/root")
        self.shown = self.inside / "run/daskel/exports"

    def serve(self) -> Serving:
        return self._serve(self.folder, "nsenter", "-t", str(self._holder), "-m")

    @property
    def exports(self) -> dict[str, set[str]]:
        """By path who may do what."""
        text = SiteText((self.inside / "etc/exports.d/daskel.exports").read_text())
        lines = [line.split() for line in text.splitlines() if not line.startswith("#")]
        return {path.strip('"'): {who.split(",")[0] for who in rest} for path, *rest in lines}

    def until(self, found: Callable[[], object]) -> None:
        until(found, lambda: (self.exports, self.folder))


@pytest.fixture
def lab(tmp_path: Path, serve: Serve, monkeypatch: pytest.MonkeyPatch) -> Iterator[Lab]:
    for name in ("up", "wk", "bin"):
        (tmp_path / name).mkdir()
    lay_out(tmp_path, "keep")
    (tmp_path / "roots/shared/etc").mkdir(parents=True)
    (tmp_path / "roots/shared/etc/greeting").write_text("first")
    text = SiteText((tmp_path / "daskel.toml").read_text()).replace(
        "[site]", '[site]\nnfs = "kernel"'
    )
    (tmp_path / "daskel.toml").write_text(text.replace('size = "1 MiB"\n', "") + MORE)
    program = tmp_path / "bin/exportfs"
    program.write_text(EXPORTFS.format(tmp_path, tmp_path))
    program.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}/bin:{os.environ['PATH']}")
    holder = subprocess.Popen(["unshare", "-m", "sh", "-c", INSIDE.format(tmp_path)])
    try:
        while Path(f"/proc/{holder.pid}/comm").read_text() != "sleep\n":
            assert holder.poll() is None
            time.sleep(0.02)
        yield Lab(tmp_path, serve, holder.pid)
    finally:
        holder.kill()
        holder.wait()


SLATE, SHARED = "/run/daskel/exports/slates/notebook/tide-01", "/run/daskel/exports/versions/shared"


def boots(serving: Serving, name: str, face: Face = SYSTEM) -> IPv4Address:
    return get_address(serving.wire, SERVER, face, MACS[name], 1).yiaddr


def test_views_are_shown_and_exported(lab: Lab) -> None:
    serving = lab.serve()
    assert lab.exports == {}, "nobody has an address"
    boots(serving, "tide-01")
    lab.until(lambda: lab.exports == {SLATE: {"10.61.8.21(rw"}})
    boots(serving, "tide-03")
    lab.until(lambda: lab.exports.get(f"{SHARED}/0") == {"10.61.8.23(ro"})
    view = lab.shown / "slates/notebook/tide-01"
    assert (view / "etc/hostname").read_text() == "tide-01\n"
    assert f"{SLATE} / nfs" in (view / "etc/fstab").read_text()
    (view / "mine").write_text("changed")
    assert (lab.folder / "slates/notebook/tide-01/upper/mine").read_text() == "changed"
    assert "==" in (lab.folder / "reloads").read_text()
    explained = daskel("explain", "tide-01", "--json", "--site", lab.folder / "daskel.toml").stdout
    assert f"10.61.8.1:{SLATE},v3,tcp,port=2049,nolock" in explained

    serving.stop(signal.SIGKILL)
    before = SiteText((lab.folder / "reloads").read_text())
    assert (view / "mine").read_text() == "changed", "clients go on without Daskel"
    again = lab.serve()
    assert (lab.folder / "reloads").read_text() == before, "the exports are still right"
    wiped = daskel("slate", "wipe", "tide-01", "--yes", "--site", lab.folder / "daskel.toml")
    assert wiped.returncode == 0, wiped
    lab.until(lambda: (view / "etc").exists() and not (view / "mine").exists())
    lab.until(lambda: SLATE in lab.exports)  # written when all views are shown
    (view / "mine").write_text("frozen")
    frozen = daskel("slate", "freeze", "tide-01", "--site", lab.folder / "daskel.toml")
    assert frozen.returncode == 0, frozen
    boots(again, "tide-02")
    lab.until(lambda: SLATE.replace("01", "02") in lab.exports)
    assert SLATE not in lab.exports, "until it boots"
    boots(again, "tide-01", BIOS)
    lab.until(lambda: SLATE in lab.exports and (view / "mine").exists())
    assert again.stop() == 0
    assert (view / "mine").read_text() == "frozen", "clients go on"


def test_a_version_in_use_and_fresh_slates(lab: Lab) -> None:
    text = SiteText((lab.folder / "daskel.toml").read_text())
    (lab.folder / "daskel.toml").write_text(text.replace('slate = "keep"', 'slate = "fresh"'))
    serving = lab.serve()
    for name in ("tide-01", "tide-03"):
        boots(serving, name)
    view, root = lab.shown / "slates/notebook/tide-01", lab.shown / "roots/shared"
    lab.until(lambda: (view / "etc").exists() and f"{SHARED}/0" in lab.exports)
    (view / "mine").write_text("changed")
    for words in (("seal", "shared", "--yes"), ("use", "shared", "1")):
        done = daskel("root", *words, "--site", lab.folder / "daskel.toml")
        assert done.returncode == 0, done
    assert str(root.readlink()) == f"{SHARED}/0", "until somebody boots"
    for name in ("tide-01", "tide-03"):
        boots(serving, name, BIOS)
    lab.until(lambda: str(root.readlink()) == f"{SHARED}/1")
    lab.until(lambda: (view / "etc").exists() and not (view / "mine").exists())
    stay = {f"{SHARED}/0", f"{SHARED}/1", SLATE}  # running clients stay on theirs
    lab.until(lambda: set(lab.exports) == stay)
    sealed = lab.shown / "versions/shared/1/etc/greeting"
    assert sealed.read_text() == "first"
    with pytest.raises(OSError, match="Read-only"):
        sealed.write_text("changed")


def test_without_the_operating_systems_server(lab: Lab) -> None:
    (lab.folder / "bin/exportfs").unlink()
    done = daskel("serve", "--loopback", "61000", "--site", lab.folder / "daskel.toml")
    assert done.returncode == 3 and "exportfs is not on this machine" in done.stderr
    assert "nfs-kernel-server" in done.stderr
