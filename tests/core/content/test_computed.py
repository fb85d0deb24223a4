"""Paths from the network, computed files, kernel arguments, and how far a boot has come."""

from __future__ import annotations

import shlex
import struct
from zlib import crc32

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files, Missing
from daskel.core.content.grub import Entry, built_in, config_mac, configuration, with_server
from daskel.core.history.events import (
    FileKind,
    Who,
)
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from tests.conftest import DEMO, site_from


def test_the_server_is_written_into_an_image() -> None:
    """A line of the same length, so that nothing else in the image moves."""
    for loader, expected in (("uefi-x64", True), ("bios", False)):
        plain = b"head" + built_in(loader).encode() + b"tail"
        made = with_server(plain, "(tftp,10.61.8.1)")
        assert len(made) == len(plain) and (made != plain) is expected
        first = made.removeprefix(b"head").split(b"\n")[0].rstrip()
        assert not expected or first == b"configfile (tftp,10.61.8.1)/loader/$net_default_mac.cfg"


def test_computed_and_other_files(demo_site: Site) -> None:
    def get(path: str, over: str = "tftp") -> Content | Missing:
        return Files(demo_site, Ports()).content("tideroom", path, Who(), over)

    found = get("loader/02:61:08:00:00:01.cfg")
    assert isinstance(found, Content) and found.kind is FileKind.CONFIGURATION and found.data
    assert b"(tftp,10.61.8.1)/notebook/vmlinuz" in found.data
    assert get("loader/02-61-08-00-00-01.cfg") == found
    over_http = get("loader/02:61:08:00:00:01.cfg", "http")
    assert isinstance(over_http, Content) and b"(http,10.61.8.1)/not" in (over_http.data or b"")
    unknown = get("loader/02:61:ff:00:00:01.cfg")
    assert isinstance(unknown, Missing) and "02:61:ff:00:00:01" in unknown.reason
    kinds = {
        path: get(path)
        for path in ("loader/bios.img", "notebook/vmlinuz", "logger/initrd.img", "x")
    }
    assert [c.kind for c in kinds.values() if isinstance(c, Content)] == [
        FileKind.LOADER,
        FileKind.KERNEL,
        FileKind.INITRD,
        FileKind.OTHER,
    ]
    assert config_mac("loader/menu.cfg") is None


def test_the_configuration_of_the_one_who_asks(demo_site: Site) -> None:
    """For GRUB without an address of its own: by who asks, else by its cards."""
    files, own = Files(demo_site, Ports()), Who("tide-01", "02:61:08:00:00:01")
    found = files.content("tideroom", "loader/own.cfg", own, "http")
    named = files.content("tideroom", "loader/02:61:08:00:00:01.cfg", own, "http")
    assert isinstance(found, Content) and found == named and found.told
    unknown = files.content("tideroom", "loader/own.cfg", Who(), "http")
    assert isinstance(unknown, Content) and unknown.data
    line = b'if [ -n "$net_efinet1_dhcp_mac" ]; then configfile (http,10.61.8.1)/loader/$net_efinet1_dhcp_mac.cfg; fi'
    assert line in unknown.data.splitlines()


def test_the_script_of_uboot(demo_site: Site) -> None:
    """In U-Boot's own image format: header and data have a checksum each."""
    files = Files(demo_site, Ports())
    found = files.content("boathouse", "boot.scr.uimg", Who("buoy-1", "02:61:0a:00:00:01"), "tftp")
    assert isinstance(found, Content) and found.data and found.told[0].loadout == "logger"
    head, data = found.data[:64], found.data[64:]
    magic, own, _, size, _, _, of_data = struct.unpack("!7I", head[:28])
    assert (magic, size, head[30]) == (0x27051956, len(data), 6)
    assert own == crc32(head[:4] + bytes(4) + head[8:]) and of_data == crc32(data)
    length, end = struct.unpack("!2I", data[:8])
    assert (length, end) == (len(data) - 8, 0)
    text = data[8:].decode()
    assert "tftpboot ${kernel_addr_r} logger/Image" in text and "root=/dev/nfs" in text
    assert "setenv daskel_initrd ${ramdisk_addr_r}:${filesize}" in text
    nobody = files.content("boathouse", "boot.scr.uimg", Who(), "tftp")
    assert isinstance(nobody, Missing)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('boot = "logger"', 'boot = "disk"', "starts from its own disk"),
        ('initrd = ["logger/initrd.img"]', 'initrd = ["a", "b", "c"]', "setexpr daskel_size"),
        ('unknown = "refuse"', 'unknown = "lobby"', ""),
    ],
)
def test_what_the_script_does(old: str, new: str, words: str) -> None:
    site = site_from(DEMO.replace(old, new)) if old in DEMO else site_from(DEMO)
    who = Who("buoy-1", "02:61:0a:00:00:01")
    found = Files(site, Ports()).content("boathouse", "boot.scr.uimg", who, "tftp")
    assert isinstance(found, Content) and words.encode() in (found.data or b"")


@given(
    st.lists(
        st.text(st.characters(codec="ascii", categories=("L", "N", "P", "S", "Zs"))), max_size=5
    )
)
def test_arguments_are_quoted_for_the_loader(demo_site: Site, words: list[str]) -> None:
    found = effective(demo_site, "lib-01")
    arguments = tuple(type(found.mac)(word, found.mac.origin) for word in words if word)
    assert found.loadout
    entry = Entry("notebook", found.loadout, arguments, ["(tftp,10.61.8.1)"])
    text = configuration(found, [entry], "Skerry Point")
    (line,) = (line for line in text.splitlines() if line.startswith("if linux "))
    read = shlex.split(line.removesuffix("; then"))
    assert read[3:] == [argument.value.replace('"', "") for argument in arguments]


def test_a_local_boot_leaves_the_loader() -> None:
    site = site_from(DEMO.replace('boot = "tideroom"', 'boot = "disk"'))
    found = effective(site, "tide-01")
    assert found.loadout
    text = configuration(found, [Entry("disk", found.loadout)], "x")
    assert text.splitlines()[-1] == "exit"
