"""Machines as they are sold: Secure Boot with Debian's signed chain, on and off, to an NFS root."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest

from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import NOTEBOOK, TIDEROOM, Lab, Machine, diagnosed, with_machines

pytestmark = with_machines("grub-mkimage", "busybox")

SITE = (
    TIDEROOM
    + NOTEBOOK
    + """
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
[client.tide-03]
mac = "02:61:08:00:00:03"
group = "tide"
secure-boot = "off"
"""
)
ON, OFF, REFUSED = "tide-01", "tide-02", "tide-03"
MACS = {name: f"02:61:08:00:00:{name[-2:]}" for name in (ON, OFF, REFUSED)}


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = tmp_path_factory.mktemp("secure")
    (folder / "daskel.toml").write_text(SITE)
    (folder / "files/notebook").mkdir(parents=True)
    shutil.copy(guest.kernel(), folder / "files/notebook/vmlinuz")
    guest.write_initrd(folder / "files/notebook/initrd.img")
    guest.write_root(folder / "roots/notebook", "hello", b"x" * 100)
    guest.signed_chain(folder / "files")
    found = Lab(folder)
    try:
        found.open()
        found.serve(folder / "daskel.toml")
        yield found
    finally:
        found.close()


@pytest.fixture(scope="module")
def machines(lab: Lab) -> dict[str, Machine]:
    """All at once: emulated firmware takes its time."""
    return {name: lab.boot(name, MACS[name], "uefi-x64", secure_boot=name != OFF) for name in MACS}


def lines_of(lab: Lab, name: str) -> list[str]:
    return [line for line in lab.server_log.read_text().splitlines() if f" {name} " in line]


@pytest.mark.parametrize("name", [ON, OFF])
def test_one_chain_for_secure_boot_on_and_off(
    lab: Lab, machines: dict[str, Machine], name: str
) -> None:
    machine = machines[name]
    machine.wait_for("GUEST waits for a key")
    assert machine.said("file") == "hello"
    text = "\n".join(lines_of(lab, name))
    places = [text.index(f" loader/signed-x64/{file} ") for file in ("start.efi", "grubx64.efi")]
    assert places == sorted(places)
    over = "tftp" if name == ON else "http"
    kernel = next(line for line in lines_of(lab, name) if "notebook/vmlinuz " in line)
    assert f"over {over}" in kernel, text
    assert (" loader/uefi-x64.efi " in text) is (name == OFF), text
    missing = [line for line in lines_of(lab, name) if " missing " in line]
    assert all("goes on without it" in line for line in missing), text
    machine.process.terminate()


def test_an_unsigned_loader_is_refused(lab: Lab, machines: dict[str, Machine]) -> None:
    """It is known from what its firmware asks for next."""

    def causes() -> list[str]:
        found = diagnosed(REFUSED, "--site", lab.folder / "daskel.toml")
        return [cause["cause"] for cause in found[0]["findings"]]

    until(lambda: "boot from HTTP" in "".join(lines_of(lab, REFUSED)), lab.server_log.read_text)
    until(lambda: causes() == ["loader-refused"], lab.server_log.read_text, 2.0)
    machines[REFUSED].process.terminate()
