"""GRUB images for network boot."""

from __future__ import annotations

from pathlib import Path

import pytest

from daskel.system import bootloader
from daskel.system.requirements import MissingRequirementError


def test_what_can_be_built_is_built(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    assert bootloader.build_missing(tmp_path, ("bios",)) == []
    assert "bios" in bootloader.unbuilt(tmp_path)
    program = tmp_path / "grub-mkimage"
    program.write_text("#!/bin/sh\necho broken >&2\nexit 1\n")
    program.chmod(0o755)
    monkeypatch.setattr(bootloader, "MODULES", tmp_path)
    (tmp_path / "i386-pc").mkdir()
    assert "uefi-x64" in bootloader.unbuilt(tmp_path) and "bios" not in bootloader.unbuilt(tmp_path)
    with pytest.raises(MissingRequirementError, match="broken"):
        bootloader.build_missing(tmp_path, ("bios",))
    assert not list((tmp_path / "loader").iterdir()), "nothing half done is left"


def test_an_image_of_an_earlier_version_is_built_again(tmp_path: Path) -> None:
    (path,) = bootloader.build_missing(tmp_path, ("uefi-x64",))
    image = tmp_path / path
    whole = image.read_bytes()
    assert bootloader.build_missing(tmp_path, ("uefi-x64",)) == [], "it is of this version"
    image.write_bytes(whole.replace(b"net_bootp\n", b"net_none1\n"))
    assert bootloader.build_missing(tmp_path, ("uefi-x64",)) == [path]
    assert b"net_bootp\n" in image.read_bytes()
    image.write_bytes(b"MZ another loader")
    assert bootloader.build_missing(tmp_path, ("uefi-x64",)) == [], "somebody's own"
