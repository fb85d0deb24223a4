"""What the check finds on this machine: files that are something else, interfaces, permissions."""

from __future__ import annotations

from pathlib import Path

import pytest

from daskel.core.site.finding import Severity
from daskel.core.site.images import initrd_kind, kernel_kind
from daskel.system.sitefile import load_checked

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
    site.write_text(site.read_text().replace(old, new, 1))
    assert problems(demo_folder) == ([problem] if problem else [])


def test_files_that_are_something_else(demo_folder: Path) -> None:
    assert not problems(demo_folder)
    (demo_folder / "files/rescue/vmlinuz").write_text("<html>not found</html>")
    (demo_folder / "files/rescue/initrd.img").write_bytes(b"")
    assert problems(demo_folder) == [
        "kernel rescue/vmlinuz of loadout rescue does not look like a Linux kernel",
        "initrd rescue/initrd.img of loadout rescue does not look like a Linux initrd",
    ]
