"""GRUB images for network boot."""

from __future__ import annotations

from pathlib import Path

import pytest

from daskel.system import bootloader
from daskel.system.requirements import MissingRequirementError


def test_a_missing_program_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(MissingRequirementError, match="apt install grub-common grub-pc-bin"):
        bootloader.build_missing(tmp_path, ("bios",))
    program = tmp_path / "grub-mkimage"
    program.write_text("#!/bin/sh\necho broken >&2\nexit 1\n")
    program.chmod(0o755)
    monkeypatch.setattr(bootloader, "MODULES", tmp_path)
    with pytest.raises(MissingRequirementError, match="apt install grub-efi-amd64-bin"):
        bootloader.build_missing(tmp_path, ("uefi-x64",))
    (tmp_path / "i386-pc").mkdir()
    with pytest.raises(MissingRequirementError, match="broken"):
        bootloader.build_missing(tmp_path, ("bios",))
    assert not list((tmp_path / "loader").iterdir()), "nothing half done is left"
