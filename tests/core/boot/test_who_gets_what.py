"""Options, menus, files of one's own, strangers: from the site file to what goes on the wire."""

from __future__ import annotations

import shlex
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.address import Leases
from daskel.core.boot.answer import Answer, Answers, check_sizes
from daskel.core.boot.arguments import check_arguments
from daskel.core.boot.files import Content, Files, Missing, check_files
from daskel.core.boot.identity import Who, roots_of
from daskel.core.boot.options import check_options
from daskel.core.boot.stages import Refused
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet
from daskel.core.dhcp.pxe import Firmware
from daskel.core.site.finding import Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.rehearse.firmware import SYSTEM, Face, discover
from tests.conftest import site_from

BASE = """format = 1
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
{segment}
[option.desk-broker]
code = 224
type = "text"
[option.panel]
code = 7
type = "u16"
inside = "vendor-specific"
vendor = "SkerryPanel"
[option.bundle]
code = 230
type = "list"
[option.first]
code = 1
type = "text"
inside = "bundle"
[option.second]
code = 2
type = "boolean"
inside = "bundle"
{options}
[root.notebook]
[root.rescue]
[loadout.notebook]
kernel = "k"
initrd = "i"
root = "notebook"
args = ["quiet"]
[loadout.rescue]
kernel = "r"
title = "Repair it's disk"
root = "rescue"
[loadout.disk]
boot = "local"
[choice.menu]
entries = ["notebook", "rescue", "disk"]
default = "rescue"
wait = "5s"
{choice}
[group.tide]
segment = "tideroom"
boot = "menu"
{group}
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
serial = "s4711"
{client}
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
{more}
"""
TIDE, STRANGER = "02:61:08:00:00:01", "02:61:ff:00:00:01"


def site(**parts: str) -> Site:
    names = ("segment", "options", "choice", "group", "client", "more")
    return site_from(BASE.format(**(dict.fromkeys(names, "") | parts)))


def ask(made: Site, mac: str = TIDE, **options: bytes) -> Answer:
    packet = discover(Face.of(Firmware.BIOS) if not options else SYSTEM, mac, 1)
    more = {Code[name].value: value for name, value in options.items()}
    packet = Packet(1, 1, packet.chaddr, {**packet.options, **more})
    return Answers(made, Leases(), Ports()).dhcp("tideroom", packet, 0.0, unicast=False)


OPTIONS: list[tuple[dict[str, str], int, bytes | None]] = [  # parts, code, value in the reply
    ({"group": 'options = { desk-broker = "b.example" }'}, 224, b"b.example"),
    ({"group": 'options = { desk-broker = "b" }', "client": 'options = { desk-broker = "c" }'}, 224, b"c"),
    ({"group": 'options = { desk-broker = "b" }', "client": "options = { desk-broker = false }"}, 224, None),
    ({"segment": 'options = { ntp-servers = "10.61.8.1" }'}, 42, bytes((10, 61, 8, 1))),
    ({"segment": 'router = "10.61.8.1"', "client": 'options = { router = "10.61.8.2" }'}, 3, bytes((10, 61, 8, 2))),
    ({"client": 'options = { host-name = "other" }'}, 12, b"other"),
    ({"client": "options = { first = \"x\", second = true }"}, 230, b"\1\1x\2\1\1"),
    ({"client": "options = { panel = 258 }"}, 43, b"\6\1\x08\xff"),  # its firmware needs this
    ({"client": 'options = { vendor-class = "mine" }'}, 60, b"PXEClient"),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "code", "value"), OPTIONS)
def test_options_in_the_reply(parts: dict[str, str], code: int, value: bytes | None) -> None:
    made = site(**parts)
    assert not check_options(made)
    reply = ask(made).reply
    assert reply and reply.options.get(code) == value


def test_vendor_options_go_to_their_vendor_alone() -> None:
    made = site(client="options = { panel = 258 }")
    for vendor, expected in ((b"SkerryPanel-2", b"\7\2\1\2"), (b"other", None)):
        reply = ask(made, VENDOR_CLASS=vendor).reply
        assert reply and reply.options.get(Code.VENDOR_SPECIFIC) == expected


WRONG_OPTIONS = [
    ({"client": 'options = { desk-brokr = "b" }'}, "no option 'desk-brokr'", "did you mean desk-broker?"),
    ({"client": 'options = { zzzz = "b" }'}, "no option 'zzzz'", "[option.zzzz]"),
    ({"client": "options = { desk-broker = 3 }"}, "desk-broker (text): must be text", "correct"),
    ({"group": "options = { interface-mtu = 70000 }"}, "from 0 to 65535", "correct"),
    ({"client": "options = { lease-time = 3 }"}, "made by Daskel", "lease ="),
    ({"options": '[option.own]\ncode = 42\ntype = "text"'}, "option 42 is ntp-servers (RFC 2132", "224 to 254"),
    ({"options": '[option.own]\ncode = 224\ntype = "text"'}, "have the same code 224", "its own"),
    ({"options": '[option.own]\ncode = 3\ntype = "u8"\ninside = "bundel"'}, "no option 'bundel'", "bundle"),
    ({"options": '[option.own]\ncode = 3\ntype = "u8"\ninside = "router"'}, "no option 'router' that carries", ""),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "problem", "remedy"), WRONG_OPTIONS)
def test_wrong_options(parts: dict[str, str], problem: str, remedy: str) -> None:
    (finding,) = check_options(site(**parts))
    assert problem in finding.problem and remedy in finding.remedy
    assert finding.origin.line > 6


def config(made: Site, mac: str = TIDE) -> str:
    found = Files(made, Ports()).content("tideroom", f"loader/{mac}.cfg", Who(), "tftp")
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
        (True, True, False),
        (False, True, True),
    ]
    assert lines[-2:] == ["  exit", "}"]
    assert roots_of(made, Who("tide-01", TIDE), "tideroom", {}) == {"notebook", "rescue"}
    reply = ask(made).reply
    assert reply and reply.options[Code.ROOT_PATH].startswith(b"10.61.8.1:/roots/rescue,")


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


UNKNOWN = [  # (segment's lines, MAC address, gets an address, gets a boot file, said)
    ("", STRANGER, True, False, ""),
    ('unknown = "notebook"', STRANGER, True, True, ""),
    ('unknown = "disk"', STRANGER, True, False, ""),
    ('unknown = "refuse"', STRANGER, False, False, "says refuse"),
    ('unknown = "refuse"', TIDE, True, True, ""),
    ('allow = ["02:61:ff"]', STRANGER, True, False, ""),
    ('allow = ["02-61-FE"]', STRANGER, False, False, "not in the list"),
    ('allow = ["02-61-FE"]', TIDE, True, True, ""),
    ('refuse = ["0261ff000001"]', STRANGER, False, False, "refused by daskel.toml:7:11 (02:61:ff"),
    ('refuse = ["02:61:08"]', TIDE, False, False, "refused by daskel.toml:7:11 (02:61:08)"),
]


@pytest.mark.parametrize(("lines", "mac", "address", "boots", "said"), UNKNOWN)
def test_who_is_let_in(lines: str, mac: str, address: bool, boots: bool, said: str) -> None:
    answer = ask(site(segment=lines), mac)
    assert bool(answer.reply) is address
    assert bool(answer.reply and answer.reply.file) is boots
    reasons = [event.reason for event in answer.events if isinstance(event, Refused)]
    assert (said in reasons[0]) if said else not reasons


def test_a_stranger_boots_what_the_segment_says() -> None:
    made = site(segment='unknown = "notebook"\nargs = ["room={{ segment.name }}"]')
    text = config(made, STRANGER)
    assert "room=tideroom" in text and "BOOTIF=01-02-61-ff-00-00-01" in text
    assert roots_of(made, Who(None, STRANGER), "tideroom", {}) == {"notebook"}
    assert not roots_of(made, Who(None, None, IPv4Address("10.61.8.100")), "tideroom", {})
    nothing = Files(site(), Ports()).content("tideroom", f"loader/{STRANGER}.cfg", Who(), "tftp")
    assert isinstance(nothing, Missing)


FILES = """
[file."boards/{{ client.mac_dashed }}/cmdline.txt"]
text = "{{ arguments }} at {{ client.address }}"
[file."{{ client.serial }}/config.txt"]
text = '''
kernel={{ kernel }}
initrd={{ initrd }}
'''
[file."room.txt"]
text = "{{ client.name }} in {{ segment.name }}"
[file."{{ client.serial }}/*"]
folder = "boards"
"""


def test_files_of_ones_own() -> None:
    made = site(more=FILES)
    files = Files(made, Ports())
    one, two = Who("tide-01", TIDE, IPv4Address("10.61.8.100")), Who("tide-02", "02:61:08:00:00:02")

    def get(path: str, who: Who) -> str:
        found = files.content("tideroom", path, who, "tftp")
        return (found.data or b"").decode() if isinstance(found, Content) else found.reason

    board = get("boards/02-61-08-00-00-01/cmdline.txt", one)
    assert board.startswith("root=/dev/nfs") and board.endswith(" at 10.61.8.100")
    assert get("boards/02-61-08-00-00-01/cmdline.txt", two) == "there is no variable 'address'"
    assert get("s4711/config.txt", two) == "kernel=r\ninitrd=\n"
    assert get("room.txt", one) == "tide-01 in tideroom"
    assert get("room.txt", two) == "tide-02 in tideroom"
    assert "nobody knows who asks" in get("room.txt", Who())
    own = files.content("tideroom", "s4711/overlays/x.bin", two, "tftp")
    assert isinstance(own, Content)
    places = ("clients/tide-02", "groups/tide", "s4711/overlays/x.bin", "boards/overlays/x.bin")
    assert [place.removesuffix("/s4711/overlays/x.bin") for place in own.places] == list(places)
    plain = files.content("tideroom", "s4712/x.bin", Who(), "tftp")
    assert isinstance(plain, Content) and plain.places == ("s4712/x.bin",)
    assert not check_files(made, Ports())


WRONG_FILES = [
    ('[file."x"]\ntext = "{{ client.nam }}"', 1, "no variable 'nam' (for client tide-01)"),
    ("[file.\"x\"]\ntext = '''\none\n{{ client.nam }}\n'''", 3, "no variable 'nam'"),
    ('[file."x"]\ntext = """one\n{{ client.nam }}"""', 2, "no variable 'nam'"),
    ('[file."x"]\ntext = "{% if %}"', 1, "Expected an expression"),
    ('[file."{{ client.nam }}"]\ntext = "x"', 0, "is one for no client"),
    ('[file."{{ client.uuid }}"]\ntext = "x"', 0, "is one for no client"),
]


@pytest.mark.parametrize(("more", "line", "problem"), WRONG_FILES)
def test_wrong_files(more: str, line: int, problem: str) -> None:
    made = site(more=more)
    first = BASE.format(segment="", options="", choice="", group="", client="", more="MORE")
    start = first.splitlines().index("MORE") + 1
    (finding,) = check_files(made, Ports())
    assert problem in finding.problem, finding
    assert finding.origin.line == start + line and "--variables" in finding.remedy


def test_what_is_overridden_is_remembered() -> None:
    made = site(
        group='args = ["a=1"]\noptions = { desk-broker = "b" }',
        client='args = ["a=2", "-quiet"]\nboot = "notebook"\noptions = { desk-broker = false }',
    )
    found = effective(made, "tide-01")
    assert sorted((old.what, old.value) for old in found.overridden) == [
        ("argument", "a=1"),
        ("argument", "quiet"),
        ("boot", "menu"),
        ("option desk-broker", "b"),
    ]
    assert all(old.by.line > old.origin.line for old in found.overridden)
    assert not check_arguments(made, Ports())


def test_what_does_not_fit_small_messages_is_said() -> None:
    assert not check_sizes(site(), Ports())
    long = "x" * 200
    made = site(group=f'options = {{ desk-broker = "{long}", captive-portal = "{long}" }}')
    (finding,) = check_sizes(made, Ports())
    assert "576 bytes" in finding.problem and "captive-portal" in finding.problem


def test_a_root_typed_by_hand_is_pointed_out() -> None:
    (finding,) = check_arguments(site(group='args = ["root=/dev/sda1"]'), Ports())
    assert "replaces the root" in finding.problem and finding.severity is Severity.WARNING
