"""What a machine must have for a site."""

from __future__ import annotations

import pytest

from daskel.core.audit.machine_needs import command, needs
from daskel.core.site.model import Site
from tests.conftest import DEMO, replaced, site_from


def names(site: Site | None) -> set[str]:
    return {need.name.rpartition("/")[2] for need in needs(site) if need.always}


def test_without_a_site() -> None:
    assert names(None) == {"grub-mkimage", "i386-pc", "x86_64-efi", "overlay"}


ALL = 'loaders = ["bios", "uefi-x64", "uefi-arm64"]'


@pytest.mark.parametrize(
    ("old", "new", "gone", "come"),
    [
        ("", "", set(), set()),
        (ALL, 'loaders = ["bios"]', {"x86_64-efi", "arm64-efi"}, set()),
        ('firmware = "uefi-arm64"', 'firmware = "uefi-x86"', {"arm64-efi"}, set()),
        ('slate = "keep" ', 'slate = "none" ', set(), set()),
        (ALL, f'{ALL}\nnfs = "kernel"\naccount = "daskel"', set(), {"exportfs", "daskel"}),
    ],
)
def test_what_a_site_wants(old: str, new: str, gone: set[str], come: set[str]) -> None:
    usual = {"grub-mkimage", "i386-pc", "x86_64-efi", "arm64-efi", "overlay"}
    site = site_from(replaced(DEMO, old, new) if old else DEMO)
    assert names(site) == (usual - gone) | come


def test_the_command_that_brings_it(demo_site: Site) -> None:
    wanted = [need for need in needs(demo_site) if need.always]
    assert command(wanted, fedora=False) == (
        "dpkg --add-architecture arm64 && apt update && "
        "apt install grub-common grub-pc-bin grub-efi-amd64-bin grub-efi-arm64-bin:arm64"
    )
    assert command(wanted, fedora=True).startswith("dnf install grub2-tools-extra grub2-pc-modules")
    assert command([], fedora=False) == "" == command([wanted[-1]], fedora=False)
