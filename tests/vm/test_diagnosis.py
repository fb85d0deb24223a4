"""What can go wrong, done to real firmware and real kernels: why a boot came no further is named
rightly by the running server's events, and again from the packets that it recorded."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import Lab, Machine, diagnosed, with_machines

pytestmark = with_machines()
SITE = """format = 1
[site]
name = "Skerry Point"
roots = "roots"
slates = "slates"
state = "state.db"
loaders = ["bios"]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
router = "10.61.8.254"
name-servers = ["10.61.8.253"]
args = ["console=ttyS0,115200", "hostname={{ client.name }}"]
[root.notebook]
[root.small]
slate = "keep"
size = "1 MiB"
up = true
[loadout.notebook]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img"]
root = "notebook"
[loadout.renamed]
kernel = "renamed/vmlinuz"
[loadout.small]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img"]
root = "small"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
boot = "renamed"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
address = "10.61.8.22"
[client.tide-03]
mac = "02:61:08:00:00:03"
group = "tide"
[client.tide-04]
mac = "02:61:08:00:00:04"
group = "tide"
[client.tide-05]
mac = "02:61:08:00:00:05"
group = "tide"
args = ["nfsroot=10.61.8.1:/roots/nothing,v3,tcp,nolock"]
[client.tide-06]
mac = "02:61:08:00:00:06"
group = "tide"
boot = "small"
"""
HELLO = """#!/bin/sh
mount -t proc proc /proc
mount -o remount,rw /
/bin/sh /etc/daskel/up.sh && echo "GUEST told"
dd if=/dev/zero of=/large bs=256k count=16 conv=fsync 2>&1 | tail -1
echo "GUEST wrote $(wc -c </large)"
sleep 3600
"""
WRONG = {  # client: what was done to it, the cause by the events, and by the capture
    "tide-01": ("its kernel was renamed", "file-missing", "file-missing"),
    "tide-02": ("the server's firewall drops TFTP", "boot-file-not-asked", "tftp-blocked"),
    "tide-03": ("another server answers it sooner", "other-server", "other-server"),
    "tide-04": ("its initrd has no driver for its card", "kernel-silent", "kernel-silent"),
    "tide-05": ("its root is none", "mount-refused", "mount-refused"),
    "tide-06": ("its slate is full", "slate-full", "slate-full"),
}
PROGRAM = Path(sys.executable).with_name("daskel")


MACHINES: dict[str, Machine] = {}


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = tmp_path_factory.mktemp("wrong")
    (folder / "daskel.toml").write_text(SITE)
    for name in ("notebook", "renamed"):
        (folder / "files" / name).mkdir(parents=True)
        shutil.copy(guest.kernel(), folder / "files" / name / "vmlinuz")
    guest.write_initrd(folder / "files/notebook/initrd.img")
    for root in ("notebook", "small"):
        guest.write_root(folder / "roots" / root, root, b"")
    hello = folder / "roots/small/sbin/hello"
    hello.write_text(HELLO)
    for applet in ("dd", "tail", "uname", "nc", "sleep", "busybox"):
        if not (folder / "roots/small/bin" / applet).exists():
            (folder / "roots/small/bin" / applet).symlink_to("busybox")
    found = Lab(folder)
    try:
        found.open()
        found.other_server("10.61.8.200", "PXEClient", "02:61:08:00:00:03")
        found.block("10.61.8.22", "udp", 69)
        found.serve(folder / "daskel.toml", "--record", str(folder / "packets"))
        kernel = folder / "files/renamed/vmlinuz"
        kernel.rename(kernel.with_name("vmlinuz-6.1"))
        for name in reversed(WRONG):
            card = "e1000" if name == "tide-04" else "virtio-net-pci"
            MACHINES[name] = found.boot(name, f"02:61:08:00:00:{name[-2:]}", "bios", card)
        yield found
    finally:
        found.close()


SLOW = ("tide-04",)  # which waits for minutes before it says anything
NAMES = [pytest.param(n, marks=pytest.mark.extended) if n in SLOW else n for n in WRONG]


@pytest.mark.parametrize("name", NAMES)
def test_the_cause_is_named(lab: Lab, name: str) -> None:
    _, by_events, by_capture = WRONG[name]
    site = lab.folder / "daskel.toml"

    def found() -> dict[str, Any] | None:
        causes = diagnosed(name, "--site", site)[0]["findings"][:1]
        return next((cause for cause in causes if cause["cause"] == by_events), None)

    cause = until(found, lab.server_log.read_text, 2)
    MACHINES[name].process.terminate()  # its firmware may be busy with waiting
    assert cause and cause["problem"] and cause["remedy"] and cause["evidence"]

    (capture,) = (lab.folder / "packets").glob(f"{name}_*.pcap")
    for more in (["--site", site], []):  # also where no site file is

        def elsewhere(more: list[str | Path] = more) -> bool:
            findings = diagnosed("--capture", capture, *more)[0]["findings"]
            return bool(findings) and findings[0]["cause"] == by_capture

        until(elsewhere, lambda: diagnosed("--capture", capture), 2)  # silence takes its time


def test_what_is_named_is_told(lab: Lab) -> None:
    """The nearest name of the file, the other server, the root that it asked for."""
    site = lab.folder / "daskel.toml"
    for name, where, words in (
        ("tide-01", "remedy", "vmlinuz-6.1"),
        ("tide-03", "problem", "10.61.8.250"),
        ("tide-05", "problem", "/roots/nothing"),
        ("tide-06", "remedy", "daskel slate show tide-06"),
    ):
        assert words in diagnosed(name, "--site", site)[0]["findings"][0][where]


def test_what_a_client_really_runs_is_known(lab: Lab) -> None:
    """It told so itself, by the script in the view of its root."""
    words = [PROGRAM, "boots", "show", "tide-06", "--site", lab.folder / "daskel.toml"]
    text = subprocess.run(words, capture_output=True, text=True, check=False).stdout
    assert "  up" in text and "handed out small: " in text, text
    assert "runs       BOOT_IMAGE=" in text and "hostname=tide-06" in text, text
