"""Secure Boot with the site's own key: the firmware's list and shim's, with a boot loader and without
one, by TFTP, HTTP and HTTPS, to an NFS root; and what is not signed."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.core.efi.pe import HEADS, parse
from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import NOTEBOOK, TIDEROOM, Lab, Machine, diagnosed, with_machines

pytestmark = with_machines("grub-mkimage", "busybox")

SITE = (
    TIDEROOM
    + NOTEBOOK
    + """
[loadout.unsigned]
kernel = "notebook/unsigned"
initrd = "notebook/initrd.img"
root = "notebook"
args = ["quiet"]
[choice.menu]
entries = ["unsigned"]
default = "unsigned"
wait = "2s"
"""
)
# What each machine has: keys of its table, its firmware, where it trusts the site's key
ROOM = {
    "tide-01": ('boot = "unsigned"\nloader = "none"\nsecure-boot = "db"', "uefi-x64", "db"),
    "tide-02": ('loader = "none"\nsecure-boot = "db"', "uefi-x64-http", "db"),
    "tide-03": ('secure-boot = "mok"', "uefi-x64", "mok"),
    "tide-04": ('boot = "unsigned"\nloader = "none"\nsecure-boot = "mok"', "uefi-x64", "mok"),
    "tide-05": ('loader = "none"', "uefi-x64", None),
    "tide-06": ('boot = "unsigned"\nsecure-boot = "mok"', "uefi-x64", "mok"),
    "tide-08": ('boot = "menu"\nloader = "none"\nsecure-boot = "mok"', "uefi-x64", "mok"),
    "tide-07": ('loader = "none"\nsecure-boot = "db"', "uefi-x64-http", "db"),
}
MACS = {name: f"02:61:08:00:00:{name[-2:]}" for name in ROOM}
IN_CI = ("tide-01", "tide-03", "tide-07")
OVER_HTTPS = "tide-07"
IMAGES = {name: f"loader/{MACS[name].replace(':', '-')}.x64" for name in ROOM}


def without_signature(kernel: Path) -> bytes:
    """As a kernel is that nobody signed."""
    data = bytearray(kernel.read_bytes())
    program = parse(bytes(data[:HEADS]))
    at, _ = program.certificates
    data[program.security : program.security + 8] = bytes(8)
    return bytes(data[:at])


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = tmp_path_factory.mktemp("own-key")
    tables = (
        f'[client.{name}]\nmac = "{MACS[name]}"\ngroup = "tide"\n{keys}\n'
        for name, (keys, _, _) in ROOM.items()
    )
    (folder / "daskel.toml").write_text(SITE + "".join(tables))
    notebook = folder / "files/notebook"
    notebook.mkdir(parents=True)
    shutil.copy(guest.kernel(), notebook / "vmlinuz")
    shutil.copy(guest.kernel(), notebook / "unsigned")
    guest.write_initrd(notebook / "initrd.img")
    guest.write_root(folder / "roots/notebook", "hello", b"x" * 100)
    guest.signed_chain(folder / "files")
    guest.stub(folder / "files")
    found = Lab(folder)
    try:
        found.open()
        found.daskel("keys", "make")
        found.daskel("keys", "https")
        url = f"https://10.61.8.1/{IMAGES[OVER_HTTPS]}.efi"
        found.daskel("client", "set", OVER_HTTPS, f"boot-file={url}")
        found.serve(folder / "daskel.toml")
        (notebook / "unsigned").write_bytes(without_signature(notebook / "vmlinuz"))
        yield found
    finally:
        found.close()


@pytest.fixture(scope="module")
def machines(lab: Lab) -> dict[str, Machine]:
    """Those that CI boots, all at once: emulated firmware takes its time."""
    return {name: switched_on(lab, name) for name in IN_CI}


@pytest.fixture(scope="module")
def more_machines(lab: Lab) -> dict[str, Machine]:
    """The others."""
    return {name: switched_on(lab, name) for name in ROOM if name not in IN_CI}


def switched_on(lab: Lab, name: str) -> Machine:
    _, firmware, where = ROOM[name]
    own = lab.folder / "keys/site.pem"
    trusts, authority = {where: own} if where else {}, own if name == OVER_HTTPS else None
    return lab.boot(
        name, MACS[name], firmware, secure_boot=True, trusts=trusts, authorities=authority
    )


def lines_of(lab: Lab, name: str) -> list[str]:
    return [line for line in lab.server_log.read_text().splitlines() if f" {name} " in line]


@pytest.mark.parametrize("name", IN_CI)
def test_what_the_key_signed_boots(lab: Lab, machines: dict[str, Machine], name: str) -> None:
    came_to_its_root(lab, machines[name], name)


@pytest.mark.extended
@pytest.mark.parametrize("name", ["tide-02", "tide-04", "tide-08"])
def test_the_same_by_other_ways(lab: Lab, more_machines: dict[str, Machine], name: str) -> None:
    came_to_its_root(lab, more_machines[name], name)


def came_to_its_root(lab: Lab, machine: Machine, name: str) -> None:
    machine.wait_for("GUEST waits for a key")
    assert machine.said("file") == "hello"
    text = "\n".join(lines_of(lab, name))
    mok = ("loader/mok-x64/start.efi", "loader/mok-x64/grubx64.efi")
    expected = {
        "tide-03": mok,
        "tide-04": (f"{IMAGES[name]}/start.efi", f"{IMAGES[name]}/grubx64.efi"),
        "tide-08": (*mok, f"{IMAGES[name].replace('x64', 'x86_64')}/entry-unsigned.efi"),
    }.get(name, (f"{IMAGES[name]}.efi",))
    assert all(f"{path} " in text for path in expected), text
    fetched = "notebook/vmlinuz" in text or "notebook/unsigned" in text
    assert fetched is (name == "tide-03"), text
    machine.process.terminate()


def cause(lab: Lab, name: str) -> str | None:
    """The first one: on a busy machine it may be slow, too."""
    findings = diagnosed(name, "--site", lab.folder / "daskel.toml")[0]["findings"]
    return findings[0]["cause"] if findings else None


@pytest.mark.extended
def test_firmware_that_does_not_trust_the_key(lab: Lab, more_machines: dict[str, Machine]) -> None:
    """Its next way to boot shows that it refused the image."""
    until(lambda: "boot from HTTP" in "".join(lines_of(lab, "tide-05")), lab.server_log.read_text)
    until(lambda: cause(lab, "tide-05") == "loader-refused", lab.server_log.read_text, 2.0)
    more_machines["tide-05"].process.terminate()


@pytest.mark.extended
def test_a_kernel_that_nobody_signed(lab: Lab, more_machines: dict[str, Machine]) -> None:
    """It is fetched, and its initrd is not."""

    def refused() -> bool:
        text = "".join(lines_of(lab, "tide-06"))
        return "notebook/unsigned" in text and cause(lab, "tide-06") == "kernel-refused"

    until(refused, lab.server_log.read_text, 2.0)
    assert "notebook/initrd.img" not in "".join(lines_of(lab, "tide-06"))
    more_machines["tide-06"].process.terminate()
