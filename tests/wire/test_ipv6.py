"""IPv6 on a wire: Linux makes its address from what Daskel advertises, curl fetches, another program
reads every message, and a flood takes nobody's turn."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from ipaddress import IPv6Address
from pathlib import Path

import pytest

from tests.conftest import until
from tests.wire.net import Net

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")

SITE = """format = 1
[site]
state = "state.db"
roots = "roots"
slates = "slates"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
network6 = "fd61:8::/64"
server6 = "fd61:8::1"
pool6 = "slaac"
advertise6 = true
[root.notebook]
[loadout.rescue]
kernel = "rescue/vmlinuz"
root = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "rescue"
address6 = "fd61:8::21"
[client.tide-02]
mac = "02:61:08:00:00:02"
segment = "tideroom"
boot = "rescue"
"""
PROGRAM = Path(sys.executable).with_name("daskel")
SIX = [sys.executable, str(Path(__file__).with_name("six.py"))]
MAC = "02:61:08:00:00:01"


class Lab:
    def __init__(self, folder: Path) -> None:
        self.folder, self.net = folder, Net()
        (folder / "daskel.toml").write_text(SITE)
        (folder / "roots/notebook/etc").mkdir(parents=True)
        for name in ("tide-01", "tide-02"):
            (folder / "files/clients" / name).mkdir(parents=True)
            (folder / "files/clients" / name / "own").write_text(f"of {name}")
        kernel = folder / "files/rescue/vmlinuz"
        kernel.parent.mkdir(parents=True)
        kernel.write_bytes(bytes(0x202) + b"HdrS" + bytes(1000))

    def open(self) -> None:
        net, log = self.net, self.folder / "serve.log"
        for name in ("server", "one", "two", "rogue"):
            net.add(name)
        net.wire("tide0", "10.61.8.1/24")
        net.run("server", "ip address add fd61:8::1/64 dev tide0 nodad")
        net.plug("tide0", "one", "eth0", MAC)
        net.plug("tide0", "two", "eth0", "02:61:08:00:00:02")
        net.plug("tide0", "rogue", "eth0", "02:61:fe:00:00:01")
        net.run("rogue", "ip link set eth0 addrgenmode none")  # its address says nothing of it
        net.run("rogue", "ip address add fe80::7/64 dev eth0 nodad")
        self.pcap = self.folder / "six.pcap"
        self.capture = net.start("server", "tshark", "-q", "-i", "tide0", "-f", "ip6", "-w",
            self.pcap, log=self.folder / "tshark.log")  # fmt: skip
        until(lambda: self.pcap.exists() and self.pcap.stat().st_size, "no capture")
        words = [PROGRAM, "serve", "--site", self.folder / "daskel.toml"]
        self.serve = net.start("server", *words, log=log)
        until(lambda: " ready " in log.read_text(), log.read_text)

    @property
    def log(self) -> str:
        return (self.folder / "serve.log").read_text()

    def fetch(self, name: str, path: str, over: str = "http") -> str:
        return self.net.run(name, "curl -g -s -m 20", f"{over}://[fd61:8::1]/{path}", check=False)


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    made = Lab(tmp_path_factory.mktemp("six"))
    try:
        made.open()
        yield made
    finally:
        made.net.close()


def has(lab: Lab, name: str) -> str:
    return lab.net.run(name, "ip -6 address show dev eth0 scope global -tentative")


def test_linux_makes_its_address_of_what_is_advertised(lab: Lab) -> None:
    until(lambda: "fd61:8::61:8ff:fe00:2/64" in has(lab, "two"), lambda: has(lab, "two"))
    assert not lab.net.run("two", "ip -6 route show default"), "Daskel is not a router"


def test_firmware_is_given_an_address_and_a_url(lab: Lab) -> None:
    told = lab.net.run("one", " ".join([*SIX, "take", "eth0", MAC])).split()
    assert told == ["fd61:8::21", "tftp://[fd61:8::1]/loader/uefi-x64.efi", "28800"]
    kept = subprocess.run(
        [PROGRAM, "explain", "tide-01", "--ipv6", "--site", lab.folder / "daskel.toml"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "fd61:8::21" in kept.stdout, kept.stderr


@pytest.mark.parametrize("over", ["http", "tftp"])
def test_each_gets_its_own_files_and_no_other_s(lab: Lab, over: str) -> None:
    """By the wire alone: nobody gave the second one its address."""
    until(lambda: "fd61:8::61:8ff:fe00:2/64" in has(lab, "two"), lambda: has(lab, "two"))
    assert lab.fetch("two", "own", over) == "of tide-02"
    assert "of tide-01" not in lab.fetch("two", "clients/tide-01/own", over)
    text = lab.fetch("two", "loader/02:61:08:00:00:02.cfg", over)
    assert f"({over},[fd61:8::1])/rescue/vmlinuz" in text
    assert "nfsroot=10.61.8.1:" in text, "no initrd there mounts a root over IPv6"


def test_an_address_that_is_leased_to_another_is_not_believed(lab: Lab) -> None:
    lab.net.run("one", " ".join([*SIX, "take", "eth0", MAC]))
    lab.net.run("two", "ip address add fd61:8::21/64 dev eth0 nodad")
    try:
        asked = "--interface fd61:8::21"
        got = lab.net.run("two", f"curl -g -s -m 20 {asked}", "http://[fd61:8::1]/own", check=False)
        assert "of tide-0" not in got
        until(lambda: "02:61:08:00:00:02" in lab.log and "fd61:8::21" in lab.log, lambda: lab.log)
    finally:
        lab.net.run("two", "ip address del fd61:8::21/64 dev eth0")


@pytest.mark.parametrize(("name", "said"), [("rogue", "200 a second"), ("two", "20 a second")])
def test_a_flood_takes_nobody_s_turn(lab: Lab, name: str, said: str) -> None:
    """Of made-up machines, and of one machine of the site, whose address says that it is one."""
    lab.net.run(name, " ".join([*SIX, "flood", "eth0", "10000"]))
    told = lab.net.run("one", " ".join([*SIX, "take", "eth0", MAC])).split()
    assert told[0] == "fd61:8::21"

    def is_said() -> bool:  # once in ten seconds, whatever it is
        lab.net.run(name, " ".join([*SIX, "flood", "eth0", "500"]))
        return f"more than {said}" in lab.log

    until(is_said, lambda: lab.log[-2000:])


def test_another_program_reads_every_message(lab: Lab) -> None:
    """Last: all that was said above."""
    lab.capture.terminate()
    lab.capture.wait(20)

    def shown(wanted: str, *fields: str) -> list[str]:
        words = ["tshark", "-r", lab.pcap, "-Y", wanted, "-T", "fields"]
        words += [word for field in fields for word in ("-e", field)]
        done = subprocess.run(words, capture_output=True, text=True, check=True)
        return done.stdout.splitlines()

    assert not shown("(dhcpv6 or icmpv6) and _ws.malformed", "frame.number")
    replies = shown("dhcpv6.msgtype == 7", "dhcpv6.iaaddr.ip", "dhcpv6.option.type")
    assert any(line.startswith("fd61:8::21") and ",59" in line for line in replies)
    prefixes = shown("icmpv6.type == 134", "icmpv6.opt.prefix", "icmpv6.nd.ra.router_lifetime")
    assert prefixes and set(prefixes) == {"fd61:8::\t0"}
    assert all(IPv6Address(line) for line in shown("dhcpv6.msgtype == 7", "ipv6.src"))
