"""Paths from the network, computed files, kernel arguments, and how far a boot has come."""

from __future__ import annotations

import shlex
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.arguments import ArgumentError, check_arguments, compose
from daskel.core.boot.files import (
    Content,
    FileKind,
    Files,
    Missing,
    PathRefusedError,
    by_folded,
    clean_path,
    nearest,
)
from daskel.core.boot.identity import Who
from daskel.core.boot.kernel import exports_text
from daskel.core.boot.loader import Entry, built_in, config_mac, configuration, with_server
from daskel.core.boot.misses import harmless
from daskel.core.boot.segments import of_peer
from daskel.core.boot.stages import (
    Addressed,
    Event,
    FileMissing,
    FileSent,
    Mounted,
    Refused,
    Seen,
    Stage,
    stage_after,
)
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from tests.conftest import DEMO, SERVER, site_from


def test_the_server_is_written_into_an_image() -> None:
    """A line of the same length, so that nothing else in the image moves."""
    for loader, expected in (("uefi-x64", True), ("bios", False)):
        plain = b"head" + built_in(loader).encode() + b"tail"
        made = with_server(plain, "(tftp,10.61.8.1)")
        assert len(made) == len(plain) and (made != plain) is expected
        first = made.removeprefix(b"head").split(b"\n")[0].rstrip()
        assert not expected or first == b"configfile (tftp,10.61.8.1)/loader/$net_default_mac.cfg"


PATHS = [
    (b"loader/bios.img", "loader/bios.img"),
    (b"/loader/bios.img", "loader/bios.img"),
    (b"//loader///bios.img", "loader/bios.img"),
    (b"loader\\bios.img", "loader/bios.img"),
    (b"./loader/./x", "loader/x"),
    (b"...", "..."),
    ("buoy-\u00e4".encode(), "buoy-\u00e4"),
    (b"..", PathRefusedError),
    (b"a/../b", PathRefusedError),
    (b"..\\..\\etc\\passwd", PathRefusedError),
    (b"a\0b", PathRefusedError),
    (b"a\nb", PathRefusedError),
    (b"\xff\xfe", PathRefusedError),
    (b"", PathRefusedError),
    (b"///", PathRefusedError),
    (b"x" * 256, PathRefusedError),
    (b"x/" * 5000, PathRefusedError),
]


@pytest.mark.parametrize(("asked", "expected"), PATHS)
def test_paths(asked: bytes, expected: str | type[Exception]) -> None:
    if isinstance(expected, str):
        assert clean_path(asked) == expected
    else:
        with pytest.raises(expected):
            clean_path(asked)


@given(st.binary(max_size=60))
def test_no_path_leads_out(asked: bytes) -> None:
    try:
        path = clean_path(asked.replace(b"\1", b"../").replace(b"\2", b"/"))
    except PathRefusedError:
        return
    assert not path.startswith("/") and ".." not in path.split("/") and path.isprintable()


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


WITH_TEMPLATE = DEMO.replace("hostname={{ client.name }}", "{0}")
TEMPLATES = [
    ("name={{ client.name }}-{{ segment.name }}", "name=tide-02-tideroom"),
    ("m={{ client.mac_dashed }}", "m=02-61-08-00-00-02"),
    ("a={{ client.address }}", "a=10.61.8.22"),
    ("s={{ segment.server }},{{ site.name | lower }}", "s=10.61.8.1,skerry point"),
    ("{{ client.nam }}", "there is no variable 'nam'"),
    ("{{ clint.name }}", "there is no variable 'clint'"),
    ("{{ client.name", "unexpected end of template"),
    ("{{ 1 // 0 }}", "zero"),
    ("{{ ''.__class__.__mro__ }}", "unsafe"),
    ("{{ client.name.format.__globals__ }}", ""),
]


@pytest.mark.parametrize(("template", "expected"), TEMPLATES)
def test_templates(template: str, expected: str) -> None:
    site = site_from(WITH_TEMPLATE.replace("{0}", template))
    found = effective(site, "tide-02")
    findings = check_arguments(site, Ports())
    try:
        line = compose(site, found, site.segments["tideroom"], Ports(), None)
    except ArgumentError as error:
        assert expected in str(error)
        assert (
            findings and findings[0].origin.line == site.origin("loadout", "notebook", "args").line
        )
        assert "client.mac_dashed" in findings[0].remedy
        assert len(findings) == 1, "the same mistake is said once, not once per client"
    else:
        assert expected in [argument.value for argument in line] and not findings


def test_the_administrators_root_replaces_daskels() -> None:
    site = site_from(DEMO.replace('"-quiet"', '"root=/dev/sda1", "-quiet"'))
    line = compose(site, effective(site, "tide-01"), site.segments["tideroom"], Ports(), None)
    values = [argument.value for argument in line]
    assert "root=/dev/sda1" in values and "root=/dev/nfs" not in values and "ip=dhcp" in values


def test_a_line_that_the_kernel_would_cut_is_found() -> None:
    site = site_from(DEMO.replace('"-quiet"', f'"{"x" * 2000}"'))
    (finding,) = check_arguments(site, Ports())
    assert "2047" in finding.problem and "tide-01" in finding.problem


@given(
    st.lists(
        st.text(st.characters(codec="ascii", categories=("L", "N", "P", "S", "Zs"))), max_size=5
    )
)
def test_arguments_are_quoted_for_the_loader(demo_site: Site, words: list[str]) -> None:
    found = effective(demo_site, "lib-01")
    arguments = tuple(type(found.mac)(word, found.mac.origin) for word in words if word)
    assert found.loadout
    entry = Entry("notebook", found.loadout, arguments)
    text = configuration(found, "(tftp,10.61.8.1)", [entry], "Skerry Point")
    (line,) = (line for line in text.splitlines() if line.startswith("if linux "))
    read = shlex.split(line.removesuffix("; then"))
    assert read[3:] == [argument.value for argument in arguments]


def test_a_local_boot_leaves_the_loader() -> None:
    site = site_from(DEMO.replace('boot = "tideroom"', 'boot = "disk"'))
    found = effective(site, "tide-01")
    assert found.loadout
    text = configuration(found, "(tftp,10.61.8.1)", [Entry("disk", found.loadout)], "x")
    assert text.splitlines()[-1] == "exit"


WHO = Who("tide-01", "02:61:08:00:00:01")
FIRMWARE, SYSTEM = (
    Seen(WHO, "tideroom", "x86 BIOS", "PXEClient"),
    Seen(WHO, "tideroom", None, "udhcp"),
)
ACK = Addressed(WHO, "tideroom", IPv4Address("10.61.8.21"), 60, None, False)


def sent(kind: FileKind) -> FileSent:
    return FileSent(WHO, "x", kind, 1, 0.1, "tftp")


BOOTS: list[tuple[list[Event], Stage | None]] = [
    ([FileMissing(WHO, "x", "tftp", "")], None),
    ([FIRMWARE], Stage.SEEN),
    ([FIRMWARE, ACK], Stage.ADDRESSED),
    ([FIRMWARE, ACK, sent(FileKind.LOADER)], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.LOADER), sent(FileKind.OTHER)], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.INITRD), ACK], Stage.INITRD),
    ([FIRMWARE, ACK, sent(FileKind.KERNEL), SYSTEM, ACK], Stage.RUNNING),
    ([FIRMWARE, ACK, sent(FileKind.LOADER), SYSTEM, ACK], Stage.LOADER),
    ([FIRMWARE, ACK, sent(FileKind.KERNEL), SYSTEM, ACK, Mounted(WHO, "r")], Stage.ROOT),
    ([Mounted(WHO, "r"), FIRMWARE], Stage.SEEN),
    ([SYSTEM], Stage.SEEN),
    ([FIRMWARE, Refused(WHO, "tideroom", "x")], Stage.REFUSED),
    ([FIRMWARE, ACK, Refused(WHO, "tideroom", "x")], Stage.ADDRESSED),
]


@pytest.mark.parametrize(("events", "stage"), BOOTS)
def test_stages(events: list[Event], stage: Stage | None) -> None:
    reached: Stage | None = None
    for event in events:
        reached = stage_after(reached, event)
    assert reached is stage


def test_the_practice_wire_leads_there_and_back(demo_site: Site) -> None:
    wire, server = Wire(Ports.from_base(20000), loopback=True), SERVER
    outside = wire.outside(IPv4Address("10.61.10.140"))
    assert outside == "127.61.10.140"
    assert wire.inside(server, outside) == IPv4Address("10.61.10.140")
    assert of_peer(demo_site, server, IPv4Address("10.61.10.140")) == "boathouse"
    assert of_peer(demo_site, server, IPv4Address("10.99.0.1")) == "tideroom"
    assert Wire().outside(server) == "10.61.8.1"


NAMES = ["notebook/vmlinuz", "rescue/vmlinuz", "rescue/initrd.img", "Loader/A.img", "loader/a.img"]
NEAR = [
    ("notebook/vmlinux", ["notebook/vmlinuz"]),
    ("vmlinuz", ["notebook/vmlinuz", "rescue/vmlinuz"]),
    ("rescue/inird.img", ["rescue/initrd.img"]),
    ("else/where", []),
]


@pytest.mark.parametrize(("path", "expected"), NEAR)
def test_nearest_names(path: str, expected: list[str]) -> None:
    assert nearest(path, NAMES) == expected


MISSES = [  # as GRUB 2.06 asked, in its order
    ("/grub/grub.cfg-00000000-0000-0000-0000-000000000000", True),
    ("/grub/grub.cfg-01-02-61-08-00-00-05", True),
    ("/grub/grub.cfg-0A3D088D", True),
    ("/grub/grub.cfg-0", True),
    ("/grub/i386-pc/command.lst", True),
    ("/grub/grub.cfg", False),
    ("/grub/i386-pc/normal.mod", False),
    ("grub.cfg-old", False),
    ("notebook/vmlinuz", False),
]


@pytest.mark.parametrize(("path", "expected"), MISSES)
def test_what_is_asked_for_without_need(path: str, expected: bool) -> None:
    assert bool(harmless(path)) is expected


def test_names_without_upper_and_lower_case() -> None:
    folded = by_folded(NAMES)
    assert folded["rescue/vmlinuz"] == "rescue/vmlinuz"
    assert "loader/a.img" not in folded, "two are the same then"


def test_the_exports_file_of_the_operating_system() -> None:
    text = exports_text({"/run/a b": (["10.61.8.22", "10.61.8.21"], True), "/run/c": ([], False)})
    comment, line = text.splitlines()
    assert comment.startswith("#"), "and nothing for a path that nobody may have"
    path, one, two = line.split(" ")
    assert path == r'"/run/a\040b"' and one.startswith("10.61.8.21(rw,sync,no_root_squash")
    assert one.partition("fsid=")[2] == two.partition("fsid=")[2] != "", "the same file system"
    assert (
        exports_text({"/run/a b": (["10.61.8.21"], False)})
        .splitlines()[1]
        .split(",")[0]
        .endswith("(ro")
    )
