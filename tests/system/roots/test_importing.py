"""Systems brought in from everything that they come in, with nothing lost on the way."""

from __future__ import annotations

import os
import stat
import struct
import subprocess
import tarfile
from collections.abc import Callable
from io import BytesIO
from pathlib import Path

import pycdlib
import pytest

from daskel.core.roots.partitions import Partition, kind_of, partitions
from daskel.system.roots.sealing import differences
from daskel.system.roots.tree_copy import copy_tree, forgets
from tests.conftest import SiteText, daskel

needs_root = pytest.mark.skipif(os.geteuid() != 0, reason="owners and mounts need root")
CAPABILITY = bytes.fromhex("0100000200040000000000000000000000000000")  # cap_net_bind_service
SITE = """format = 1
[site]
roots = "roots"
state = "state.db"
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "off"
"""


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    """What is lost easily: owners, links, devices, times, attributes, holes, odd names."""
    top = tmp_path / "tree"
    for name in ("etc", "bin", "sbin", "dev", "boot", "tmp"):
        (top / name).mkdir(parents=True)
    (top / "etc/os-release").write_text("NAME=made-up\n")
    (top / "etc/shadow").write_text("secret")
    (top / "etc/shadow").chmod(0o640)
    os.chown(top / "etc/shadow", 0, 42)
    (top / "bin/ping").write_bytes(b"\x7fELF" + bytes(100))
    os.setxattr(top / "bin/ping", "security.capability", CAPABILITY)
    (top / "bin/su").write_bytes(b"x")
    (top / "bin/su").chmod(0o4755)
    (top / "sbin/init").symlink_to("../bin/su")
    os.link(top / "bin/su", top / "bin/sudo")
    os.mknod(top / "dev/null", stat.S_IFCHR | 0o666, os.makedev(1, 3))
    (top / "tmp").chmod(0o1777)
    (top / "etc/näme with space").write_text("x")
    (top / "boot/vmlinuz-6.1").write_bytes(
        bytes(0x202) + b"HdrS" + bytes(8) + b"\x80\0" + bytes(112) + b"6.1.0-demo (x)\0" + bytes(99)
    )
    with (top / "bin/holes").open("wb") as file:
        file.seek(1 << 20)
        file.write(b"end")
    for path in [*top.rglob("*"), top]:  # whole seconds: not every archive has smaller parts
        os.utime(path, (10**9, 10**9), follow_symlinks=False)
    return top


def same(one: Path, other: Path, *, attributes: bool = True) -> None:
    assert not list(differences(one, other))
    assert (other / "etc/os-release").stat().st_mtime == 10**9
    assert (other / "bin/su").stat().st_ino == (other / "bin/sudo").stat().st_ino
    if attributes:
        assert os.getxattr(other / "bin/ping", "security.capability") == CAPABILITY


def archive(how: str) -> Callable[[Path, Path], Path]:
    def make(tree: Path, folder: Path) -> Path:
        target = folder / f"system.tar.{how}"
        program = {"gz": "gzip", "xz": "xz", "zst": "zstd"}[how]
        words = ["tar", "--xattrs", "--xattrs-include=*", "--numeric-owner", "--sort=name"]
        subprocess.run(
            [*words, f"--use-compress-program={program}", "-cf", target, "-C", tree, "."],
            check=True,
        )
        return target

    return make


def squashfs(tree: Path, folder: Path) -> Path:
    target = folder / "system.image"
    subprocess.run(
        ["mksquashfs", tree, target, "-quiet", "-no-progress"],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return target


def file_system(tree: Path, folder: Path, name: str = "ext4", size: int = 16) -> Path:
    target = folder / f"{name}.part"
    target.write_bytes(b"")
    os.truncate(target, size << 20)
    subprocess.run(["mkfs.ext4", "-q", "-d", tree, target], check=True)
    return target


def disk(gpt: bool) -> Callable[[Path, Path], Path]:
    """A boot partition with the kernel, and the system in the second, its /boot empty."""

    def make(tree: Path, folder: Path) -> Path:
        boot, system = folder / "b", folder / "s"
        boot.mkdir()
        copy_tree(tree, system)
        (system / "boot/vmlinuz-6.1").rename(boot / "vmlinuz-6.1")
        os.utime(system / "boot", ns=(1, 10**18))
        parts = [file_system(boot, folder, "boot", 4), file_system(system, folder)]
        starts, sizes = (2048, 2048 + 4 * 2048), (4 * 2048, 16 * 2048)
        head = _gpt(starts, sizes) if gpt else _mbr(starts, sizes)
        target = folder / "disk.img"
        with target.open("wb") as file:
            file.write(head)
            for start, part in zip(starts, parts, strict=True):
                file.seek(start * 512)
                file.write(part.read_bytes())
        return target

    return make


def virtual(kind: str, *options: str) -> Callable[[Path, Path], Path]:
    """The same disk, as virtual machines have it."""

    def make(tree: Path, folder: Path) -> Path:
        source, target = disk(False)(tree, folder), folder / f"disk.{kind}"
        command = ["qemu-img", "convert", "-f", "raw", "-O", kind, *options, source, target]
        subprocess.run(command, check=True)
        source.unlink()
        return target

    return make


def _mbr(starts: tuple[int, ...], sizes: tuple[int, ...], kind: int = 0x83) -> bytes:
    head = bytearray(512)
    for index, (start, size) in enumerate(zip(starts, sizes, strict=True)):
        struct.pack_into("<B3sB3sII", head, 446 + 16 * index, 0, b"", kind, b"", start, size)
    return bytes(head[:510]) + b"\x55\xaa"


def _gpt(starts: tuple[int, ...], sizes: tuple[int, ...]) -> bytes:
    entries = b"".join(struct.pack("<16s16sQQQ72s", b"k" * 16, b"u" * 16, s, s + n - 1, 0, b"")
                       for s, n in zip(starts, sizes, strict=True))  # fmt: skip
    fields = (b"EFI PART", 0x10000, 92, 0, 0, 1, 0, 34, 0, b"d" * 16, 2, 128, 128, 0)
    header = struct.pack("<8sIIIIQQQQ16sQIII", *fields)
    return _mbr((1,), (1,), 0xEE) + header.ljust(512, b"\0") + entries.ljust(128 * 128, b"\0")


def live_image(tree: Path, folder: Path) -> Path:
    data, target = squashfs(tree, folder).read_bytes(), folder / "live.iso"
    iso = pycdlib.PyCdlib()
    iso.new(rock_ridge="1.09")
    iso.add_directory("/LIVE", rr_name="live")
    iso.add_fp(BytesIO(data), len(data), "/LIVE/SYSTEM.;1", rr_name="system")
    iso.write(str(target))
    iso.close()
    return target


SOURCES: list[tuple[str, Callable[[Path, Path], Path]]] = [
    ("a folder", lambda tree, _: tree),
    ("an archive", archive("gz")),
    ("an archive", archive("xz")),
    ("an archive", archive("zst")),
    ("a file system (squashfs)", squashfs),
    ("a file system (ext4)", file_system),
    ("partition 2 of a disk image, and of 1 as its /boot", disk(False)),
    ("partition 2 of a disk image, and of 1 as its /boot", disk(True)),
    ("inside of an ISO image", live_image),
    ("partition 2 of a qcow2 image, and of 1 as its /boot", virtual("qcow2")),
    ("partition 2 of a vmdk image, and of 1 as its /boot", virtual("vmdk")),
    ("partition 2 of a vmdk image", virtual("vmdk", "-o", "subformat=twoGbMaxExtentFlat")),
    ("partition 2 of a vdi image, and of 1 as its /boot", virtual("vdi")),
    ("partition 2 of a vhdx image, and of 1 as its /boot", virtual("vhdx")),
]


@needs_root
@pytest.mark.parametrize(("what", "make"), SOURCES)
def test_import(tree: Path, tmp_path: Path, what: str, make: Callable[[Path, Path], Path]) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    site = ("--site", tmp_path / "daskel.toml")
    done = daskel("root", "import", "notebook", make(tree, tmp_path), *site)
    assert done.returncode == 0 and what in done.stdout, done
    assert "vmlinuz-6.1: 6.1.0-demo, x86" in done.stdout
    made = tmp_path / "roots/notebook"
    for folder in (tree, made):  # of file systems that are made with one
        (folder / "lost+found").rmdir() if (folder / "lost+found").exists() else None
    if "partition" in what:
        (made / "boot/lost+found").rmdir()
    same(tree, made)
    assert "[root.notebook]" in (tmp_path / "daskel.toml").read_text()
    again = daskel("root", "import", "notebook", tree, *site)
    assert again.returncode == 2 and "--replace" in again.stderr
    asked = daskel("root", "import", "notebook", tree, "--replace", *site)
    assert asked.returncode == 2 and "give --yes" in asked.stderr and (made / "etc/shadow").exists()
    assert str(tmp_path) not in Path("/proc/self/mounts").read_text()
    assert [p.name for p in (tmp_path / "roots/.versions/notebook").iterdir()] == []


def _one_partition(begins: bytes, at: int) -> bytes:
    part = bytearray(1 << 20)
    part[at : at + len(begins)] = begins
    return _mbr((2048,), (2048,)).ljust(1 << 20, b"\0") + bytes(part)


CANNOT = [
    ("disk.img", _one_partition(b"LUKS\xba\xbe", 0), "encrypted (LUKS)", "cryptsetup open"),
    ("disk.img", _one_partition(b"LABELONE", 512), "volume group (LVM)", "vgchange -ay"),
    ("disk.img", _one_partition(b"NTFS    ", 3), "of Windows (NTFS)", "another partition"),
    ("disk.img", _one_partition(b"-FVE-FS-", 3), "encrypted by Windows", "another system"),
    ("disk.img", _one_partition(b"x", 0), "1 (unknown)", "--partition"),
    ("part.img", b"LUKS\xba\xbe" + bytes(4096), "is encrypted (LUKS)", "root@ADDRESS:/"),
    ("damaged.qcow2", b"QFI\xfb" + bytes(4096), "cannot be read", "qemu-img check"),
    ("damaged.vhdx", b"vhdxfile" + bytes(4096), "cannot be read", "qemu-img check"),
]


@needs_root
@pytest.mark.parametrize(("name", "data", "problem", "remedy"), CANNOT)
def test_what_cannot_be_imported(
    tmp_path: Path, name: str, data: bytes, problem: str, remedy: str
) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    (tmp_path / name).write_bytes(data)
    done = daskel("root", "import", "a", tmp_path / name, "--site", tmp_path / "daskel.toml")
    assert done.returncode == 1 and problem in done.stderr and remedy in done.stderr, done
    assert not (tmp_path / "roots/a").exists()


@needs_root
@pytest.mark.parametrize("kind", ["qcow2", "data file", "vmdk"])
def test_an_image_reads_no_other_file(tmp_path: Path, kind: str) -> None:
    """An image may say that a part of it is any file of this machine."""
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    secret, image = tmp_path / "other/secret", tmp_path / "image"
    secret.parent.mkdir()
    secret.write_bytes(bytes(1 << 20))
    if kind == "qcow2":
        words = ["create", "-f", "qcow2", "-b", secret, "-F", "raw", image]
    elif kind == "data file":
        words = ["create", "-f", "qcow2", "-o", f"data_file={secret},data_file_raw=on", image, "1M"]
    else:
        words = ["create", "-f", "vmdk", "-o", "subformat=monolithicFlat", image, "1M"]
    subprocess.run(["qemu-img", *words], check=True, capture_output=True)
    if kind == "vmdk":
        image.write_text(SiteText(image.read_text()).replace("image-flat", str(secret)))
    done = daskel("root", "import", "a", image, "--site", tmp_path / "daskel.toml")
    assert done.returncode == 1 and str(secret) in done.stderr, done


@needs_root
def test_the_files_of_an_iso_image(tmp_path: Path) -> None:
    iso, target = pycdlib.PyCdlib(), tmp_path / "plain.iso"
    iso.new(rock_ridge="1.09")
    iso.add_directory("/ETC", rr_name="etc", file_mode=0o040755)
    iso.add_fp(BytesIO(b"hello"), 5, "/ETC/GREETING.;1", rr_name="greeting", file_mode=0o100640)
    iso.add_symlink("/ETC/LINK.;1", "link", "greeting")
    iso.write(str(target))
    iso.close()
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    done = daskel("root", "import", "plain", target, "--site", tmp_path / "daskel.toml")
    assert done.returncode == 0, done
    etc = tmp_path / "roots/plain/etc"
    assert (etc / "greeting").read_bytes() == b"hello" and (etc / "link").readlink() == Path(
        "greeting"
    )
    assert stat.S_IMODE((etc / "greeting").stat().st_mode) == 0o640


def _escaping(folder: Path) -> Path:
    target = folder / "bad.tar"
    with tarfile.open(target, "w") as out:
        link = tarfile.TarInfo("etc")
        link.type, link.linkname = tarfile.SYMTYPE, str(folder)
        out.addfile(link)
        file = tarfile.TarInfo("etc/escaped")
        file.size = 1
        out.addfile(file, BytesIO(b"x"))
    return target


def _written(name: str, data: bytes) -> Callable[[Path], Path]:
    def make(folder: Path) -> Path:
        (folder / name).write_bytes(data)
        return folder / name

    return make


BAD: list[tuple[Callable[[Path], Path], str]] = [
    (lambda folder: folder / "missing", "No such file"),
    (_written("text", b"hello"), "is not an archive"),
    (_written("cut.tar.gz", b"\x1f\x8b\x08" + bytes(30)), "cannot be unpacked"),
    (_written("empty.img", _mbr((), ())), "no partition with a system"),
    (_written("gpt.img", _mbr((1,), (1,), 0xEE)), "protective MBR and no GPT"),
    (_escaping, "leads out of it"),
]


@needs_root
@pytest.mark.parametrize(("make", "said"), BAD)
def test_what_cannot_be_brought_in(tmp_path: Path, make: Callable[[Path], Path], said: str) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    done = daskel("root", "import", "notebook", make(tmp_path), "--site", tmp_path / "daskel.toml")
    assert done.returncode == 1 and said in done.stderr, done
    assert not (tmp_path / "roots/notebook").exists() and not (tmp_path / "escaped").exists()
    assert not list((tmp_path / "roots/.versions/notebook").iterdir()), "nothing half done is left"


DEBOOTSTRAP = """#!/bin/sh
# Stands in for the real one, which tests/vm runs: says what it does, and fails or not.
for last; do :; done
echo "I: Retrieving busybox 1.35"
case "$*" in
  *no-such-release*) echo "E: No such script: no-such-release"; exit 1 ;;
esac
for folder; do case $folder in */.unfinished) break ;; esac; done
mkdir -p "$folder/etc" "$folder/usr/bin"
printf '%s\\n' "$*" > "$folder/etc/asked"
cp /bin/busybox "$folder/usr/bin/true"
for name in update-initramfs apt-get; do ln -s true "$folder/usr/bin/$name"; done
"""
BUILT = [
    ((), 3, "failed in the new system"),  # busybox has no such applet
    (("--release", "no-such-release"), 3, "debootstrap failed: No such script"),
    (("--processor", "abacus"), 3, "programs for abacus do not run"),
    (("--list", "nothing"), 3, "there is no package list nothing"),
    (("--dry-run",), 0, ""),
]


@needs_root
@pytest.mark.parametrize(("words", "code", "said"), BUILT)
def test_build_that_fails_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...], code: int, said: str
) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "bin").mkdir()
    (tmp_path / "daskel.toml").write_text(SITE)
    (tmp_path / "bin/debootstrap").write_text(DEBOOTSTRAP)
    (tmp_path / "bin/debootstrap").chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path / 'bin'}:{os.environ['PATH']}")
    done = daskel("root", "build", "made", *words, "--site", tmp_path / "daskel.toml")
    assert done.returncode == code and said in done.stderr, done
    assert not (tmp_path / "roots/made").exists()
    versions = tmp_path / "roots/.versions/made"
    assert not versions.exists() or not list(versions.iterdir())


def test_partitions() -> None:
    extended = bytearray(_mbr((2048, 4096), (1024, 8192)))
    extended[446 + 16 + 4] = 0x05
    image = bytearray(8 << 20)
    image[:512] = extended
    image[4096 * 512 : 4096 * 512 + 512] = _mbr((10, 100), (20, 1000))
    image[4196 * 512 : 4196 * 512 + 512] = _mbr((10,), (30,))
    found = partitions(lambda at, count: bytes(image[at : at + count]))
    assert found == [
        Partition(1, 2048 * 512, 1024 * 512),
        Partition(5, 4106 * 512, 20 * 512),
        Partition(6, 4206 * 512, 30 * 512),
    ]
    assert kind_of(bytes(image)) == "disk" and kind_of(b"hello") is None


FORGOTTEN = [
    ("var/log/**", "var/log/a/b", True),
    ("var/log/**", "var/log", False),
    ("etc/ssh/ssh_host_*_key*", "etc/ssh/ssh_host_rsa_key.pub", True),
    ("tmp/*", "tmp/a/b", False),
    ("/etc/machine-id", "etc/machine-id", True),
    ("etc/x.y", "etc/xzy", False),
]


@pytest.mark.parametrize(("pattern", "path", "expected"), FORGOTTEN)
def test_what_is_forgotten(pattern: str, path: str, expected: bool) -> None:
    assert forgets([pattern])(path) is expected
    assert forgets([])(path) is False
