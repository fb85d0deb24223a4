"""What the check finds on this machine: files that are something else, interfaces, permissions."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from daskel.core.audit.kernel_architecture import check_processors
from daskel.core.roots.kernels import initrd_kind, kernel_kind, misfit
from daskel.core.site.finding import Severity
from daskel.system.site_check import load_checked
from tests.conftest import DEMO, SiteText, site_from

KERNELS = [
    (b"\0" * 0x202 + b"HdrS", "x86"),
    (b"MZ" + b"\0" * 0x36 + b"ARM\x64", "arm64"),
    (b"MZ" + b"\0" * 0x36 + b"RSC\x05", "riscv"),
    (b"\0" * 0x24 + b"\x18\x28\x6f\x01", "arm"),
    (b"MZ" + b"\0" * 600, "EFI program"),
    (b"\x1f\x8b\x08", "compressed"),
    (b"<html>", None),
    (b"", None),
]
INITRDS = [
    (b"070701000", "cpio"),
    (b"\x1f\x8b\x08", "gzip"),
    (b"\xfd7zXZ\0", "xz"),
    (b"\x28\xb5\x2f\xfd", "zstd"),
    (b"<html>", None),
    (b"", None),
]


def efi(machine: int) -> bytes:
    head = bytearray(b"MZ" + bytes(0x100))
    head[0x3C], head[0x80:0x86] = 0x80, b"PE\0\0" + machine.to_bytes(2, "little")
    return bytes(head)


MISFITS = [
    (efi(0x8664), 200_000, "x64", None),
    (efi(0xAA64), 200_000, "x64", "is an EFI program for arm64, not for x64"),
    (efi(0x1234), 200_000, "x64", "is an EFI program for machine type 0x1234, not for x64"),
    (b"GRUB", 40_000, "arm64", "is not an EFI program"),
    (b"MZ\xff\xff", 4, "arm64", "is not an EFI program"),
    (b"", 0, "x64", "is not an EFI program"),
    (b"GRUB", 40_000, None, None),
    (b"GRUB", 700_000, None, "has 700,000 bytes; a BIOS has room for 623,616"),
    (efi(0x8664), 200_000, None, "is an EFI program, which a BIOS cannot start"),
]


@pytest.mark.parametrize(("head", "size", "machine", "why"), MISFITS)
def test_boot_files_and_firmware(head: bytes, size: int, machine: str | None, why: str) -> None:
    assert misfit(head, size, machine) == why


def test_processors() -> None:
    site = site_from(DEMO)
    seen = {client.mac: 11 if name < "tide-08" else 0 for name, client in site.clients.items()}
    found = list(
        check_processors(site, {"notebook": "x86", "rescue": "x86", "logger": "arm64"}, seen)
    )
    assert [finding.problem for finding in found] == [
        "the kernel of loadout notebook is for x86, but tide-01, tide-02, tide-03, tide-04, tide-05"
        " and 2 more boot as ARM 64-bit UEFI",
        "the kernel of loadout rescue is for x86, but tide-01, tide-02, tide-03, tide-04, tide-05"
        " and 2 more boot as ARM 64-bit UEFI",
    ]
    assert found[0].origin == site.origin("loadout", "notebook", "kernel")


def test_images() -> None:
    assert [kernel_kind(head) for head, _ in KERNELS] == [kind for _, kind in KERNELS]
    assert [initrd_kind(head) for head, _ in INITRDS] == [kind for _, kind in INITRDS]


def problems(folder: Path) -> list[str]:
    found = load_checked(folder / "daskel.toml").findings
    assert all(finding.severity is Severity.WARNING and finding.remedy for finding in found)
    return [finding.problem for finding in found]


CHANGES = [
    ('server = "10.61.8.1"', 'server = "10.61.8.1"\ninterface = "eth77"', "this machine has no interface eth77"),
    ('server = "10.61.8.1"', 'server = "10.61.8.1"\ninterface = "lo"', "interface lo does not have the address 10.61.8.1"),
    ('server = "10.61.8.1"', 'server = "10.61.8.1"\ninterface = "lo"\nenabled = false', ""),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "problem"), CHANGES)
def test_interfaces(demo_folder: Path, old: str, new: str, problem: str) -> None:
    site = demo_folder / "daskel.toml"
    site.write_text(SiteText(site.read_text()).replace(old, new, 1))
    assert problems(demo_folder) == ([problem] if problem else [])


def test_an_address_that_came_by_dhcp(demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    site.write_text(
        SiteText(site.read_text()).replace(
            "[segment.tideroom]", '[segment.tideroom]\ninterface = "clients0"'
        )
    )
    program = Path(sys.executable).with_name("daskel")
    for ends, expected in (
        ("", []),
        (
            "valid_lft 600 preferred_lft 600",
            ["interface clients0 has its address 10.61.8.1 from DHCP"],
        ),
    ):
        lines = f"ip link add clients0 type veth peer name clients1; ip address add 10.61.8.1/24 dev clients0 {ends}; {program} check --json"
        done = subprocess.run(
            ["unshare", "--net", "sh", "-c", lines],
            cwd=demo_folder,
            capture_output=True,
            text=True,
            check=False,
        )
        assert [finding["problem"] for finding in json.loads(done.stdout)["findings"]] == expected


def test_a_loader_for_another_firmware(demo_folder: Path) -> None:
    loader = demo_folder / "files/loader"
    shutil.copy(loader / "uefi-arm64.efi", loader / "uefi-x64.efi")
    (finding,) = load_checked(demo_folder / "daskel.toml").findings
    assert finding.severity is Severity.ERROR and "not for x64" in finding.problem


def test_files_that_are_something_else(demo_folder: Path) -> None:
    assert not problems(demo_folder)
    (demo_folder / "files/rescue/vmlinuz").write_text("<html>not found</html>")
    (demo_folder / "files/rescue/initrd.img").write_bytes(b"")
    assert problems(demo_folder) == [
        "kernel rescue/vmlinuz of loadout rescue does not look like a Linux kernel",
        "initrd rescue/initrd.img of loadout rescue does not look like a Linux initrd",
    ]
