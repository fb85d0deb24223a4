"""A small site whose tables the tests replace, and one machine that asks."""

from __future__ import annotations

from daskel.core.boot.address import Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import Packet
from daskel.core.dhcp.pxe import Firmware
from daskel.core.replies.answer import Answer, Answers
from daskel.core.site.model import Site
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
