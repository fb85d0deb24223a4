"""The firmware that the site file says, and what the checks make of it."""

from __future__ import annotations

from dataclasses import replace

import pytest

from daskel.core.boot.firmware import expected
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.needs import Need, unmet
from daskel.core.dhcp.packet import NOWHERE, Packet
from daskel.core.dhcp.pxe import (
    Firmware,
    architecture_name,
    architecture_number,
    boot_request,
    is_system,
)
from daskel.core.replies.bootfile import check_boot_files, check_firmware
from tests.conftest import DEMO, site_from

MAC = "02:61:08:00:00:01"


def test_names_and_numbers() -> None:
    for number in (*range(42), -1):
        name = architecture_name(number)
        assert number == 9 or architecture_number(name) == number  # 9 is another x64
        request = boot_request(discover(Face.of_architecture(number), MAC, 1))
        assert request and (request.architecture == number or number == -1)
    for firmware in Firmware:
        face = Face.of(firmware)
        request = boot_request(discover(face, MAC, 1))
        assert request and request.firmware is firmware
        assert request.over_http is firmware.over_http


def test_what_the_site_file_says_comes_before_what_was_seen() -> None:
    site = site_from(DEMO)
    known = expected(site, {"02:61:09:00:00:01": 0, MAC: 7})
    assert known["02:61:09:00:00:01"] == 7 and known["02:61:0a:00:00:01"] == 11
    assert known[MAC] == 7


def test_findings() -> None:
    site = replace(site_from(DEMO), unbuilt=frozenset(["uefi-arm64"]))
    found = list(check_firmware(site, {"02:61:09:00:00:01": 0}))
    assert [finding.severity.value for finding in found] == ["note", "warning"]
    assert "lib-01 was last seen as bios, and the site file says uefi-x64" in found[0].problem
    assert "buoy-1 and 5 more would get no boot file" in found[1].problem
    assert "grub-efi-arm64-bin:arm64" in found[1].remedy
    missing = [finding.problem for finding in check_boot_files(site)]
    assert missing == ['the boot loader "uefi-arm64" is not there, and cannot be built']
    uboot = site_from(DEMO.replace('firmware = "uefi-arm64"', 'firmware = "uboot"'))
    assert not list(check_firmware(uboot, {}))
    wrong = site_from(DEMO.replace('firmware = "uefi-arm64"', 'firmware = "uefi-arm46"'))
    (finding,) = check_boot_files(wrong)
    assert "uefi-arm46" in finding.problem and "uefi-arm64" in finding.remedy


def test_machines_that_secure_boot_would_keep_from_booting() -> None:
    """Where the packages of the chain are not here, those that have UEFI are named."""
    site = site_from(DEMO.replace('firmware = "uefi-arm64"', 'firmware = "bios"'))
    seen = {MAC: 7, "02:61:08:00:00:02": 16, "02:61:08:00:00:03": 0, "02:61:09:00:00:01": 7}
    (note,) = check_firmware(site, seen)
    assert note.problem.startswith("tide-01: where Secure Boot is on")
    assert "apt install shim-signed grub-efi-amd64-signed" in note.remedy
    assert not list(check_firmware(replace(site, signed=frozenset(["uefi-x64"])), seen))
    off = DEMO.replace("[client.tide-01]\n", '[client.tide-01]\nsecure-boot = "off"\n')
    off = off.replace('firmware = "uefi-arm64"', 'firmware = "bios"')
    assert not list(check_firmware(site_from(off), seen))


BIOS, UEFI, HTTP = Firmware.BIOS, Firmware.UEFI, Firmware.UEFI_HTTP
FILE, CLASS, CONTROL = {67: b"x"}, {60: b"PXEClient"}, {43: bytes((6, 1, 8, 255))}
URL, WEB = {67: b"http://a/x"}, {60: b"HTTPClient"}
NEEDS = [  # firmware, options of the replies, what is missing
    (BIOS, [FILE], None), (BIOS, [CLASS | FILE], None), (BIOS, [{}], Need.BOOT_FILE),
    (BIOS, [CLASS], Need.PXE_PORT), (UEFI, [FILE], None), (UEFI, [CLASS | FILE], Need.PXE_PORT),
    (UEFI, [CLASS | FILE | CONTROL], None), (UEFI, [{}, FILE], None),
    (UEFI, [{}, CLASS | FILE | {43: b"\0\0\6\1\0\xff"}], Need.PXE_PORT),
    (HTTP, [URL | WEB], None), (HTTP, [URL], Need.HTTP_CLASS), (HTTP, [FILE | WEB], Need.URL),
    (HTTP, [WEB], Need.BOOT_FILE), (Firmware.UBOOT, [{}], Need.NEXT_SERVER), (BIOS, [], None),
]  # fmt: skip


@pytest.mark.parametrize(("firmware", "replies", "need"), NEEDS)
def test_what_each_firmware_needs(
    firmware: Firmware, replies: list[dict[int, bytes]], need: Need | None
) -> None:
    request = boot_request(discover(Face.of(firmware), MAC, 1))
    assert request
    offers = [Packet(2, 1, bytes(16), options) for options in replies]
    assert unmet(request, offers) is need
    named = [replace(offer, file=b"boot", siaddr=NOWHERE + 1) for offer in offers]
    assert firmware.over_http or unmet(request, named) in (None, need)


def test_who_is_a_system() -> None:
    """GRUB's DISCOVER says nothing but its type, and boards that boot ask for the file."""
    asked = discover(Face.of(BIOS), MAC, 1)
    assert not is_system(asked)
    assert is_system(Packet(1, 1, bytes(16), {53: b"\1", 55: b"\1\3\6"}))
    assert not is_system(Packet(1, 1, bytes(16), {53: b"\1"}))
    assert not is_system(Packet(1, 1, bytes(16), {53: b"\1", 55: b"\1\3\x43"}))
