"""A Debian system on a slate: installs, writes, lives through a server's sudden death, comes again."""

from __future__ import annotations

import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import PATIENCE
from tests.vm import guest
from tests.vm.lab import SERVER, TIDEROOM, Lab, Machine, with_machines

pytestmark = [pytest.mark.extended, *with_machines("debootstrap")]
SITE = f"""{TIDEROOM}router = "10.61.8.254"
name-servers = ["10.61.8.253"]
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
    machine.log_in()
    commands = [f"/root/exercise {word}" for word in what]
    machine.type(f"{'; '.join(commands)}; poweroff")


def wait_for_end(machine: Machine) -> None:
    machine.wait_for("GUEST done")
    machine.process.wait(PATIENCE)


def test_a_system_on_a_slate(tmp_path: Path) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "roots").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    subprocess.run(["cp", "-a", guest.debian(), tmp_path / "roots/notebook"], check=True)
    guest.write_exercises(tmp_path / "roots/notebook")
    lab = Lab(tmp_path)
    lab.daskel("root", "seal", "notebook", "--yes")
    lab.daskel("root", "files", "notebook")  # the root's own kernel, and its own initrd
    assert "fit to boot" in lab.daskel("root", "inspect", "notebook")
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
        changed = lab.daskel("slate", "show", "tide-01")
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

        lab.daskel("slate", "wipe", "tide-01", "--yes")
        assert "tide-01" not in lab.daskel("slate", "list")
    finally:
        lab.close()
    assert not list((tmp_path / "roots/notebook/var/tmp").iterdir()), "the root is as it was"
