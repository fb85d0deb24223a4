"""A Debian system whose root is an image: block by block over NBD, and from memory."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator

import pytest

from tests.conftest import PATIENCE
from tests.vm import guest
from tests.vm.lab import TIDEROOM, Lab, with_machines

pytestmark = with_machines("debootstrap", "mksquashfs")
SITE = f"""{TIDEROOM}multicast = "239.61.8.1"
[root.notebook]
slate = "fresh"
delivery = "blocks"
[loadout.notebook]
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
[group.memory]
delivery = "memory"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
slate = "keep"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = ["tide", "memory"]
[client.tide-03]
mac = "02:61:08:00:00:03"
group = ["tide", "memory"]
"""


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = tmp_path_factory.mktemp("images")
    (folder / "files").mkdir()
    (folder / "roots").mkdir()
    (folder / "daskel.toml").write_text(SITE)
    subprocess.run(["cp", "-a", guest.debian(), folder / "roots/notebook"], check=True)
    guest.write_exercises(folder / "roots/notebook")
    made = Lab(folder)
    said = made.daskel("root", "seal", "notebook", "--yes")
    assert "Its image has" in said
    made.daskel("check")
    made.open()
    try:
        made.serve(folder / "daskel.toml")
        yield made
    finally:
        made.close()


def test_blocks_and_what_is_kept(lab: Lab) -> None:
    """While it reads and writes, its server is killed and away for 40 s, and nothing is lost."""
    first = lab.boot("first", "02:61:08:00:00:01", "bios")
    first.log_in()
    first.type("echo GUEST'' mounted $(grep ' / ' /proc/mounts); echo GUEST'' named $(hostname)")
    first.wait_for("GUEST named ")
    assert first.said("mounted").startswith("overlay / overlay")
    assert first.said("named") == "tide-01"
    first.type("/root/exercise first; sync")
    first.wait_for("GUEST wrote 3")
    lab.kill_server()
    time.sleep(40)
    lab.serve(lab.folder / "daskel.toml")
    first.wait_for("GUEST exercised")
    assert "GUEST sums good" in first.console and "I/O error" not in first.console
    first.type("poweroff")
    first.process.wait(PATIENCE)
    assert " connected     its block device again" in lab.server_log.read_text()
    again = lab.boot("again", "02:61:08:00:00:01", "uefi-x64")
    again.log_in()
    again.type("/root/exercise again")
    again.wait_for("GUEST done")
    assert again.said("package").startswith("2.") and "GUEST sums good" in again.console
    again.process.kill()


@pytest.mark.extended
def test_memory(lab: Lab) -> None:
    """Two get one transmission; the server may go when their roots are there."""
    machines = [lab.boot(f"memory-{n}", f"02:61:08:00:00:0{n}", "uefi-x64") for n in (2, 3)]
    for machine in machines:
        machine.log_in()
    assert "over multicast for 2 machines" in lab.server_log.read_text()
    lab.kill_server()
    for machine in machines:
        machine.type("echo 3 >/proc/sys/vm/drop_caches; cat /usr/bin/* /usr/lib/*/*.so* >/dev/null")
        machine.type("echo GUEST'' read $?")
        machine.wait_for("GUEST read ")
        assert machine.said("read") == "0"
        machine.process.kill()
    lab.serve(lab.folder / "daskel.toml")
