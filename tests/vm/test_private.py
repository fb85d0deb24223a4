"""Private roots: a Debian system whose root comes through the tunnel, by files and by blocks, with
its key on a medium and in a UEFI variable; and what somebody on the same wire gets."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.rehearse.network import BRIDGE
from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import PROGRAM, TIDEROOM, Lab, Machine, with_machines

pytestmark = with_machines("debootstrap", "mksquashfs", "wireguard-go", "tshark", "swtpm")
MARKER = b"low-water-seven-fathoms-"
LOOK = """#!/bin/sh
mount -t proc proc /proc
echo "GUEST mounted $(grep ' / ' /proc/mounts | tail -1)"
echo "GUEST secret $(stat -c '%U %a' /run/daskel/secrets/wayline /run/daskel/secrets/wayline/ticket | tr '\n' ' ')$(cat /run/daskel/secrets/wayline/ticket)"
echo "GUEST year $(date +%Y)"
echo "GUEST read $(grep -c fathoms /root/marked)"
sleep 600
"""
SITE = f"""{TIDEROOM}
[site.private]
interface = "dsk-vm0"
secrets = ["wayline/ticket"]
key = ["tpm", "variable", "medium", "passphrase"]
[root.notebook]
slate = "fresh"
private = true
[loadout.notebook]
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
args = ["init=/root/look"]
[client.tide-02]
mac = "02:61:08:00:00:02"
address = "10.61.8.22"
group = "tide"
delivery = "blocks"
[client.tide-04]
mac = "02:61:08:00:00:04"
group = "tide"
delivery = "memory"
args = ["init=/root/look"]
[client.tide-03]
mac = "02:61:08:00:00:03"
group = "tide"
loader = "none"
secure-boot = "db"
"""


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    made = made_lab(tmp_path_factory.mktemp("private"))
    try:
        yield made
    finally:
        made.run("ip", "link", "delete", "dsk-vm0")
        made.close()


def made_lab(folder: Path, site: str = SITE) -> Lab:
    """With a server that is ready."""
    ticket = folder / "files/clients/tide-01/wayline/ticket"
    ticket.parent.mkdir(parents=True)
    ticket.write_bytes(MARKER + b"ticket")
    (folder / "roots").mkdir()
    (folder / "daskel.toml").write_text(site)
    subprocess.run(["cp", "-a", guest.debian(), folder / "roots/notebook"], check=True)
    (folder / "roots/notebook/root/marked").write_bytes(MARKER * 50_000)
    look = folder / "roots/notebook/root/look"
    look.write_text(LOOK)
    look.chmod(0o755)
    shutil.copy(Path(__file__).with_name("unseal.pl"), folder / "roots/notebook/root")
    guest.stub(folder / "files")
    made = Lab(folder)
    made.daskel("keys", "make")
    assert "Its image has" in made.daskel("root", "seal", "notebook", "--yes")
    made.daskel("check")
    made.open()
    made.serve(folder / "daskel.toml")
    return made


def admitted(lab: Lab, machine: Machine, name: str) -> str:
    """It shows its word, and the lobby the same."""
    machine.wait_for("Its word:")
    word = re.findall(r"Its word: +(\w{6})", machine.console)[-1]
    assert f"daskel lobby admit {name} --word {word}" in lab.daskel("lobby", "list")
    wrong = subprocess.run(
        [PROGRAM, "lobby", "admit", name, "--word", "AAAAAA", "--site", lab.folder / "daskel.toml"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert wrong.returncode == 3 and "another word" in wrong.stderr, wrong
    assert f"{name} is admitted" in lab.daskel("lobby", "admit", name, "--word", word)
    return word


def listening(lab: Lab, name: str) -> Path:
    """All that is on the wire from now on."""
    pcap = lab.folder / f"{name}.pcap"
    log = lab.folder / "tshark.log"
    lab.start("tshark", "-q", "-i", BRIDGE, "-w", pcap, log=log)
    until(lambda: pcap.exists() and pcap.stat().st_size, log.read_text)
    return pcap


def test_bios_with_a_medium_by_files(lab: Lab) -> None:
    """The first program of its root reads a file there, and a secret one; then the same again,
    without a word, with a clock that has lost its battery."""
    medium = lab.folder / "key.img"
    lab.daskel("keys", "medium", str(medium))
    pcap = listening(lab, "medium")
    machine = lab.boot("tide-01", "02:61:08:00:00:01", "bios", disk=medium)
    admitted(lab, machine, "tide-01")
    machine.wait_for("GUEST read 1")
    assert machine.said("secret") == f"root 700 root 600 {MARKER.decode()}ticket"
    assert machine.said("mounted").startswith("[fd64:6173:6b65::1]:/roots/notebook")
    until(lambda: pcap.stat().st_size > 1 << 20, lambda: pcap.stat())
    assert MARKER not in pcap.read_bytes()
    machine.process.kill()
    clock = ("-rtc", "base=1970-01-01T00:00:00")
    again = lab.boot("again", "02:61:08:00:00:01", "bios", disk=medium, more=clock)
    again.wait_for("GUEST read 1")
    assert again.said("year") == "1970"
    assert "Its word" not in again.console
    keys = json.loads(lab.daskel("keys", "list", "--json"))["keys"]
    assert [(key["client"], key["place"], key["fits"]) for key in keys] == [
        ("tide-01", "medium", True)
    ]
    again.process.kill()


@pytest.mark.extended
def test_uefi_with_a_variable_by_blocks(lab: Lab) -> None:
    """Nobody but root reads the variable. Under load the server is killed; then the tunnel is down
    for a minute: what it reads is the same, and it goes on."""
    pcap = listening(lab, "variable")
    machine = lab.boot("tide-02", "02:61:08:00:00:02", "uefi-x64")
    admitted(lab, machine, "tide-02")
    machine.log_in()
    machine.type("echo GUEST'' read $(grep -c fathoms /root/marked); grep nbd0 /proc/mounts")
    machine.wait_for("GUEST read 1")
    machine.type("su -s /bin/sh nobody -c 'ls /sys/firmware/efi/efivars'; echo GUEST'' listed $?")
    machine.wait_for("GUEST listed 2")
    assert "Permission denied" in machine.console
    reads = "find /usr/bin /usr/lib/x86_64-linux-gnu -xdev -type f -exec cat {} + | sha256sum"
    for number in range(3):
        machine.type("echo 3 > /proc/sys/vm/drop_caches")
        machine.type(f"echo GUEST'' sum{number} $({reads})")
        time.sleep(2)
        if number == 1:
            lab.kill_server()
            lab.serve(lab.folder / "daskel.toml")
        if number == 2:
            lab.block("10.61.8.22", "udp", 51820)
            time.sleep(60)
            assert not machine.said("sum2"), "it was to be under load still"
            lab.run("ip", "rule", "del", "pref", "10")
        until(lambda number=number: machine.said(f"sum{number}"), lambda: machine.console[-500:])
    assert len({machine.said(f"sum{number}") for number in range(3)}) == 1
    assert MARKER not in pcap.read_bytes()
    machine.process.kill()


@pytest.mark.extended
def test_secure_boot_with_a_tpm(lab: Lab) -> None:
    """Nobody gets the key from it once the root is there, and another system never."""
    tpm, trusts = lab.folder / "tpm", {"db": lab.folder / "keys/site.pem"}
    pcap = listening(lab, "tpm")

    def on(name: str, *, secure_boot: bool = True) -> Machine:
        mac = "02:61:08:00:00:03"
        return lab.boot(
            name,
            mac,
            "uefi-x64",
            secure_boot=secure_boot,
            trusts=trusts if secure_boot else None,
            tpm=tpm,
        )

    machine = on("tide-03")
    admitted(lab, machine, "tide-03")
    machine.log_in()
    machine.type("echo GUEST'' read $(grep -c fathoms /root/marked)")
    machine.wait_for("GUEST read 1")
    machine.type("perl /root/unseal.pl 96 7 15; echo GUEST'' unsealed $?")
    machine.wait_for("GUEST unsealed")
    assert "TPM refused 14e: 0x99d" in machine.console
    assert MARKER not in pcap.read_bytes()
    machine.process.kill()
    again = on("again-03")
    again.wait_for("login:")
    assert "Its word" not in again.console
    assert "key: tpm" in again.console
    again.process.kill()
    other = on("other-03", secure_boot=False)
    other.wait_for("the TPM keeps its key back")
    other.process.kill()


@pytest.mark.extended
def test_a_rehearsal(lab: Lab) -> None:
    """It makes first contact with a server of its own, and is admitted by the word on its screen."""
    before = json.loads(lab.daskel("keys", "list", "--json"))["keys"]
    words = ("rehearse", "tide-01", "--machine", "--until", "GUEST read", "--keep")
    said = json.loads(lab.daskel(*words, str(lab.folder / "practice"), "--json"))
    assert said["good"] and said["stage"] == "root", said
    after = json.loads(lab.daskel("keys", "list", "--json"))["keys"]
    assert [key["public"] for key in after] == [key["public"] for key in before]


@pytest.mark.extended
def test_bios_with_a_passphrase(lab: Lab) -> None:
    """Typed twice at the first start, once at the next; a wrong one is told."""
    pcap = listening(lab, "passphrase")
    machine = lab.boot("tide-04", "02:61:08:00:00:04", "bios")
    machine.wait_for("this machine's passphrase:")
    machine.type("seven fathoms")
    machine.wait_for("the same again:")
    machine.type("seven fathoms")
    admitted(lab, machine, "tide-04")
    machine.wait_for("GUEST read 1")
    machine.process.kill()
    again = lab.boot("again-04", "02:61:08:00:00:04", "bios")
    again.wait_for("this machine's passphrase:")
    again.type("six fathoms")
    again.wait_for("this is not its passphrase")
    again.type("seven fathoms")
    again.wait_for("GUEST read 1")
    assert "Its word" not in again.console and "fathoms" not in again.console.partition("GUEST")[0]
    assert MARKER not in pcap.read_bytes()
    again.process.kill()
