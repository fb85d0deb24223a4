"""A Debian system on a slate: installs, writes, lives through a server's sudden death, comes again."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from tests.conftest import PATIENCE
from tests.vm import guest
from tests.vm.lab import SERVER, Lab, Machine, with_machines

pytestmark = with_machines("debootstrap")
SITE = """format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
router = "10.61.8.254"
name-servers = ["10.61.8.253"]
args = ["console=ttyS0,115200"]
[root.notebook]
slate = "keep"
[loadout.notebook]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img"]
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
"""


BEHAVIOURS = (Path(__file__).with_name("behaviours.pl").read_text()).count('\nt "')
# What a root over NFS version 3 does otherwise than tmpfs, by nature: the server does not know
# which files a client has open, so the client renames one that is removed while it is open.
DIFFERENT = {
    "open: links after unlink": "the file has its other name until it is closed",
    "open: listed after unlink": "and that name is listed",
    "open: folder of an unlinked file": "and the folder is not empty",
}


def exercise(machine: Machine, *what: str) -> None:
    """Log in, and begin it."""
    machine.wait_for("login:")
    machine.type("root")
    machine.wait_for(":~#")
    commands = [f"/root/exercise {word}" for word in what]
    machine.type(f"{'; '.join(commands)}; poweroff")


def wait_for_end(machine: Machine) -> None:
    machine.wait_for("GUEST done")
    machine.process.wait(PATIENCE)


def daskel(lab: Lab, *words: str) -> str:
    program, site = Path(sys.executable).with_name("daskel"), lab.folder / "daskel.toml"
    inside = [program, *words, "--site", site]
    return subprocess.run(inside, check=True, capture_output=True, text=True).stdout


def test_a_system_on_a_slate(tmp_path: Path) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "roots").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    subprocess.run(["cp", "-a", guest.debian(), tmp_path / "roots/notebook"], check=True)
    guest.write_exercises(tmp_path / "roots/notebook")
    daskel(lab := Lab(tmp_path), "root", "seal", "notebook", "--yes")
    daskel(lab, "root", "files", "notebook")  # the root's own kernel, and its own initrd
    assert "fit to boot" in daskel(lab, "root", "inspect", "notebook")
    lab.open()
    try:
        lab.serve(tmp_path / "daskel.toml")
        first = lab.boot("first", "02:61:08:00:00:01", "bios")
        exercise(first, "first")
        first.wait_for("GUEST wrote 6")
        lab.kill_server()
        time.sleep(1)
        lab.serve(tmp_path / "daskel.toml")
        wait_for_end(first)
        for said in ("installed 2.", "sums good", "built good", "exercised"):
            assert f"GUEST {said}" in first.console, said
        assert "GUEST nobody may not write" in first.console
        assert first.said("host").startswith("tide-01 ")
        assert f"{SERVER}:/roots/notebook / nfs rw," in first.said("root")
        changed = daskel(lab, "slate", "show", "tide-01")
        assert "usr/bin/hello" in changed and "var/tmp/part-20" in changed

        again = lab.boot("again", "02:61:08:00:00:01", "bios")
        other = lab.boot("other", "02:61:08:00:00:02", "bios")
        exercise(again, "again")
        exercise(other, "behave", "again")
        for machine in (again, other):
            wait_for_end(machine)
        assert again.said("package").startswith("2.") and "GUEST sums good" in again.console
        assert other.said("package") == "none" and "GUEST no sums" in other.console
        assert other.said("host").split()[0] == "tide-02"
        assert other.said("host").split()[1] != first.said("host").split()[1]

        assert int(other.said("behaviours")) == BEHAVIOURS
        lines = [line for line in other.console.splitlines() if line.startswith("GUEST differs > ")]
        names = {": ".join(line.removeprefix("GUEST differs > ").split(": ")[:2]) for line in lines}
        assert names <= set(DIFFERENT), lines

        daskel(lab, "slate", "wipe", "tide-01", "--yes")
        assert "tide-01" not in daskel(lab, "slate", "list")
    finally:
        lab.close()
    assert not list((tmp_path / "roots/notebook/var/tmp").iterdir()), "the root is as it was"
