"""`nfs = "kernel"` where the operating system has an NFS server: a virtual machine is the server, and
in network namespaces of its own two clients."""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

import daskel as package
from tests.conftest import PATIENCE
from tests.vm import guest, test_slates
from tests.vm.lab import Lab
from tests.vm.test_slates import SITE

pytestmark = test_slates.pytestmark
INSIDE = """format = 1
[site]
nfs = "kernel"
roots = "roots"
slates = "slates"
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.20.0/24"
server = "10.61.20.1"
interface = "clients"
dhcp = "full"
pool = ["10.61.20.100 - 10.61.20.199"]
[root.notebook]
slate = "keep"
[root.shared]
[loadout.notebook]
kernel = "vmlinuz"
root = "notebook"
[loadout.shared]
kernel = "vmlinuz"
root = "shared"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "notebook"
[client.tide-02]
mac = "02:61:08:00:00:02"
segment = "tideroom"
boot = "shared"
"""
SCRIPT = """#!/bin/sh
said() { echo "GUEST $*"; }
daskel() { PYTHONPATH=/opt/daskel python3 -c 'import sys; from daskel.cli.main import main; sys.exit(main())' "$@"; }
as() { number=$1; shift; nsenter --net=/run/netns/c$number "$@"; }
serve() {
  : >/srv/log
  PYTHONPATH=/opt/daskel python3 -c 'from daskel.cli.main import main; main()' serve >/srv/log 2>&1 &
  server=$!
  until grep -q ' ready ' /srv/log; do sleep 1; done
  said serves
}
mount -t tmpfs none /srv
truncate -s 300M /srv/disk && mkfs.ext4 -q /srv/disk && mkdir /srv/site && mount -o loop /srv/disk /srv/site
cd /srv/site
cp /root/inside.toml daskel.toml
mkdir -p files roots/notebook/etc roots/shared/etc
echo kernel >files/vmlinuz
echo hello | tee roots/notebook/etc/greeting >roots/shared/etc/greeting
ip link add clients type bridge && ip address add 10.61.20.1/24 dev clients && ip link set clients up
for number in 1 2; do
  ip netns add c$number
  ip link add v$number type veth peer name eth0 address 02:61:08:00:00:0$number netns c$number
  ip link set v$number master clients up
  ip -n c$number link set eth0 up
  mkdir /srv/mnt$number
done
systemctl start nfs-server
daskel root seal shared --yes >/dev/null && said sealed
serve
for number in 1 2; do
  as $number busybox udhcpc -i eth0 -n -q -f -t 10 -s /root/got && said address $number
done
sleep 2
cat /etc/exports.d/daskel.exports
exports=10.61.20.1:/run/daskel/exports
options=vers=3,tcp,nolock,soft,timeo=100
as 1 mount -t nfs -o $options $exports/slates/notebook/tide-01 /srv/mnt1 && said mounted 1
as 2 mount -t nfs -o $options $exports/roots/shared /srv/mnt2 && said mounted 2
as 2 mount -t nfs -o $options $exports/slates/notebook/tide-01 /mnt 2>/dev/null || said refused
said names $(cat /srv/mnt1/etc/hostname /srv/mnt1/etc/greeting /srv/mnt2/etc/greeting)
dd if=/dev/urandom of=/srv/mnt1/large bs=1M count=20 status=none && mkdir /srv/mnt1/folder
mv /srv/mnt1/folder /srv/mnt1/etc/folder && mv /srv/mnt1/etc/greeting /srv/mnt1/greeting && said changed
md5sum </srv/mnt1/large >/srv/sum
touch /srv/mnt2/new 2>/dev/null || said read-only
said open $(daskel slate list --json | grep -o '"connected": true')
kill -9 $server; sleep 3
echo 3 >/proc/sys/vm/drop_caches
md5sum </srv/mnt1/large | cmp -s - /srv/sum && said goes on
serve
echo more >>/srv/mnt1/greeting && said slate $(daskel slate show tide-01 | grep -c -e large -e greeting)
daskel slate wipe tide-01 --yes >/dev/null && said wiped
umount -l /srv/mnt1; sleep 3
as 1 mount -t nfs -o $options $exports/slates/notebook/tide-01 /srv/mnt1 && said anew $(ls /srv/mnt1)
said done
poweroff
"""
GOT = """#!/bin/sh
[ "$1" = bound ] && ip address add $ip/24 dev eth0
exit 0
"""
INSTALL = "apt-get update -q && apt-get install -qy --no-install-recommends"
NOT_NEEDED = (
    "mypy*",
    "ruff*",
    "hypothesis*",
    "pip*",
    "pytest*",
    "*.dist-info",
    "numpy*",
)


def with_daskel(tmp_path: Path, packages: str, files: Mapping[str, str]) -> Lab:
    """A lab whose notebook has these packages, Daskel in /opt, and files in /root."""
    (tmp_path / "files").mkdir()
    (tmp_path / "roots").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    root = tmp_path / "roots/notebook"
    subprocess.run(["cp", "-a", guest.debian(), root], check=True)
    lab = Lab(tmp_path)
    program, site = Path(sys.executable).with_name("daskel"), tmp_path / "daskel.toml"
    edit = [program, "root", "edit", "notebook", "--site", site, "--", "sh", "-c"]
    subprocess.run([*edit, f"{INSTALL} {packages}"], check=True)
    libraries = Path(sys.prefix) / "lib/python3.11/site-packages"
    shutil.copytree(libraries, root / "opt/daskel", ignore=shutil.ignore_patterns(*NOT_NEEDED))
    shutil.copytree(Path(package.__file__).parent, root / "opt/daskel/daskel")
    for name, text in files.items():
        (root / "root" / name).write_text(text)
        (root / "root" / name).chmod(0o755)
    lab.daskel("root", "files", "notebook")
    return lab


def test_the_operating_systems_nfs_server(tmp_path: Path) -> None:
    files = {"inside.toml": INSIDE, "kernel": SCRIPT, "got": GOT}
    lab = with_daskel(tmp_path, "nfs-kernel-server python3 busybox", files)
    lab.open()
    try:
        lab.serve(tmp_path / "daskel.toml")
        machine = lab.boot("server", "02:61:08:00:00:01", "bios")
        machine.wait_for("login:")
        machine.type("root")
        machine.wait_for(":~#")
        machine.type("/root/kernel; poweroff")
        machine.wait_for("GUEST done")
        said = machine.console
        for what in (
            "mounted 1",
            "mounted 2",
            "refused",
            "changed",
            "read-only",
            "goes on",
            "wiped",
        ):
            assert f"GUEST {what}" in said, f"{what}: {said}"
        assert machine.said("names") == "tide-01 hello hello"
        assert machine.said("open") == '"connected": true'
        assert machine.said("slate") == "3", said  # large, greeting, etc/greeting removed
        assert machine.said("anew") == "etc", said
        machine.process.wait(PATIENCE)
    finally:
        lab.close()
