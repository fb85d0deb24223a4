"""The chain for Secure Boot: who gets it, what the signed GRUB is told, what is copied."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from daskel.core.audit.checks import check_site
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files
from daskel.core.content.signed_chain import Chain
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.pxe import Firmware, boot_request
from daskel.core.history.events import FileKind, Who
from daskel.core.replies.bootfile import BootFile, choose_boot_file
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.system import bootloader
from tests.conftest import DEMO, site_from
from tests.core.boot.sites import STRANGER, TIDE, site

CHAIN, PLAIN = "loader/signed-x64/start.efi", "loader/uefi-x64.efi"
URL = f"http://10.61.8.1/{PLAIN}"
X64, HTTP = Firmware("uefi-x64"), Firmware("uefi-x64-http")
HERE = frozenset({"uefi-x64"})
WHO_GETS = [  # what the site says, which chains are here, firmware; boot file, or the problem
    ("", HERE, X64, CHAIN),
    ("", frozenset(), X64, PLAIN),
    ("", HERE, HTTP, URL),
    ("", HERE, Firmware.BIOS, "loader/bios.img"),
    ("", HERE, Firmware("uefi-x86"), "loader/uefi-x86.efi"),
    ('secure-boot = "off"', HERE, X64, PLAIN),
    ('secure-boot = "shim"', HERE, X64, CHAIN),
    ('secure-boot = "shim"', frozenset(), X64, "apt install shim-signed grub-efi-amd64-signed"),
    ('secure-boot = "shim"', HERE, HTTP, "let its firmware boot by PXE"),
    ('dhcp = "proxy"', HERE, X64, PLAIN),
    ('dhcp = "proxy"\nsecure-boot = "shim"', HERE, X64, CHAIN),
]


@pytest.mark.parametrize(("written", "signed", "firmware", "expected"), WHO_GETS)
def test_who_gets_the_chain(
    written: str, signed: frozenset[str], firmware: Firmware, expected: str
) -> None:
    file = boot_file(written, signed, firmware)
    if expected.startswith(("loader", "http")):
        assert file.path == expected
    else:
        assert expected in file.said and file.path is None


def boot_file(written: str, signed: frozenset[str], firmware: Firmware) -> BootFile:
    segment = written if "dhcp" not in written else ""
    made = replace(site(segment=segment), signed=signed)
    if "dhcp" in written:
        text = written.replace('dhcp = "proxy"', "").strip()
        rules = made.segments["tideroom"].model_copy(
            update={"dhcp": "proxy", "secure_boot": "shim" if text else None}
        )
        made = made.with_tables("segment", {**made.segments, "tideroom": rules})
    asked = boot_request(discover(Face.of(firmware), TIDE, 1))
    who, found = Who("tide-01", TIDE), effective(made, "tide-01")
    return choose_boot_file(made, Ports(), who, found, "tideroom", asked)


def test_what_the_signed_grub_is_told() -> None:
    made = replace(site(), signed=HERE)
    files = Files(made, Ports())
    told = files.content("tideroom", "grub/grub.cfg", Who(), "tftp")
    assert isinstance(told, Content) and told.data
    lines = told.data.decode().splitlines()
    assert f"  chainloader /{PLAIN}" in lines
    assert lines[-1] == "configfile /loader/$net_default_mac.signed"
    signed = files.content("tideroom", f"loader/{TIDE}.signed", Who(), "tftp")
    assert isinstance(signed, Content) and signed.data and signed.kind is FileKind.CONFIGURATION
    assert b"(tftp," in signed.data and b"(http," not in signed.data
    lobby = replace(site(segment='unknown = "lobby"'), signed=HERE)
    waits = Files(lobby, Ports()).content("tideroom", f"loader/{STRANGER}.signed", Who(), "tftp")
    assert isinstance(waits, Content) and waits.data
    assert f"configfile (tftp,10.61.8.1)/loader/{STRANGER}.signed".encode() in waits.data
    chain = files.content("tideroom", CHAIN, Who(), "tftp")
    assert isinstance(chain, Content) and chain.kind is FileKind.LOADER and not chain.device
    without = replace(made, signed=frozenset())
    plain = Files(without, Ports()).content("tideroom", "grub/grub.cfg", Who(), "tftp")
    assert isinstance(plain, Content) and plain.data is None, "a file on the disk, if there is one"


def test_beside_another_server_the_chain_needs_its_next_server(demo_site: Site) -> None:
    text = DEMO.replace("[client.lib-04]\n", '[client.lib-04]\nsecure-boot = "shim"\n')
    (note,) = (found for found in check_site(site_from(text)) if "signed GRUB" in found.problem)
    assert note.problem.startswith("lib-04: ") and "daskel handoff" in note.remedy
    assert note.origin.text == '"shim"'
    assert not [found for found in check_site(demo_site) if "signed GRUB" in found.problem]


def test_what_the_packages_have_is_copied_and_kept_up_to_date(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Here(Chain):
        @property
        def sources(self) -> tuple[str, str]:
            return str(tmp_path / "shim"), str(tmp_path / "grub")

    here = Here("uefi-x64", "x64", "x86_64", "amd64")
    monkeypatch.setattr(bootloader, "CHAINS", {"uefi-x64": here})
    files, loaders = tmp_path / "files", ("uefi-x64",)
    assert not bootloader.signed(files) and not bootloader._copy_signed(files, loaders)
    for place in here.files.values():
        Path(place).parent.mkdir(exist_ok=True)
        Path(place).write_text(f"first {place}")
    assert bootloader.signed(files) == {"uefi-x64"}
    assert bootloader._copy_signed(files, ("bios",)) == []
    assert bootloader._copy_signed(files, loaders) == list(here.files)
    assert bootloader._copy_signed(files, loaders) == []
    shim = Path(here.files[here.first])
    shim.write_text("another one")
    assert bootloader._copy_signed(files, loaders) == [here.first]
    assert (files / here.first).read_text() == "another one"
    shim.unlink()
    assert bootloader.signed(files) == {"uefi-x64"}, "in files it is, too"
