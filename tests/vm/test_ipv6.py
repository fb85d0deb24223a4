"""A room without IPv4: UEFI boots over IPv6 by PXE and over HTTP, with a boot loader and without one,
to a Debian system whose root comes as files, as blocks and into memory."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator

import pytest

from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import Lab, with_machines

pytestmark = with_machines("debootstrap", "mksquashfs", "grub-mkimage")
SITE = """format = 1
[site]
roots = "roots"
slates = "slates"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
network6 = "fd61:8::/64"
server6 = "fd61:8::1"
pool6 = ["fd61:8::100 - fd61:8::1ff"]
args = ["console=ttyS0,115200"]
[root.notebook]
slate = "fresh"
up = true
[loadout.notebook]
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
"""
# What each has: keys of its table, its firmware, and what its root is mounted from
ROOM = {
    "tide-01": ("", "uefi-x64", "[fd61:8::1]:/roots/notebook"),
    "tide-02": ('delivery = "blocks"\nloader = "none"', "uefi-x64-http", "overlay"),
    "tide-03": ('delivery = "memory"', "uefi-x64-http", "overlay"),
    "tide-04": ('address6 = "fd61:8::24"\nsecure-boot = "shim"', "uefi-x64", "[fd61:8::1]:/roots"),
}
MACS = {name: f"02:61:08:00:00:{name[-2:]}" for name in ROOM}


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = tmp_path_factory.mktemp("ipv6")
    tables = (
        f'[client.{name}]\nmac = "{MACS[name]}"\ngroup = "tide"\n{keys}\n'
        for name, (keys, _, _) in ROOM.items()
    )
    (folder / "daskel.toml").write_text(SITE + "".join(tables))
    for name in ("files", "roots"):
        (folder / name).mkdir()
    guest.signed_chain(folder / "files")
    guest.stub(folder / "files")
    subprocess.run(["cp", "-a", guest.debian(), folder / "roots/notebook"], check=True)
    made = Lab(folder)
    made.daskel("root", "seal", "notebook", "--yes")
    made.open()
    try:
        made.add_ipv6("fd61:8::1/64")
        made.serve(folder / "daskel.toml")
        yield made
    finally:
        made.close()


@pytest.mark.parametrize(
    "name",
    ["tide-01", *(pytest.param(name, marks=pytest.mark.extended) for name in list(ROOM)[1:])],
)
def test_to_its_root(lab: Lab, name: str) -> None:
    keys, firmware, root = ROOM[name]
    machine = lab.boot(name, MACS[name], firmware, ipv6=True, secure_boot="secure-boot" in keys)
    machine.log_in()
    machine.type("echo GUEST'' mounted $(grep ' / ' /proc/mounts); ip -4 addr show scope global")
    machine.type("echo GUEST'' named $(hostname); ip -6 addr show scope global")
    machine.wait_for("GUEST named ")
    assert machine.said("mounted").startswith(root)
    assert machine.said("named") == name
    assert "inet " not in machine.console, "it has an IPv4 address"
    log = lab.server_log.read_text
    until(lambda: f" {name}           up " in log(), log)
    assert ", IPv6" in next(line for line in log().splitlines() if f"{name}           seen" in line)
    machine.process.kill()
