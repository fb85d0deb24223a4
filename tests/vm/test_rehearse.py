"""`daskel rehearse --machine`: a client as a virtual machine, until it is up or stuck."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from daskel.demo.data import lay_out
from tests.conftest import PATIENCE, SiteText, until
from tests.vm import guest
from tests.vm.lab import with_machines

pytestmark = with_machines()
PROGRAM = Path(sys.executable).with_name("daskel")
HELLO = (
    "#!/bin/sh\nmount -t proc proc /proc\necho GUEST tells\n/bin/sh /etc/daskel/up.sh\nsleep 3600\n"
)


@pytest.fixture
def site(tmp_path: Path) -> Path:
    """The demo site, whose loadouts have a kernel that runs, and roots that tell they are up."""
    path = lay_out(tmp_path)
    for name in ("notebook", "catalogue"):
        shutil.copy(guest.kernel(), tmp_path / "files" / name / "vmlinuz")
        guest.write_initrd(tmp_path / "files" / name / "initrd.img")
        shutil.rmtree(tmp_path / "roots" / name)
        guest.write_root(tmp_path / "roots" / name, name, b"")
        (tmp_path / "roots" / name / "sbin/hello").write_text(HELLO)
        for applet in ("uname", "nc", "sleep", "busybox"):
            link = tmp_path / "roots" / name / "bin" / applet
            if not link.exists():
                link.symlink_to("busybox")
    for loader in (tmp_path / "files/loader").iterdir():
        loader.unlink()  # they are built anew
    text = SiteText(path.read_text()).replace(', "uefi-arm64"]', "]")
    for name in ("notebook", "catalogue"):
        text = text.replace(f"[root.{name}]\n", f"[root.{name}]\nup = true\n")
    path.write_text(text.replace('args = ["quiet", ', 'args = ["console=ttyS0,115200", '))
    return path


def begun(site: Path, *words: str) -> subprocess.Popen[str]:
    command = [str(PROGRAM), "rehearse", *words, "--machine", "--json"]
    return subprocess.Popen(
        command, cwd=site.parent, stdout=subprocess.PIPE, text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # as at a terminal
    )  # fmt: skip


def told(process: subprocess.Popen[str], name: str, folder: Path) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(process.communicate(timeout=PATIENCE)[0])
    assert (process.returncode == 0) is found["good"]
    kept = folder / f"rehearsed-{name}"
    assert (kept / f"{name}.png").read_bytes().startswith(b"\x89PNG")
    early = found["stage"] in ("addressed", "seen", "menu", "kernel", "initrd")
    assert (kept / f"{name}.console").stat().st_size or early
    return found


def wrong(found: dict[str, Any]) -> list[dict[str, Any]]:
    """The findings, but for what a machine that others use too does to a transfer."""
    return [one for one in found["findings"] if one["cause"] not in ("packets-lost", "slow")]


def test_beside_another_server_and_to_a_root_that_is_none(site: Path) -> None:
    """One with UEFI beside another DHCP server comes up; one with BIOS is stuck, and told why."""
    text = SiteText(site.read_text())
    spoilt = site.with_name("spoilt.toml")
    spoilt.write_text(
        text.replace(
            'args = ["-quiet", ', 'args = ["nfsroot=10.61.8.1:/roots/nothing,v3,tcp,nolock", '
        )
    )
    good = begun(site, "lib-01", "--firmware", "uefi-x64")
    bad = begun(site, "tide-01", "--site", str(spoilt))

    found = told(bad, "tide-01", site.parent)
    assert (found["result"], found["findings"][0]["cause"]) == ("stuck", "mount-refused"), found
    found = told(good, "lib-01", site.parent)
    assert (found["result"], found["stage"], wrong(found)) == ("up", "up", []), found
    assert found["firmware"] == "uefi-x64" and len(found["files"]) == 4
    assert "GUEST tells" in (site.parent / "rehearsed-lib-01/lib-01.console").read_text()
    left = subprocess.run(["ip", "netns"], capture_output=True, text=True, check=True).stdout
    assert f"daskel-{good.pid}-" not in left and f"daskel-{bad.pid}-" not in left


def test_until_a_text_is_on_its_screen_with_keys_typed(site: Path) -> None:
    """Somebody chooses the local disk in the menu, and the machine has no disk."""
    keys = "<see notebook><down><down><enter>"
    words = ["--until", "No bootable device", "--keys", keys]
    process = begun(site, "tide-02", *words)
    found = told(process, "tide-02", site.parent)
    assert (found["good"], found["stage"], found["findings"]) == (True, "menu", []), found
    shown = (site.parent / "rehearsed-tide-02/tide-02.screen.txt").read_text()
    assert "No bootable device" in shown
    found = told(begun(site, "tide-02", "--until", "kernel"), "tide-02", site.parent)
    assert found["good"] and found["stage"] in ("kernel", "initrd"), found


def test_one_that_stays_until_it_is_interrupted(site: Path) -> None:
    """Its root is mounted, its system up, and it goes on."""
    process = begun(site, "tide-03", "--stay")
    log = site.parent / "rehearsed-tide-03/serve.log"
    until(lambda: log.exists() and '"event": "up"' in log.read_text(), lambda: "it is not up")
    time.sleep(5)
    assert process.poll() is None
    process.send_signal(signal.SIGINT)
    found = told(process, "tide-03", site.parent)
    assert (found["good"], found["result"]) == (True, "up"), found


def test_behind_a_relay_agent(site: Path) -> None:
    """Which is left out; its server's address is in another network than its own."""
    site.write_text(SiteText(site.read_text()).replace('boot = "logger"', 'boot = "notebook"'))
    found = told(begun(site, "buoy-1", "--firmware", "bios"), "buoy-1", site.parent)
    assert (found["result"], wrong(found)) == ("up", []), found
