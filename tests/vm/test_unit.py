"""The Debian package on a machine whose init is systemd: its unit starts, with everything cut down
that it cuts down, and a second machine boots from it."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from daskel.rehearse import machine
from daskel.rehearse.network import Network
from tests.conftest import until
from tests.vm import guest
from tests.vm.lab import with_machines
from tests.vm.test_packages import HERE, inside, run

pytestmark = [pytest.mark.extended, *with_machines("dpkg-buildpackage", "debootstrap", "mke2fs")]
PACKAGES = ("python3", "systemd-sysv", "udev", "dbus", "linux-image-cloud-amd64", "initramfs-tools",
            "zstd", "kmod", "iproute2", "grub-common", "grub-pc-bin")  # fmt: skip
SITE = """format = 1
[site]
files = "/srv/daskel/files"
roots = "/srv/daskel/roots"
slates = "/srv/daskel/slates"
state = "/var/lib/daskel/state.db"
account = "daskel"
loaders = ["bios"]
[segment.room]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
[root.hello]
slate = "fresh"
[loadout.hello]
kernel = "hello/vmlinuz"
initrd = ["hello/initrd.img"]
args = ["console=ttyS0,115200"]
root = "hello"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "room"
boot = "hello"
"""
NETWORK = "[Match]\nName=e*\n[Network]\nAddress=10.61.8.1/24\n"
REPORT = """[Unit]
After=daskel.service
[Service]
Type=oneshot
Environment=SYSTEMD_URLIFY=0 SYSTEMD_COLORS=0
ExecStart=/bin/sh -c 'echo "UNIT $(systemctl is-active daskel)"; systemd-analyze security --no-pager daskel; echo "UNIT reported"'
StandardOutput=tty
TTYPath=/dev/ttyS0
[Install]
WantedBy=multi-user.target
"""


@dataclass
class Room:
    """The server, as a machine, and what it needs to have others beside it."""

    network: Network
    folder: Path

    @property
    def server_console(self) -> str:
        return (self.folder / "server.console").read_text(errors="replace")


@pytest.fixture(scope="module")
def room(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Room]:
    folder = tmp_path_factory.mktemp("unit")
    tree = folder / "tree"
    run(HERE / "packaging/build-deb")
    run("debootstrap", "--variant=minbase", f"--include={','.join(PACKAGES)}", "bookworm", tree)
    (package,) = (HERE / "build").glob("daskel_*.deb")
    shutil.copy(package, tree / "root")
    inside(tree, "dpkg", "-i", f"/root/{package.name}")
    (tree / "etc/daskel/daskel.toml").write_text(SITE)
    (tree / "etc/systemd/network/room.network").write_text(NETWORK)
    (tree / "etc/systemd/system/report.service").write_text(REPORT)
    inside(tree, "systemctl", "enable", "daskel", "report", "systemd-networkd")
    files = tree / "srv/daskel/files/hello"
    files.mkdir(parents=True)
    shutil.copy(guest.kernel(), files / "vmlinuz")
    guest.write_initrd(files / "initrd.img")
    guest.write_root(tree / "srv/daskel/roots/hello", "hello from the unit", b"x")
    run("mke2fs", "-q", "-t", "ext4", "-d", tree, folder / "disk", "4G")
    kernel, initrd = (next(tree.glob(f"boot/{name}-*")) for name in ("vmlinuz", "initrd.img"))
    network = Network([])
    network.add_tap("server")
    words = "root=/dev/vda rw console=ttyS0,115200 systemd.journald.forward_to_console=1"
    network.start(
        "qemu-system-x86_64", "-accel", "tcg", "-cpu", "max", "-m", "1536", "-nodefaults",
        "-display", "none", "-serial", f"file:{folder}/server.console",
        "-drive", f"file={folder}/disk,if=virtio,format=raw", "-kernel", kernel, "-initrd", initrd,
        "-append", words, "-netdev", "tap,id=net,ifname=server,script=no,downscript=no",
        "-device", "virtio-net-pci,netdev=net,mac=02:61:08:00:00:fe", log=folder / "server.qemu",
    )  # fmt: skip
    found = Room(network, folder)
    until((folder / "server.console").exists)
    yield found
    network.close()


def test_it_starts_and_is_cut_down(room: Room) -> None:
    until(lambda: "UNIT reported" in room.server_console, lambda: room.server_console[-3000:])
    assert "UNIT active" in room.server_console, room.server_console[-6000:]
    found = re.search(r"Overall exposure level for .*?: (\d+\.\d)", room.server_console)
    assert found and float(found[1]) < 5, room.server_console[-3000:]


def test_another_machine_boots_from_it(room: Room) -> None:
    made = machine.switch_on(room.network, room.folder, "tide-01", "02:61:08:00:00:01", "bios")
    until(
        lambda: "GUEST waits" in made.console or not made.runs, lambda: room.server_console[-3000:]
    )
    assert "hello from the unit" in made.console, made.console[-2000:]
    until(lambda: "tide-01 mounted" in " ".join(room.server_console.split()))


def test_it_ends_quietly(room: Room) -> None:
    """Nothing that it may not do was asked of the kernel."""
    assert "code=killed" not in room.server_console and "SIGSYS" not in room.server_console
