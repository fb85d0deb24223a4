"""GRUB's configuration for one machine."""

from __future__ import annotations

import re
import shlex
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.identity import roots_of
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files, Missing
from daskel.core.dhcp.options import Code
from daskel.core.history.events import Who
from daskel.core.site.model import Site
from tests.conftest import site_from
from tests.core.boot.sites import BASE, STRANGER, TIDE, ask, site


def config(made: Site, mac: str = TIDE, over: str = "tftp") -> str:
    found = Files(made, Ports()).content("tideroom", f"loader/{mac}.cfg", Who(), over)
    assert isinstance(found, Content) and found.data, found
    return found.data.decode()


def test_a_menu() -> None:
    made = site(client='args = ["mine"]')
    lines = config(made).splitlines()
    assert "set timeout=5" in lines and "set default=rescue" in lines
    entries = [shlex.split(line) for line in lines if line.startswith("menuentry")]
    assert [entry[1] for entry in entries] == ["notebook", "Repair it's disk", "disk"]
    assert all("--unrestricted" in entry for entry in entries)
    linux = [line.strip() for line in lines if "if linux" in line]
    assert [
        ("quiet" in line, "mine" in line, "nfsroot=10.61.8.1:/roots/rescue" in line)
        for line in linux
    ] == [
        *[(True, True, False)] * 2,
        *[(False, True, True)] * 2,
    ]
    assert lines[-2:] == ["  exit", "}"]
    assert roots_of(made, Who("tide-01", TIDE), "tideroom") == {"notebook", "rescue"}
    reply = ask(made).reply
    assert reply and reply.options[Code.ROOT_PATH].startswith(b"10.61.8.1:/roots/rescue,")


FETCHES = [  # what is written, what the configuration came over, and the devices that are tried
    ({}, "tftp", ["http", "tftp"]),
    ({"segment": 'fetch = "tftp"'}, "tftp", ["tftp"]),
    ({"segment": 'fetch = "tftp"', "client": 'fetch = "http"'}, "tftp", ["http", "tftp"]),
    ({"group": 'fetch = "tftp"'}, "http", ["http"]),
]


@pytest.mark.parametrize(("written", "over", "expected"), FETCHES)
def test_what_a_kernel_is_fetched_over(
    written: dict[str, str], over: str, expected: list[str]
) -> None:
    text = config(site(**written), over=over)
    assert re.findall(r"if linux \((\w+),", text) == expected * 2, "two entries"
    pairs = re.findall(r"if linux \((\w+),.*\n *if initrd \((\w+),", text)
    assert pairs and all(kernel == initrd for kernel, initrd in pairs)
    # GRUB loses the command line of a second kernel: after one that came, only initrds are tried
    loads = re.findall(r"(elif|if) (linux|initrd) \((\w+),", text[: text.index("}")])
    once = [("if", "linux", "http"), ("if", "initrd", "http"), ("if", "initrd", "tftp"),
            ("elif", "linux", "tftp"), ("if", "initrd", "tftp")]  # fmt: skip
    if expected == ["http", "tftp"]:
        assert loads == once


def test_each_entry_of_a_menu_is_fetched_as_its_loadout_says() -> None:
    made = site()
    rescue = made.loadouts["rescue"].model_copy(update={"fetch": "tftp"})
    made = made.with_tables("loadout", {**made.loadouts, "rescue": rescue})
    assert re.findall(r"if linux \((\w+),", config(made)) == ["http", "tftp", "tftp"]


def test_a_hidden_menu_and_a_locked_entry() -> None:
    digest = "grub.pbkdf2.sha512.10000.AB12.CD34"
    made = site(
        choice="hidden = true", more=f'[loadout.locked]\nkernel = "k"\npassword = "{digest}"'
    )
    assert "set timeout_style=hidden" in config(made)
    text = BASE.format(segment="", options="", choice="", group="", client="", more="")
    locked = site_from(text.replace('title = "Repair it\'s disk"', f'password = "{digest}"'))
    lines = config(locked).splitlines()
    assert 'set superusers="rescue"' in lines and f"password_pbkdf2 rescue {digest}" in lines
    users = {
        shlex.split(line)[1]: "--users rescue" in line
        for line in lines
        if line.startswith("menuentry")
    }
    assert users == {"notebook": False, "rescue  (user name: rescue)": True, "disk": False}


def test_a_menu_is_loaded_even_when_the_disk_is_its_default() -> None:
    text = BASE.format(segment="", options="", choice="", group="", client="", more="")
    made = site_from(text.replace('default = "rescue"', 'default = "disk"'))
    reply = ask(made).reply
    assert reply and reply.file == b"loader/bios.img"
    assert Code.ROOT_PATH not in reply.options


def test_a_stranger_boots_what_the_segment_says() -> None:
    made = site(segment='unknown = "notebook"\nargs = ["room={{ segment.name }}"]')
    text = config(made, STRANGER)
    assert "room=tideroom" in text and "BOOTIF=01-02-61-ff-00-00-01" in text
    assert roots_of(made, Who(None, STRANGER), "tideroom") == {"notebook"}
    assert not roots_of(made, Who(None, None, IPv4Address("10.61.8.100")), "tideroom")
    nothing = Files(site(), Ports()).content("tideroom", f"loader/{STRANGER}.cfg", Who(), "tftp")
    assert isinstance(nothing, Missing)
