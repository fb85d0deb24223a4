"""A machine that runs is copied over ssh: by real ssh and rsync, from a system in a folder."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from daskel.core.roots.machine_mounts import FileSystem, Machine, file_systems, machine_of
from tests.conftest import daskel
from tests.image_roots import add_kernel
from tests.ssh_server import needs_ssh, sshd

NAME = "root@reference.skerry.example:/"
SITE = """format = 1
[site]
roots = "roots"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
"""
FSTAB = """UUID=1 / ext4 errors=remount-ro 0 1
UUID=2 /home ext4 defaults 0 2
UUID=3 none swap sw 0 0
"""
INTERFACES = """auto lo
iface lo inet loopback

auto enp3s0
iface enp3s0 inet static
  address 10.61.8.50/24
  gateway 10.61.8.254
"""


@pytest.mark.parametrize(
    ("text", "machine"),
    [
        ("root@10.61.8.50:/", Machine("root@10.61.8.50", "/")),
        ("desk.skerry.example:/srv/x", Machine("desk.skerry.example", "/srv/x")),
        ("root@[fd61::8]:/", Machine("root@[fd61::8]", "/")),
        ("notebook.img", None), ("./a:b", None), ("a:b", None), ("-oProxyCommand=x:/", None),
        ("root@-x:/", None), ("/srv/a:/b", None),
    ],
)  # fmt: skip
def test_what_names_a_machine(text: str, machine: Machine | None) -> None:
    assert machine_of(text) == machine


def test_which_file_systems_are_copied() -> None:
    mounts = """/dev/sda1 / ext4 rw 0 0
proc /proc proc rw 0 0
/dev/sda2 /home ext4 rw 0 0
/dev/sda3 /srv/two\\040words xfs rw 0 0
/dev/sdb1 /media/stick vfat rw 0 0
10.61.8.1:/x /net nfs rw 0 0
/dev/sda4 /not-in-fstab ext4 rw 0 0
"""
    fstab = """# comment
UUID=1 / ext4 defaults 0 1
UUID=2 /home/ auto defaults 0 2
UUID=3 /srv/two\\040words xfs defaults 0 2
/dev/sdb1 /media/stick vfat defaults 0 0
10.61.8.1:/x /net nfs defaults 0 0
UUID=9 /not-mounted ext4 noauto 0 0
"""
    df = """Filesystem 1024-blocks Used Available Capacity Mounted on
/dev/sda1 100 10 90 10% /
/dev/sda3 100 30 70 30% /srv/two words
"""
    found = [FileSystem("/", 10240), FileSystem("/home", 0), FileSystem("/srv/two words", 30720)]
    assert file_systems(fstab, mounts, df) == found
    assert file_systems("", mounts, "") == [FileSystem("/", 0)]


@dataclass
class Reference:
    """The machine: its tree, and the folder whose programs reach it."""

    tree: Path
    programs: Path

    def run(self, room: Path, *words: str) -> subprocess.CompletedProcess[str]:
        path = os.environ["PATH"]
        os.environ["PATH"] = f"{self.programs}:{path}"
        try:
            return daskel(*words, "--site", room / "daskel.toml")
        finally:
            os.environ["PATH"] = path


def _system(tree: Path) -> None:
    for name in (
        "bin",
        "usr/bin",
        "etc/network",
        "home",
        "proc/self",
        "tmp",
        "run",
        "sbin",
        "dev",
        "sys",
    ):
        (tree / name).mkdir(parents=True)
    shutil.copy("/bin/busybox", tree / "bin/busybox")
    for applet in ("sh", "cat", "df", "echo"):
        (tree / "bin" / applet).symlink_to("busybox")
    rsync = shutil.which("rsync")
    assert rsync
    shutil.copy(rsync, tree / "usr/bin/rsync")
    linked = subprocess.run(["ldd", rsync], capture_output=True, text=True, check=True).stdout
    for word in (word for word in linked.split() if word.startswith("/")):
        (tree / word[1:]).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(word, tree / word[1:])
    (tree / "etc/fstab").write_text(FSTAB)
    (tree / "etc/network/interfaces").write_text(INTERFACES)
    (tree / "proc/self/mounts").write_text("/dev/sda1 / ext4 rw 0 0\n/dev/sda2 /home ext4 rw 0 0\n")
    (tree / "tmp/rubbish").write_text("x")
    (tree / "etc/shadow").write_text("secret")
    os.chown(tree / "etc/shadow", 0, 42)
    (tree / "etc/shadow").chmod(0o640)
    os.link(tree / "etc/shadow", tree / "etc/shadow-")
    os.setxattr(tree / "usr/bin/rsync", "user.note", b"kept")
    with (tree / "holes").open("wb") as file:
        file.seek(8 << 20)
        file.write(b"end")
    (tree / "sbin/init").symlink_to("../bin/busybox")
    add_kernel(tree, "6.1.0-1-demo")


@pytest.fixture
def reference(tmp_path: Path) -> Iterator[Reference]:
    """A system in a folder, with its /home on a disk of its own, and sshd before it."""
    tree = tmp_path / "tree"
    _system(tree)
    with (tmp_path / "home.img").open("wb") as file:
        file.truncate(16 << 20)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", tmp_path / "home.img"], check=True)
    subprocess.run(["mount", "-o", "loop", tmp_path / "home.img", tree / "home"], check=True)
    (tree / "home/mine").write_text("of a person")
    try:
        with sshd(tmp_path, f'exec chroot {tree} /bin/sh -c "$SSH_ORIGINAL_COMMAND"') as programs:
            yield Reference(tree, programs)
    finally:
        subprocess.run(["umount", tree / "home"], check=True)


@pytest.fixture
def room(tmp_path: Path) -> Path:
    made = tmp_path / "room"
    (made / "files").mkdir(parents=True)
    (made / "daskel.toml").write_text(SITE)
    return made


class TestCopying:
    pytestmark = needs_ssh

    def test_all_that_belongs_to_it(self, reference: Reference, room: Path) -> None:
        done = reference.run(room, "root", "import", "notebook", NAME, "--loadout", "notebook")
        assert done.returncode == 0 and "the running machine" in done.stdout, done
        assert "(/, /home)" in done.stdout
        made = room / "roots/notebook"
        status = (made / "etc/shadow").stat()
        assert (status.st_gid, status.st_mode & 0o777, status.st_nlink) == (42, 0o640, 2)
        assert os.getxattr(made / "usr/bin/rsync", "user.note") == b"kept"
        assert (made / "holes").stat().st_blocks * 512 < 1 << 20 < (made / "holes").stat().st_size
        assert (made / "home/mine").read_text() == "of a person"
        assert not list((made / "proc").iterdir()) and not list((made / "tmp").iterdir())
        looked = reference.run(room, "root", "inspect", "notebook")
        assert looked.returncode == 1
        for word in ("waits for /home", "swaps to a disk", "an address of its own"):
            assert word in looked.stdout, looked

    def test_fitted_and_refreshed(self, reference: Reference, room: Path) -> None:
        words = ["root", "import", "notebook", NAME, "--fit"]
        done = reference.run(room, *words, "--json")
        assert done.returncode == 0, done
        said = " ".join(json.loads(done.stdout)["fitted"])
        for word in ("/home on UUID=2", "swap on UUID=3", "enp3s0 stays"):
            assert word in said, said
        made = room / "roots/notebook"
        fstab = (made / "etc/fstab").read_text()
        assert all(line.startswith("# no disk: ") for line in fstab.splitlines()), fstab
        assert (
            "iface enp3s0 inet manual\n#   address" in (made / "etc/network/interfaces").read_text()
        )
        looked = reference.run(room, "root", "inspect", "notebook")
        assert "waits for" not in looked.stdout and "of its own" not in looked.stdout, looked
        before = (made / "bin/busybox").stat().st_ino
        (reference.tree / "etc/new").write_text("x")
        (reference.tree / "home/mine").unlink()
        again = reference.run(room, *words, "--refresh", "--yes")
        assert again.returncode == 0, again
        assert (made / "etc/new").exists() and not (made / "home/mine").exists()
        assert (made / "bin/busybox").stat().st_ino == before, "what is the same is not copied"

    def test_a_machine_that_does_not_answer(self, reference: Reference, room: Path) -> None:
        (reference.tree / "usr/bin/rsync").unlink()
        done = reference.run(room, "root", "import", "notebook", NAME)
        assert done.returncode == 1 and "apt install rsync" in done.stderr, done
        assert not (room / "roots/notebook").exists()
        (reference.programs / "ssh").write_text("#!/bin/sh\nexit 255\n")
        done = reference.run(room, "root", "import", "notebook", NAME)
        assert done.returncode == 1 and "cannot be asked over ssh" in done.stderr, done
