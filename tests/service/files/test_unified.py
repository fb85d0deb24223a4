"""Images that are put together as they are asked for: every byte of them, over TFTP and HTTP."""

from __future__ import annotations

import os
import socket
import subprocess
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import stub_path
from daskel.core.dhcp.client_messages import FACES
from daskel.core.efi.pe import HEADS, parse
from daskel.core.efi.signature import look
from daskel.core.history.events import FileKind
from daskel.core.reader import MalformedError
from daskel.rehearse.client import boot
from daskel.rehearse.fetch import get_address, tftp_pieces
from daskel.service.files.opened import Opened
from daskel.service.files.unified import UnifiedImages
from tests.conftest import PATIENCE, Serve, Serving, SiteText, daskel
from tests.core.efi.programs import SBAT, program

FIRST, SECOND = "tide-01", "tide-02"
ADDRESSES = {FIRST: "10.61.8.21", SECOND: "10.61.8.22"}
KERNEL, INITRD = os.urandom(300_001), os.urandom(2_000_003)
ARGUMENTS = 'args = ["hostname={{ client.name }}"]\n'
STUB = program((b".text", b"code" * 300), (b".sbat", SBAT))


MENU = '[choice.plain]\nentries = ["whole", "disk"]\ndefault = "whole"\n'


@pytest.fixture
def room(serve: Serve, demo_folder: Path, request: pytest.FixtureRequest) -> Serving:
    """Two machines of the demo without a boot loader; the parameter says whether the site has a
    key."""
    lay_out_room(demo_folder)
    if request.param:
        assert daskel("keys", "make", cwd=demo_folder).returncode == 0
    return serve(demo_folder)


def lay_out_room(demo_folder: Path, more: str = "", loadout: str = "plain") -> None:
    site, files = demo_folder / "daskel.toml", demo_folder / "files"
    text = SiteText(site.read_text())
    for name in ADDRESSES:
        keys = f'[client.{name}]\nboot = "plain"\nloader = "none"\n{more}'
        text = text.replace(f"[client.{name}]\n", keys)
    site.write_text(
        text + f"[loadout.{loadout}]\n" + 'kernel = "k"\ninitrd = ["i", "j"]\n' + ARGUMENTS
    )
    (files / "k").write_bytes(KERNEL)
    (files / "i").write_bytes(INITRD)
    (files / "j").write_bytes(b"more")
    (files / stub_path(CHAINS["uefi-x64"])).write_bytes(STUB)


def signed_chain(files: Path) -> None:
    for path in CHAINS["uefi-x64"].files:
        (files / path).parent.mkdir(exist_ok=True)
        (files / path).write_bytes(STUB)


def path_of(name: str) -> str:
    return f"loader/02-61-08-00-00-{name[-2:]}.x64.efi"


def curl(room: Serving, name: str, *words: str, own: str | None = None) -> bytes:
    """The image of `name`, asked for by the machine `own`."""
    url = f"http://{room.address()}:{room.wire.ports.http}/{path_of(name)}"
    address = room.wire.outside(IPv4Address(ADDRESSES[own or name]))
    command = ["curl", "-s", "--interface", address, *words, url]
    return subprocess.run(command, check=True, capture_output=True, timeout=PATIENCE).stdout


def by_tftp(room: Serving, name: str) -> bytes:
    server, own = IPv4Address("10.61.8.1"), IPv4Address(ADDRESSES[name])
    face = FACES["uefi-x64"]
    return b"".join(tftp_pieces(room.wire, own, server, path_of(name), face, []))


def simulated(room: Serving, name: str) -> None:
    """It has its address, and is known by it."""
    mac = f"02:61:08:00:00:{name[-2:]}"
    done = boot(room.wire, IPv4Address("10.61.8.1"), name, mac, FACES["uefi-x64"], lambda _: None)
    assert done.stage == "running kernel" and not done.problem, done
    assert f"hostname={name}" in done.command_line, done.command_line


def section(image: bytes, name: str) -> bytes:
    found = parse(image[:HEADS]).section(name)
    assert found
    return image[found.offset : found.offset + found.size]


@pytest.mark.parametrize("room", [False, True], indirect=True, ids=["unsigned", "signed"])
def test_each_machine_has_its_own_image(room: Serving) -> None:
    signed = (room.folder / "keys").exists()
    images = {}
    for name in ADDRESSES:
        simulated(room, name)
        images[name] = image = by_tftp(room, name)
        assert curl(room, name) == image
        assert section(image, ".linux") == KERNEL
        assert section(image, ".initrd")[: len(INITRD)] == INITRD
        assert f"hostname={name}" in section(image, ".cmdline").decode()
        found = look(len(image), lambda at, count, image=image: image[at : at + count])  # type: ignore[misc]
        assert bool(found.signers) is signed and not found.damaged and found.sbat
        for begin, end in ((0, 100), (60_000, 70_000), (310_000, 1_000_000)):
            assert curl(room, name, "-r", f"{begin}-{end}") == image[begin : end + 1]
        tail = len(image) - 3
        assert curl(room, name, "-r", f"{tail}-") == image[tail:]
    assert images[FIRST] != images[SECOND] and len(images[FIRST]) == len(images[SECOND])
    refused = curl(room, FIRST, "-w", "%{http_code}", own=SECOND)
    assert refused.endswith(b"403"), "it has another machine's command line, and files"
    sent = room.wait_for("file-sent", path=path_of(FIRST))
    assert (sent["kind"], sent["client"]) == ("unified image", FIRST)


def tag_of(room: Serving, name: str) -> str:
    lines = curl(room, name, "-I").decode().lower().splitlines()
    return next(line for line in lines if line.startswith("etag"))


@pytest.mark.parametrize("room", [True], indirect=True)
def test_a_file_that_changes_is_in_the_next_image(room: Serving) -> None:
    simulated(room, FIRST)
    before, tag = curl(room, FIRST), tag_of(room, FIRST)
    assert tag_of(room, FIRST) == tag
    other = bytes(reversed(KERNEL))
    (room.folder / "files/k").write_bytes(other)
    after = by_tftp(room, FIRST)
    assert section(after, ".linux") == other and section(before, ".linux") == KERNEL
    assert tag_of(room, FIRST) != tag
    found = look(len(after), lambda at, count: after[at : at + count])
    assert found.signers == ("Skerry Point boot",) and not found.damaged


@pytest.mark.parametrize("room", [True], indirect=True)
def test_what_no_image_can_be_made_of(room: Serving) -> None:
    simulated(room, FIRST)
    (room.folder / "files" / stub_path(CHAINS["uefi-x64"])).write_bytes(b"<html>not found</html>")
    said = curl(room, FIRST, "-w", "%{http_code}")
    assert said.endswith(b"404") and b"EFI program" in said, said
    (room.folder / "files" / stub_path(CHAINS["uefi-x64"])).write_bytes(STUB)
    (room.folder / "files/i").unlink()
    assert curl(room, FIRST, "-w", "%{http_code}").endswith(b"404")
    missing = room.wait_for("file-missing", path=path_of(FIRST))
    assert missing["client"] == FIRST
    (room.folder / "files/i").write_bytes(INITRD)
    assert section(curl(room, FIRST), ".linux") == KERNEL, "it goes on"
    with pytest.raises(MalformedError):
        parse(b"<html>")


@pytest.mark.parametrize("room", [True], indirect=True)
def test_who_asks_often_leaves_room_for_others(room: Serving) -> None:
    """While an image is read for the first time, which takes seconds."""
    os.truncate(room.folder / "files/i", 1 << 30)
    for number, name in enumerate(ADDRESSES):
        mac = f"02:61:08:00:00:{name[-2:]}"
        get_address(room.wire, IPv4Address("10.61.8.1"), FACES["uefi-x64"], mac, number)
    request = b"\0\1" + path_of(FIRST).encode() + b"\0octet\0"
    peers = {name: room.wire.outside(IPv4Address(ADDRESSES[name])) for name in ADDRESSES}
    to = (room.address(), room.wire.ports.tftp)
    for _ in range(300):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
            one.bind((peers[FIRST], 0))
            one.sendto(request, to)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
        other.bind((peers[SECOND], 0))
        other.settimeout(PATIENCE)
        other.sendto(request.replace(b"-01.x64", b"-02.x64"), to)
        assert other.recv(1024)[:4] == b"\0\3\0\1"


def test_few_images_are_remembered() -> None:
    images = UnifiedImages(None)
    for number in range(20):
        files = [
            Opened("", FileKind.KERNEL, len(data), data=data) for data in (STUB, bytes(number + 1))
        ]
        opened = images.open("x.efi", files, "quiet")
        assert section(opened.read(0, opened.size), ".linux") == bytes(number + 1)
        opened.close()
    assert len(images._made) == 16
    images.close()


def test_a_menu_of_images(serve: Serve, demo_folder: Path) -> None:
    """Where shim trusts nothing but the site's key; and what is said of the image."""
    lay_out_room(demo_folder, 'secure-boot = "mok"\n', "whole")
    signed_chain(demo_folder / "files")
    site = demo_folder / "daskel.toml"
    site.write_text(site.read_text() + MENU)
    assert daskel("keys", "make", cwd=demo_folder).returncode == 0
    room = serve(demo_folder)
    done = boot(
        room.wire, IPv4Address("10.61.8.1"), FIRST, "02:61:08:00:00:01", FACES["uefi-x64"],
        lambda _: None,
    )  # fmt: skip
    entry = "loader/02-61-08-00-00-01.x86_64/entry-whole.efi"
    assert [got.path for got in done.files if got.what == "image"] == [entry], done
    assert done.stage == "running kernel" and "hostname=tide-01" in done.command_line
    shown = daskel("files", "show", entry, "--as", FIRST, cwd=demo_folder).stdout
    assert "hostname=tide-01" in shown and "signed by the site's key" in shown and "  k\n" in shown
    explained = daskel("explain", FIRST, "--firmware", "uefi-x64", cwd=demo_folder).stdout
    assert "entry-whole.efi" in explained and "the site's key (keys/site.pem)" in explained
