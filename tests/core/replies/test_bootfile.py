"""Which boot file each firmware gets."""

from __future__ import annotations

from dataclasses import replace

import pytest

from daskel.core.dhcp.client_messages import LOADER, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.pxe import ARCHITECTURES, BootRequest, architecture_name
from daskel.core.replies.bootfile import check_boot_files
from tests.conftest import DEMO, site_from
from tests.core.replies.asking import answers, arrive

WRITTEN = DEMO.replace("[group.tide]", """[firmware.desk]
vendor-class = "PXEClient:Arch:00000:*"
user-class = "desk-*"

[firmware.old-board]
architecture = [21, "arm-64-u-boot"]

[group.tide]
boot-file = { desk = "desk/start.bin", uefi-x64 = "own/{{ client.name }}.efi", arm-rpiboot = "none" }""").replace(
    'name = "Skerry Point"', 'name = "Skerry Point"\nboot-file = { old-board = "boards/start.bin", default = "none" }'
)  # fmt: skip
WRITTEN = WRITTEN.replace("[client.tide-02]", '[client.tide-02]\nboot-file = "own.bin"')


def firmware(architecture: int, user: bytes = b"", http: bool = False) -> BootRequest:
    protocol = "HTTPClient" if http else "PXEClient"
    return BootRequest(
        architecture, f"{protocol}:Arch:{architecture:05}:UNDI:002001".encode(), b"", user
    )


FILES: list[tuple[str, BootRequest, str | None]] = [
    ("tide-01", firmware(0, b"\x07desk-01"), "desk/start.bin"),
    ("tide-01", firmware(0, b"desk-01"), "desk/start.bin"),  # as some firmware writes it
    ("tide-01", firmware(0, b"\x03abc\x07desk-02"), "desk/start.bin"),
    ("tide-01", firmware(0), None),
    ("tide-01", firmware(7), "own/tide-01.efi"),
    ("tide-01", firmware(9), "own/tide-01.efi"),
    ("tide-01", firmware(16, http=True), None),
    ("tide-01", firmware(21), "boards/start.bin"),
    ("tide-01", firmware(22), "boards/start.bin"),
    ("tide-01", firmware(41), None),
    ("tide-01", firmware(999), None),
    ("tide-02", firmware(0, b"desk-01"), "own.bin"),
    ("tide-02", firmware(16, http=True), "http://10.61.8.1/own.bin"),
]


@pytest.mark.parametrize(("name", "boot", "expected"), FILES)
def test_boot_files(name: str, boot: BootRequest, expected: str | None) -> None:
    who = answers(WRITTEN)
    assert not list(check_boot_files(who.site))
    asks = discover(LOADER, who.site.clients[name].mac, 1)
    options = {60: boot.vendor_class, 93: boot.architecture.to_bytes(2, "big")}
    if boot.user_class:
        options[77] = boot.user_class
    reply = arrive(who, replace(asks, options={**asks.options, **options}), "tideroom").reply
    assert reply and reply.yiaddr
    found = reply.file or reply.options.get(Code.BOOT_FILE, b"")
    assert found.decode() == (expected or "")
    assert (Code.VENDOR_CLASS in reply.options) is (expected is not None)


def test_names_of_architectures() -> None:
    names = [architecture_name(number) for number in ARCHITECTURES]
    assert len(set(names)) == len(names) - 1, "only 7 and 9 are the same"
    assert architecture_name(41) == "arm-rpiboot" and architecture_name(999) == "type-999"


WRONG_FIRMWARE = [
    (
        'user-class = "desk-*"',
        'user-class = "desk-*"\narchitecture = ["uefi-x46"]',
        "there is no architecture 'uefi-x46'",
    ),
    ('architecture = [21, "arm-64-u-boot"]', "", "says nothing that a machine could be known by"),
    ("{ desk = ", "{ dest = ", "there is no firmware 'dest'"),
]


@pytest.mark.parametrize(("old", "new", "problem"), WRONG_FIRMWARE)
def test_wrong_firmware(old: str, new: str, problem: str) -> None:
    (finding,) = check_boot_files(site_from(WRITTEN.replace(old, new)))
    assert problem in finding.problem and finding.origin.line > 1 and finding.remedy
