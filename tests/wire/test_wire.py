"""Daskel on wires that are not its own alone: another DHCP server, a relay agent, addresses that
are taken; with real DHCP clients, and every reply read by another program."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from daskel.core.dhcp.pxe import Firmware
from tests.conftest import PATIENCE, until
from tests.formats import check_printed
from tests.wire.net import Net

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")

SITE = """format = 1
[site]
state = "state.db"
roots = "roots"
slates = "slates"
loaders = ["bios", "uefi-x64"]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.103"]
unknown = "lobby"
[segment.annexe]
network = "10.61.11.0/24"
server = "10.61.11.1"
dhcp = "full"
[segment.library]
network = "10.61.9.0/24"
server = "10.61.9.1"
dhcp = "proxy"
unknown = "lobby"
[segment.boathouse]
network = "10.61.10.0/24"
server = "10.61.8.1"
relays = ["10.61.10.1"]
dhcp = "full"
pool = ["10.61.10.100 - 10.61.10.103"]
router = "10.61.10.1"
[segment.gallery]
network = "10.61.12.0/24"
server = "10.61.12.1"
shares = "tideroom"
dhcp = "full"
pool = ["10.61.12.100 - 10.61.12.103"]
unknown = "refuse"
[root.notebook]
slate = "keep"
[loadout.rescue]
kernel = "rescue/vmlinuz"
root = "notebook"
[group.lib]
segment = "library"
boot = "rescue"
[client.lib-01]
mac = "02:61:09:00:00:01"
group = "lib"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "rescue"
address = "10.61.8.21"
[client.screen-1]
mac = "02:61:0c:00:00:01"
segment = "gallery"
boot = "rescue"
[client.buoy-1]
mac = "02:61:0a:00:00:01"
segment = "boathouse"
boot = "rescue"
"""
PROGRAM = Path(sys.executable).with_name("daskel")
OTHER = [sys.executable, str(Path(__file__).with_name("other.py"))]
FACES = ["system", *(firmware.value for firmware in Firmware)]
GOT = '#!/bin/sh\n[ "$1" = bound ] && echo "$ip $siaddr $router" > "$GOT"\nexit 0\n'


class Lab:
    """The whole of it: server, the library's other server, a relay agent, three clients."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.net = folder, Net()
        (folder / "daskel.toml").write_text(SITE)
        (folder / "roots/notebook/etc").mkdir(parents=True)
        for name in ("lib-01", "tide-01"):
            (folder / "files/clients" / name).mkdir(parents=True)
            (folder / "files/clients" / name / "own").write_text(f"of {name}")
        kernel = folder / "files/rescue/vmlinuz"
        kernel.parent.mkdir(parents=True)
        kernel.write_bytes(bytes(0x202) + b"HdrS" + bytes(1000))
        script = folder / "got.sh"
        script.write_text(GOT)
        script.chmod(0o755)

    def open(self) -> None:
        net, log = self.net, self.folder / "other.log"
        for name in ("server", "lib", "tide", "far", "relay", "rival"):
            net.add(name)
        for bridge, address in (
            ("tide0", "10.61.8.1/24"),
            ("lib0", "10.61.9.1/24"),
            ("annexe0", "10.61.11.1/24"),
        ):
            net.wire(bridge, address)
        net.run("server", "ip address add 10.61.12.1/24 dev tide0")
        net.wire("far0")
        net.plug("lib0", "lib", "eth0", "02:61:09:00:00:01")
        net.plug("tide0", "tide", "eth0", "02:61:08:00:00:01")
        net.plug("far0", "far", "eth0", "02:61:0a:00:00:01")
        net.plug("lib0", "rival", "lib", "", "10.61.9.250/24")
        net.plug("annexe0", "rival", "annexe", "", "10.61.11.250/24")
        net.plug("tide0", "rival", "tide")
        net.plug("tide0", "relay", "near", "", "10.61.8.2/24")
        net.plug("far0", "relay", "far", "", "10.61.10.1/24")
        net.run("relay", "sh -c", "echo 1 > /proc/sys/net/ipv4/ip_forward")
        net.run("server", "ip route add 10.61.10.0/24 via 10.61.8.2")
        for interface, number in (("lib", 9), ("annexe", 11)):
            own, given = f"10.61.{number}.250", f"10.61.{number}.70"
            net.start("rival", *OTHER, "server", interface, own, given, log=log)
        net.start("relay", *OTHER, "relay", "near", "far", "10.61.10.1", "10.61.8.1", log=log)
        self.capture = net.start("server", "tshark", "-q", "-i", "any", "-f",
            "udp port 67 or 68 or 4011", "-w", self.pcap, log=self.folder / "tshark.log")  # fmt: skip
        until(lambda: self.pcap.exists() and self.pcap.stat().st_size, "no capture")
        self.serve = net.start(
            "server",
            PROGRAM,
            "serve",
            "--json",
            "--site",
            self.folder / "daskel.toml",
            log=self.log,
        )
        until(lambda: self.events("ready"), self.log.read_text)

    @property
    def pcap(self) -> Path:
        return self.folder / "wire.pcapng"

    @property
    def log(self) -> Path:
        return self.folder / "serve.log"

    def events(self, name: str) -> list[dict[str, Any]]:
        whole = self.log.read_text().rpartition("\n")[0]
        return [
            event for line in whole.splitlines() if (event := json.loads(line))["event"] == name
        ]

    def address(self, name: str, *more: str) -> list[str]:
        """What busybox's DHCP client gets: its address, next server, router."""
        got = self.folder / f"{name}.got"
        got.unlink(missing_ok=True)
        self.net.run(
            name,
            f"env GOT={got} busybox udhcpc -i eth0 -n -q -f -t 8 -s {self.folder}/got.sh",
            *more,
        )
        return got.read_text().split()

    def survey(self, name: str, interface: str = "eth0") -> list[dict[str, Any]]:
        found = json.loads(self.net.run(name, f"{PROGRAM} survey --wire {interface} --json"))
        offers: list[dict[str, Any]] = found["offers"]
        return offers


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    found = Lab(tmp_path_factory.mktemp("wire"))
    try:
        found.open()
        yield found
    finally:
        found.net.close()


def test_beside_another_server(lab: Lab) -> None:
    """The other one gives the address; Daskel hears it, and knows who asks for files later."""
    assert lab.address("lib")[0] == "10.61.9.71"
    until(lambda: lab.events("addressed"), lab.log.read_text)
    heard = lab.events("addressed")[-1]
    assert (heard["client"], heard["address"], heard["by"]) == (
        "lib-01",
        "10.61.9.71",
        "10.61.9.250",
    )


def test_a_survey_sees_both(lab: Lab) -> None:
    """With the face of each firmware, for a machine that is not in the site."""
    offers = lab.survey("tide")
    assert {o["server"] for o in offers} == {"10.61.8.1"}
    found = {(o["server"], o["asked_as"], o["address"], o["boot_file"]) for o in lab.survey("lib")}
    assert found == {
        *(("10.61.9.250", face, "10.61.9.71", None) for face in FACES),
        ("10.61.9.1", "bios", None, "loader/bios.img"),
        ("10.61.9.1", "uefi-x64", None, "loader/uefi-x64.efi"),
        ("10.61.9.1", "uefi-x64-http", None, "http://10.61.9.1/loader/uefi-x64.efi"),
        ("10.61.9.1", "uboot", None, "boot.scr.uimg"),
    }


def test_through_the_relay_agent(lab: Lab) -> None:
    address, server, router = lab.address("far")
    assert address.startswith("10.61.10.1") and (server, router) == ("10.61.8.1", "10.61.10.1")
    seen = lab.events("seen")[-1]
    assert seen["client"] == "buoy-1" and seen["relay"] == "10.61.10.1 far0"
    again = lab.address("far")
    assert again[0] == address


def test_an_address_that_somebody_has_behind_the_relay_agent(lab: Lab) -> None:
    """Found by an echo request: three of the pool's four are taken, one by the client above."""
    own = lab.address("far")[0]
    others = [a for n in range(100, 104) if (a := f"10.61.10.{n}") != own]
    for address in others[:2]:
        lab.net.run("relay", f"ip address add {address}/32 dev far")
    lab.net.run("far", "ip link set eth0 address 02:61:ff:00:00:02")
    assert lab.address("far")[0] == others[2]
    lab.net.run("far", "ip link set eth0 address 02:61:0a:00:00:01")


def test_two_segments_on_one_wire(lab: Lab) -> None:
    """The segment that the site file gives a machine decides."""
    lab.net.run("tide", "ip link set eth0 address 02:61:0c:00:00:01")
    address, server = lab.address("tide")
    assert address.startswith("10.61.12.10") and server == "10.61.12.1"
    lab.net.run("tide", "ip link set eth0 address 02:61:08:00:00:01")
    assert lab.address("tide") == ["10.61.8.21", "10.61.8.1"]


def test_addresses_that_somebody_has_are_not_offered(lab: Lab) -> None:
    """Its own address is given at once; of the pool, one that nobody answers for."""
    assert lab.address("tide")[0] == "10.61.8.21"
    for number in (100, 101, 102):
        lab.net.run("rival", f"ip address add 10.61.8.{number}/32 dev tide")
    lab.net.run("tide", "ip link set eth0 address 02:61:ff:00:00:01")
    assert lab.address("tide")[0] == "10.61.8.103"
    lab.net.run("tide", "ip link set eth0 address 02:61:08:00:00:01")
    taken = {e["address"] for e in lab.events("given-back") if e["declined"]}
    assert taken and taken <= {"10.61.8.100", "10.61.8.101", "10.61.8.102"}
    told = lab.net.run("server", f"{PROGRAM} status --site {lab.folder}/daskel.toml")
    assert all(f"{address} of tideroom is not given out" in told for address in taken), told
    for number in (100, 101, 102):
        lab.net.run("rival", f"ip address del 10.61.8.{number}/32 dev tide")


def test_another_server_where_there_should_be_none(lab: Lab) -> None:
    until(lambda: lab.events("other-server"), lab.log.read_text)
    found = lab.events("other-server")[0]
    assert (found["segment"], found["server"]) == ("annexe", "10.61.11.250")
    assert "offers 10.61.11." in found["how"]
    assert {e["segment"] for e in lab.events("other-server")} == {"annexe"}


MOUNT = """
import sys
from ipaddress import IPv4Address
from daskel.core.boot.wire import Wire
from daskel.rehearse import fetch
if sys.argv[2] == "any":
    fetch._RESERVED = 0, 0, -1
try:
    fetch.NfsRoot(Wire(), IPv4Address(sys.argv[1]), IPv4Address(sys.argv[3]), "/roots/notebook")
    print("mounted")
except fetch.BootError as error:
    print(error)
"""
CLAIM = """
import socket, sys
from dataclasses import replace
from ipaddress import IPv4Address
from daskel.core.dhcp.client_messages import Face, discover, request
from daskel.core.dhcp.packet import Packet, serialise
from daskel.core.dhcp.pxe import Firmware
face = Face.of(Firmware.BIOS)
given = Packet(2, 1, bytes(16), {54: bytes((10, 61, 9, 250))}, yiaddr=IPv4Address(sys.argv[2]))
given = replace(given, chaddr=discover(face, sys.argv[1], 1).chaddr)
with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    sock.sendto(serialise(request(face, given))[0], ("10.61.9.255", 67))
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, sys.argv[3].encode())
    sock.sendto(serialise(request(face, given))[0], ("255.255.255.255", 67))
"""


def _own(lab: Lab, name: str, address: str, server: str) -> str:
    """What a client's own file holds for somebody who asks from an address."""
    url = f"http://{server}/own"
    return lab.net.run(name, f"curl -sf -m 10 --interface {address} {url}", check=False)


def _mount(lab: Lab, name: str, address: str, server: str, ports: str = "reserved") -> str:
    return lab.net.run(name, sys.executable, "-c", MOUNT, address, ports, server).strip()


def test_a_request_in_another_name_makes_nobody_another_client(lab: Lab) -> None:
    lab.net.run("lib", "ip address replace 10.61.9.71/24 dev eth0")
    assert _own(lab, "lib", "10.61.9.71", "10.61.9.1") == "of lib-01"
    claim = (sys.executable, "-c", CLAIM, "02:61:09:00:00:01", "10.61.9.250", "lib")
    heard = len(lab.events("addressed"))
    lab.net.run("rival", *claim)
    until(lambda: len(lab.events("addressed")) > heard, lab.log.read_text)
    assert _own(lab, "rival", "10.61.9.250", "10.61.9.1") == ""
    assert "permission denied" in _mount(lab, "rival", "10.61.9.250", "10.61.9.1")
    said = lab.events("contested")[-1]
    rival = lab.net.run("rival", "cat /sys/class/net/lib/address").strip()
    assert (said["client"], said["address"], said["by"]) == ("lib-01", "10.61.9.250", rival)
    assert _own(lab, "lib", "10.61.9.71", "10.61.9.1") == "of lib-01", "it is not cut off"
    assert _mount(lab, "lib", "10.61.9.71", "10.61.9.1") == "mounted"


def test_an_address_that_somebody_took_gives_nothing(lab: Lab) -> None:
    """Where Daskel gives the addresses: the lease and the wire must agree."""
    address, _ = lab.address("tide")
    lab.net.run("tide", f"ip address replace {address}/24 dev eth0")
    assert _own(lab, "tide", address, "10.61.8.1") == "of tide-01"
    assert "permission denied" in _mount(lab, "tide", address, "10.61.8.1", "any")
    assert lab.events("mount-refused")[-1]["why"] == "port"
    assert _mount(lab, "tide", address, "10.61.8.1") == "mounted"
    lab.net.run("tide", "ip -4 address flush dev eth0")
    lab.net.run("server", "ip neigh flush dev tide0")
    lab.net.run("rival", f"ip address replace {address}/24 dev tide")
    assert _own(lab, "rival", address, "10.61.8.1") == ""
    assert "permission denied" in _mount(lab, "rival", address, "10.61.8.1")
    said = lab.events("contested")[-1]
    assert (said["client"], said["address"]) == ("tide-01", address)
    lab.net.run("rival", f"ip address del {address}/24 dev tide")
    lab.net.run("server", "ip neigh flush dev tide0")


SOLICIT = """
import socket
sock = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6)
sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, b"eth0")
sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 255)
sock.settimeout(2)
message = b""
for _ in range(20):
    sock.sendto(bytes((133, 0)) + bytes(6), ("ff02::2", 0, 0, socket.if_nametoindex("eth0")))
    try:
        while message[:1] != bytes((134,)):
            message = sock.recv(2048)
        break
    except TimeoutError:
        continue
print(message.hex())
"""


def test_firmware_that_waits_for_a_router_is_told_that_there_is_none(lab: Lab) -> None:
    """And systems that hear it take no address, no route and no flag from it."""
    heard = bytes.fromhex(lab.net.run("tide", sys.executable, "-c", SOLICIT))
    assert heard[:2] == bytes((134, 0)) and len(heard) == 16 and not any(heard[4:])
    assert not lab.net.run("tide", "ip -6 route show default")


def test_every_reply_is_well_formed(lab: Lab) -> None:
    """The capture of all the above, read by a program that knows the protocols."""
    lab.capture.terminate()
    lab.capture.wait(PATIENCE)
    fields = "-T fields -e dhcp.option.dhcp -e ip.src -e ip.dst -e eth.dst -e sll.pkttype"
    sent = lab.net.run(
        "server", f"tshark -r {lab.pcap} {fields} -Y", "dhcp && ip.src == 10.61.0.0/16"
    )
    kinds = [line.split("\t") for line in sent.splitlines()]
    assert {kind[0] for kind in kinds} >= {"2", "5"}, sent
    assert any(kind[0] == "2" and kind[2] == "10.61.8.21" for kind in kinds), "unicast, as asked"
    bad = lab.net.run(
        "server", f"tshark -r {lab.pcap} -Y", "_ws.malformed || _ws.expert.severity >= 6291456"
    )
    assert not bad, bad


def test_machines_are_woken_and_who_came_is_seen(lab: Lab) -> None:
    """The magic packets as another program reads them; one machine comes, one does not."""
    log, site = lab.folder / "woken", lab.folder / "daskel.toml"
    fields = ["-T", "fields", "-e", "wol.mac", "-e", "ip.dst", "-e", "eth.dst"]
    heard = lab.net.start(
        "tide", "tshark", "-l", "-i", "eth0", "-f", "udp port 9", *fields, log=log
    )
    until(lambda: b"Capturing" in log.read_bytes(), log.read_text)
    words = [PROGRAM, "wake", "tide-01", "buoy-1", "--wait", "30s", "--pace", "20/s", "--json"]
    told = lab.folder / "wake.json"
    waking = lab.net.start("server", *words, "--site", site, log=told)
    until(lambda: "02:61:08:00:00:01" in log.read_text(), log.read_text)
    lab.address("tide", "-V", "PXEClient:Arch:00000:UNDI:002001")
    assert waking.wait(PATIENCE) == 1, told.read_text()
    heard.terminate()
    assert "02:61:08:00:00:01\t10.61.8.255\tff:ff:ff:ff:ff:ff" in log.read_text()
    check_printed(["wake", "--json"], told.read_text())
    found = json.loads(told.read_text())
    came = {row["client"]: (row["to"], row["came"] is not None) for row in found["clients"]}
    assert came == {"tide-01": ("10.61.8.255", True), "buoy-1": ("10.61.10.255", False)}
    assert found["seen"] and not found["good"]
