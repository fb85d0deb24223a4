"""The whole job: real firmware boots a real kernel to its own NFS root, served as a user would."""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from hashlib import md5
from pathlib import Path

import pytest

from tests.conftest import PATIENCE, SiteText, until
from tests.vm import guest
from tests.vm.lab import SERVER, Lab, Machine, with_machines

pytestmark = with_machines()

SITE = SiteText("""format = 1
[site]
name = "Skerry Point"
roots = "roots"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
domain = "tide.skerry.example"
router = "10.61.8.254"
name-servers = ["10.61.8.253"]
unknown = "lobby"
args = ["console=ttyS0,115200", "hostname={{ client.name }}"]
[root.notebook]
[root.catalogue]
[loadout.notebook]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img"]
root = "notebook"
[loadout.catalogue]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img"]
password = "grub.pbkdf2.sha512.10000.3FAC61B2.9B3C55D1"
args = ['screen.page="http://catalogue.skerry.example/a b"']
root = "catalogue"
[loadout.disk]
boot = "local"
[choice.room]
entries = ["disk", "catalogue", "notebook"]
default = "notebook"
wait = "3s"
title = "Skerry Point"
[group.tide]
segment = "tideroom"
boot = "notebook"
options = { ntp-servers = "10.61.8.1" }
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
address = "10.61.8.21"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
boot = "room"
[client.tide-03]
mac = "02:61:08:00:00:03"
group = "tide"
boot = "catalogue"
args = ["-screen.page", "screen.page=here"]
[client.tide-05]
mac = "02:61:08:00:00:05"
group = "tide"
[client.tide-06]
mac = "02:61:08:00:00:06"
group = "tide"
[client.tide-07]
mac = "02:61:08:00:00:07"
group = "tide"
[client.tide-08]
mac = "02:61:08:00:00:08"
group = "tide"
[client.tide-09]
mac = "02:61:08:00:00:09"
group = "tide"
address = "10.61.8.29"
[loadout.heavy]
kernel = "notebook/vmlinuz"
initrd = ["notebook/initrd.img", "notebook/zeros.img"]
root = "notebook"
[client.tide-10]
mac = "02:61:08:00:00:0a"
group = "tide"
boot = "heavy"
address = "10.61.8.30"
[client.tide-04]
mac = "02:61:08:00:00:04"
group = "tide"
address = "10.61.8.24"
""")

CERTIFICATE = (
    "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=boot.skerry.example "
    "-addext subjectAltName=IP:10.61.8.1 -keyout key.pem -out certificate.pem"
)
POOL = 'pool = ["10.61.8.100 - 10.61.8.199"]\n'
GREETINGS = {"notebook": "hello from the notebook", "catalogue": "hello from the catalogue"}
LARGE = random.Random(61).randbytes(3_000_001)
MACHINES = [  # name, last byte of the MAC address, firmware, root
    ("tide-01", "bios", "notebook"),
    ("tide-02", "uefi-x64", "notebook"),
    ("tide-03", "uefi-x64-http", "catalogue"),
]


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    yield from _lab(tmp_path_factory.mktemp("vm"), SITE, beside_another=False)


@pytest.fixture(scope="module")
def proxy_lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    site = SITE.replace('"full"', '"proxy"').replace(POOL, "")
    yield from _lab(tmp_path_factory.mktemp("proxy"), site, beside_another=True)


def _lab(folder: Path, site: str, *, beside_another: bool | None) -> Iterator[Lab]:
    """`beside_another`: a DHCP server on the wire; None: one on this very machine."""
    (folder / "daskel.toml").write_text(site)
    (folder / "files" / "notebook").mkdir(parents=True, exist_ok=True)
    shutil.copy(guest.kernel(), folder / "files" / "notebook" / "vmlinuz")
    guest.write_initrd(folder / "files" / "notebook" / "initrd.img")
    (folder / "files/notebook/zeros.img").write_bytes(bytes(30 << 20))  # Linux passes over them
    for root, greeting in GREETINGS.items():
        guest.write_root(folder / "roots" / root, greeting, LARGE)
    found = Lab(folder)
    try:
        found.open()
        if beside_another:
            found.other_server("10.61.8.70")
        elif beside_another is None:
            found.server_on_this_machine("10.61.8.70")
        found.serve(folder / "daskel.toml")
        yield found
    finally:
        found.close()


def test_three_kinds_of_firmware_boot_to_their_roots(lab: Lab) -> None:
    machines = {
        name: lab.boot(name, f"02:61:08:00:00:{name[-2:]}", firmware)
        for name, firmware, _ in MACHINES
    }
    for machine in machines.values():
        machine.wait_for("GUEST waits for a key")

    text = SiteText(lab.server_log.read_text())
    lab.kill_server()  # mounted roots must go on with the next server
    lab.serve(lab.folder / "daskel.toml")
    for machine in machines.values():
        machine.type("")
        machine.wait_for("GUEST end")

    for name, firmware, root in MACHINES:
        _check(machines[name], name, root)
        _check_log([line for line in text.splitlines() if name in line], firmware, root)


def test_the_same_beside_another_dhcp_server(proxy_lab: Lab) -> None:
    """That one gives the addresses; what to boot, and the root, come from Daskel."""
    lab = proxy_lab
    machines = {
        name: lab.boot(name, f"02:61:08:00:00:{name[-2:]}", firmware)
        for name, firmware, _ in MACHINES
    }
    for machine in machines.values():
        machine.wait_for("GUEST waits for a key")
        machine.type("")
        machine.wait_for("GUEST end")
    for name, _, root in MACHINES:
        assert machines[name].said("file") == GREETINGS[root]
        assert machines[name].said("address").startswith(f"10.61.8.{70 + int(name[-2:])} ")
        heard = f"10.61.8.{70 + int(name[-2:])} from the DHCP server 10.61.8.250"
        assert heard in _lines_of(lab, name), lab.server_log.read_text()


def test_another_dhcp_server_on_this_very_machine(tmp_path: Path) -> None:
    """Daskel says so, and answers on port 4011 alone; firmware comes there, by option 60."""
    site = SITE.replace('"full"', '"proxy"').replace(POOL, "")
    for lab in _lab(tmp_path, site, beside_another=None):
        assert "only port 4011 is answered" in lab.server_log.read_text()
        machine = lab.boot("tide-02", "02:61:08:00:00:02", "uefi-x64")
        machine.wait_for("GUEST waits for a key")
        assert "10.61.8.72 from another DHCP server" in _lines_of(lab, "tide-02")
        machine.process.terminate()


SECOND_CARDS = [  # name, firmware
    ("tide-06", "bios"),
    ("tide-07", "uefi-x64"),
    ("tide-08", "uefi-x64-http"),
]


def test_boots_on_a_second_card_while_the_first_has_no_cable(lab: Lab) -> None:
    machines = [
        lab.boot(name, f"02:61:08:00:00:{name[-2:]}", firmware, first_card="02:61:08:00:01:01")
        for name, firmware in SECOND_CARDS
    ]
    for machine in machines:
        machine.wait_for("GUEST waits for a key")
        assert machine.said("file") == GREETINGS["notebook"]
        machine.process.terminate()


@pytest.mark.parametrize("kind", ["lab", "proxy_lab"])
def test_another_network_card(kind: str, request: pytest.FixtureRequest) -> None:
    """Its ROM fetches all that it boots from; the guest's kernel has no driver for this card."""
    lab: Lab = request.getfixturevalue(kind)
    machine = lab.boot("tide-06", "02:61:08:00:00:06", "bios", card="e1000")
    sent = " notebook/initrd.img "
    until(lambda: sent in _lines_of(lab, "tide-06"), lab.server_log.read_text, 0.5)
    machine.process.terminate()


UBOOTS_OWN = "02:02:02:02:02:02"  # whatever address a virtio card has, U-Boot takes this one
OTHER_FIRMWARE = f"""[group.others]
segment = "tideroom"
[client.tide-01]
mac = "{UBOOTS_OWN}"
group = "others"
boot = "logger"
firmware = "uboot"
args = ["-console", "console=ttyAMA0"]
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "others"
boot = "notebook"
firmware = "uefi-x86"
[client.tide-03]
mac = "02:61:08:00:00:03"
group = "others"
boot = "notebook"
boot-file = "https://10.61.8.1/loader/uefi-x64.efi"
[root.logger]
[loadout.logger]
kernel = "logger/Image"
initrd = ["logger/initrd.img"]
root = "logger"
"""


def test_other_firmware(tmp_path: Path) -> None:
    """U-Boot on arm64, UEFI of 32 bits, and UEFI over HTTPS, each to its NFS root."""
    head, _, _ = SITE.partition("[group.tide]")
    certificate = 'https = { certificate = "certificate.pem", key = "key.pem" }\n'
    subprocess.run(CERTIFICATE.split(), cwd=tmp_path, check=True, capture_output=True)
    logger = tmp_path / "files/logger"
    logger.mkdir(parents=True)
    shutil.copy(guest.kernel("arm64"), logger / "Image")
    guest.write_initrd(logger / "initrd.img", "arm64")
    guest.write_root(tmp_path / "roots/logger", "hello from the logger", LARGE, "arm64")
    site = SiteText(head).replace("[site]\n", f"[site]\n{certificate}") + OTHER_FIRMWARE
    for lab in _lab(tmp_path, site, beside_another=False):
        firmware = {"tide-01": "uboot", "tide-02": "uefi-x86", "tide-03": "uefi-x64-http"}
        macs = UBOOTS_OWN, "02:61:08:00:00:02", "02:61:08:00:00:03"
        machines = {
            name: lab.boot(name, mac, kind, authorities=tmp_path / "certificate.pem")
            for (name, kind), mac in zip(firmware.items(), macs, strict=True)
        }
        for name, machine in machines.items():
            machine.wait_for("GUEST waits for a key")
            root = "logger" if name == "tide-01" else "notebook"
            assert machine.said("file") == f"hello from the {root}"
            machine.process.terminate()
        assert "boot.scr.uimg" in _lines_of(lab, "tide-01")
        assert "loader/uefi-x86.efi" in _lines_of(lab, "tide-02")
        assert " loader/uefi-x64.efi " in _lines_of(lab, "tide-03")


def _check(machine: Machine, name: str, root: str) -> None:
    """The console of one machine."""
    arguments = machine.said("arguments")
    assert machine.said("name") == name
    assert machine.said("file") == machine.said("link") == GREETINGS[root]
    assert machine.said("names") == "500"
    assert machine.said("sum").startswith(md5(LARGE).hexdigest())
    assert f"{SERVER}:/roots/{root} / nfs ro," in machine.said("root")
    assert f"nfsroot={SERVER}:/roots/{root},v3,tcp" in arguments
    assert ("screen.page=here" in arguments) is (name == "tide-03")
    assert "wrote to a read-only root" not in machine.console
    address = machine.said("address")
    assert f"hostname {name} rootpath {SERVER}:/roots/{root}," in address
    assert name != "tide-01" or address.startswith("10.61.8.21 ")


def _check_log(lines: list[str], firmware: str, root: str) -> None:
    """What the server said of one machine, in order."""
    first = "http" if firmware == "uefi-x64-http" else "tftp"  # until GRUB knows its configuration
    loader = "bios.img" if firmware == "bios" else "uefi-x64.efi"
    expected = [
        "seen",
        f"loader/{loader} ",
        ".cfg ",
        "vmlinuz ",
        "seen",
        "again",
        f"root {root}",
    ]
    position = 0
    for what in expected:
        found = [i for i, line in enumerate(lines) if i >= position and what in line]
        assert found, f"no {what!r} in order: {lines}"
        position = found[0]
        over = first if "loader/" in what or ".cfg" in what else "http"
        sent = any(word in what for word in ("loader/", ".cfg", "vmlinuz"))
        assert not sent or f"over {over}" in lines[position], lines[position]
    # its last acknowledgement can be lost: then it is said a few seconds later
    assert [line for line in lines if "initrd.img " in line and "over http" in line], lines
    addresses = {
        word
        for line in lines
        if " address " in line
        for word in line.split()
        if word.startswith("10.61.8.")
    }
    assert len(addresses) == 1, f"one address through the whole boot: {addresses}"


def test_a_machine_waits_in_the_lobby_and_boots_when_admitted(lab: Lab) -> None:
    machine = lab.boot("new", "02:61:ff:00:00:01", "bios")
    until(lambda: "waits" in lab.server_log.read_text(), lab.server_log.read_text)
    time.sleep(6)  # it asks again, at least once
    words = ["admit", "02:61:ff:00:00:01", "--name", "tide-13", "--group", "tide"]
    site = ["--site", str(lab.folder / "daskel.toml")]
    program = Path(sys.executable).with_name("daskel")
    admitted = subprocess.run(
        [program, "lobby", *words, *site], capture_output=True, text=True, check=False
    )
    assert "The running server has it." in admitted.stdout, admitted
    until(lambda: " configuration " in _lines_of(lab, "tide-13"), lab.server_log.read_text)
    machine.wait_for("GUEST waits for a key")
    assert machine.said("name") == "tide-13" and machine.said("file") == GREETINGS["notebook"]
    machine.type("")
    machine.wait_for("GUEST end")


def test_a_kernel_comes_by_tftp_where_http_does_not_answer(lab: Lab) -> None:
    lab.block("10.61.8.29", "tcp", 80)
    machine = lab.boot("tide-09", "02:61:08:00:00:09", "bios")
    machine.wait_for("GUEST waits for a key")
    assert machine.said("file") == GREETINGS["notebook"]
    sent = [line for line in _lines_of(lab, "tide-09").splitlines() if ".img " in line]
    assert "over tftp" in sent[-1]
    machine.process.terminate()


def test_initrds_come_by_tftp_where_http_ends_behind_the_kernel(lab: Lab) -> None:
    """As on a busy server. GRUB loses the command line of a kernel that it loads a second time."""
    kernel = lab.folder / "files/notebook/vmlinuz"
    machine = lab.boot("tide-10", "02:61:08:00:00:0a", "bios")
    first = r" initrd +notebook/initrd\.img .* over http"  # the second one is larger
    until(lambda: re.search(first, _lines_of(lab, "tide-10")), lab.server_log.read_text, 0.1)
    lab.block("10.61.8.30", "tcp", 80)
    machine.wait_for("GUEST waits for a key")
    sent = _lines_of(lab, "tide-10").splitlines()
    kernels = [line for line in sent if f"{kernel.parent.name}/{kernel.name} " in line]
    assert "over http" in kernels[0] and len(kernels) == 1, "\n".join(sent)
    assert machine.said("file") == GREETINGS["notebook"]
    machine.process.terminate()


def test_once_boots_one_thing_once_and_then_the_other(lab: Lab) -> None:
    program, site = Path(sys.executable).with_name("daskel"), str(lab.folder / "daskel.toml")
    words = ["assign", "tide-05", "catalogue", "--once", "--site", site]
    subprocess.run([program, *words], capture_output=True, check=True)
    for name, greeting in (("once", "catalogue"), ("after", "notebook")):
        machine = lab.boot(name, "02:61:08:00:00:05", "bios")
        machine.wait_for("GUEST waits for a key")
        assert machine.said("file") == GREETINGS[greeting]
        machine.type("")
        machine.wait_for("GUEST end")


def _lines_of(lab: Lab, name: str) -> str:
    return "\n".join(line for line in lab.server_log.read_text().splitlines() if name in line)


def test_other_clients(lab: Lab, tmp_path: Path) -> None:
    """curl, busybox and nfs-ls, on the wire of the same server, as tide-04."""
    inside = lab.add_client("10.61.8.24")

    def run(*command: str) -> str:
        done = subprocess.run(
            [*inside, *command], capture_output=True, timeout=PATIENCE, check=False
        )
        assert done.returncode == 0, (command, done.stderr)
        return done.stdout.decode("latin-1")

    run("ip", "link", "set", "eth0", "address", "02:61:08:00:00:04")
    kernel = (lab.folder / "files/notebook/vmlinuz").read_bytes()
    for words in (["--tftp-blksize", "1400"], ["--tftp-no-options"]):
        run("curl", "-s", *words, "-o", str(tmp_path / "got"), f"tftp://{SERVER}/notebook/vmlinuz")
        assert (tmp_path / "got").read_bytes() == kernel
    run(
        "busybox",
        "tftp",
        "-g",
        "-b",
        "1428",
        "-r",
        "notebook/vmlinuz",
        "-l",
        str(tmp_path / "bb"),
        SERVER,
    )
    assert (tmp_path / "bb").read_bytes() == kernel
    config = run("curl", "-s", f"http://{SERVER}/loader/02:61:08:00:00:04.cfg")
    assert "hostname=tide-04" in config

    url = f"nfs://{SERVER}/roots/notebook"
    ports = "version=3&nfsport=2049&mountport=2049"
    listed = run("nfs-ls", f"{url}?{ports}")
    assert {line.split()[-1] for line in listed.splitlines()} >= {"bin", "etc", "sbin", "usr"}
    assert run("nfs-ls", f"{url}?version=3") == listed  # asks the port mapper where NFS is
    many = run("nfs-ls", f"{url}/usr/share/many?{ports}")
    assert len(many.splitlines()) == 500
    run("nfs-cp", f"{url}/usr/share/large?{ports}", str(tmp_path / "large"))
    assert (tmp_path / "large").read_bytes() == LARGE

    script = tmp_path / "udhcpc"
    script.write_text('#!/bin/sh\necho "$1 $ip $hostname $siaddr"\n')
    script.chmod(0o755)
    dhcp = run("busybox", "udhcpc", "-i", "eth0", "-n", "-q", "-s", str(script), "-f")
    assert f"bound 10.61.8.24 tide-04 {SERVER}" in dhcp
