"""Two servers of one site: the one that a machine booted from is killed, the machine is switched on
anew, and comes to its root from the other."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import SiteText, until
from tests.postgres import running
from tests.vm import guest
from tests.vm.lab import NOTEBOOK, TIDEROOM, Lab, with_machines

pytestmark = with_machines("grub-mkimage", "busybox")

ADDRESSES = {"north": "10.61.8.1", "south": "10.61.8.2"}
SERVERS = "".join(
    f'[server.{name}]\naddresses = {{ tideroom = "{address}" }}\n'
    for name, address in ADDRESSES.items()
)
SITE = (
    SiteText(TIDEROOM + NOTEBOOK)
    .replace('state = "state.db"', 'state = "postgresql://daskel@10.61.8.250/site"\nlocal = "."')
    .replace('server = "10.61.8.1"\n', "")
    + SERVERS
    + '[client.tide-01]\nmac = "02:61:08:00:00:01"\ngroup = "tide"\n'
    + '[client.tide-02]\nmac = "02:61:08:00:00:02"\ngroup = "tide"\n'
)


class Pair:
    """`north` is where the bridge is, and `south` a host on it, each with its own copy of all."""

    def __init__(self, lab: Lab, folder: Path) -> None:
        self.lab, self.folder = lab, folder
        self.inside = {"north": list[str](), "south": lab.network.add_host("s", "10.61.8.2/24")}
        self.serving: dict[str, subprocess.Popen[bytes]] = {}

    def serve(self, name: str) -> None:
        folder, log = self.folder / name, self.folder / f"{name}.log"
        words = [sys.executable, "-m", "daskel", "serve", "--site", str(folder / "daskel.toml")]
        self.serving[name] = self.lab.start(*self.inside[name], *words, log=log)
        until(lambda: " ready " in log.read_text(), log.read_text, 0.5)

    def log(self, name: str) -> str:
        return (self.folder / f"{name}.log").read_text()

    def kill(self, name: str) -> None:
        self.serving[name].kill()
        self.serving[name].wait()


def lay_out(folder: Path) -> None:
    notebook = folder / "files/notebook"
    notebook.mkdir(parents=True)
    (folder / "daskel.toml").write_text(SITE)
    shutil.copy(guest.kernel(), notebook / "vmlinuz")
    guest.write_initrd(notebook / "initrd.img")
    guest.write_root(folder / "roots/notebook", "hello", b"x" * 100)


@pytest.fixture
def pair(tmp_path: Path) -> Iterator[Pair]:
    lab = Lab(tmp_path)
    try:
        lab.open()
        lab.network.add_host("d", "10.61.8.250/24")
        with running("0.0.0.0", f"{lab.network.name}-d") as postgres:
            postgres.create("site")
            made = Pair(lab, tmp_path)
            for name in ADDRESSES:
                lay_out(tmp_path / name)
                made.serve(name)
            yield made
    finally:
        lab.close()


def boots_from_either(pair: Pair, name: str, mac: str, firmware: str) -> None:
    machine = pair.lab.boot(name, mac, firmware)
    machine.wait_for("GUEST waits for a key")
    own = next(one for one in ADDRESSES if f"root {ADDRESSES[one]}:/roots/" in machine.console)
    assert f" {name} " in pair.log(own)
    address = machine.said("address").split()[0]
    machine.process.kill()
    machine.process.wait()
    machine.log.write_bytes(b"")
    pair.kill(own)
    other = next(one for one in ADDRESSES if one != own)
    again = pair.lab.boot(name, mac, firmware)
    again.wait_for("GUEST waits for a key")
    assert again.said("root").startswith(f"{ADDRESSES[other]}:/roots/"), again.console
    assert again.said("address").split()[0] == address
    again.process.kill()
    pair.serve(own)


def test_a_bios_machine(pair: Pair) -> None:
    boots_from_either(pair, "tide-01", "02:61:08:00:00:01", "bios")


@pytest.mark.extended
def test_a_uefi_machine(pair: Pair) -> None:
    boots_from_either(pair, "tide-02", "02:61:08:00:00:02", "uefi-x64")
