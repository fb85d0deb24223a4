"""What keeps a root from being booted without a disk, and what an initrd and a kernel say."""

from __future__ import annotations

import struct
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.roots.inspect import (
    Facts,
    Handed,
    Program,
    cpio_names,
    elf_program,
    inspect,
)
from daskel.core.roots.kernels import kernel_release
from daskel.core.roots.packages import changes, parse_status
from daskel.core.site.finding import Severity
from daskel.core.site.positions import Origin

HERE = Origin("daskel.toml", 9, 1)
INIT = Program("/sbin/init", 62, "/lib64/ld-linux-x86-64.so.2")
RELEASE = "6.1.0-demo"
INITRD = (
    f"lib/modules/{RELEASE}/kernel/fs/nfs/nfs.ko",
    f"lib/modules/{RELEASE}/kernel/drivers/net/virtio_net.ko.zst",
)
HANDED = Handed("notebook", HERE, RELEASE, "x86", INITRD)
GOOD = Facts(
    "/roots/notebook", INIT, True, (RELEASE,), {"etc/fstab": "tmpfs /tmp tmpfs\n"}, (), 0, (HANDED,)
)
E, W, N = Severity.ERROR, Severity.WARNING, Severity.NOTE

CASES: list[tuple[Facts, list[tuple[Severity, str]]]] = [
    (GOOD, []),
    (replace(GOOD, init=None), [(E, "no program that starts first")]),
    (replace(GOOD, linker_there=False), [(E, "ld-linux-x86-64.so.2, which is not there")]),
    (replace(GOOD, init=replace(INIT, machine=183)), [(E, "is for x86, the root for arm64")]),
    (replace(GOOD, modules=("6.1.0-old",)), [(E, "is 6.1.0-demo; the root has modules of: 6.1.0-old")]),
    (replace(GOOD, modules=()), [(E, "has modules of: none")]),
    (replace(GOOD, handed=(replace(HANDED, names=("init",)),)), [(W, "has no NFS module")]),
    (replace(GOOD, handed=(replace(HANDED, names=INITRD[:1]),)), [(W, "no driver of a network card")]),
    (replace(GOOD, handed=(replace(HANDED, names=None),)), []),
    (replace(GOOD, handed=(replace(HANDED, names=INITRD[:1], built_in=("kernel/lib/crc.ko",)),)), [(E, "no driver of a network card")]),
    (replace(GOOD, handed=(replace(HANDED, names=INITRD[:1], built_in=("kernel/drivers/net/ethernet/x/x.ko",)),)), []),
    (replace(GOOD, handed=(replace(HANDED, names=INITRD[1:], built_in=("kernel/net/sunrpc/sunrpc.ko",)),)), [(E, "has no NFS module")]),
    (replace(GOOD, handed=(replace(HANDED, names=(INITRD[0], "lib/modules/6.1.0-demo/kernel/net/sunrpc/sunrpc.ko")),)), [(W, "no driver of a network card")]),
    (replace(GOOD, handed=(replace(HANDED, names=("modules/nfs.ko", "modules/own.ko"), built_in=()),)), [(W, "no driver of a network card")]),
    (replace(GOOD, handed=(replace(HANDED, names=[n.replace("demo", "old") for n in INITRD]),)), [(E, "modules of 6.1.0-old, the kernel is 6.1.0-demo")]),
    (replace(GOOD, texts={"etc/fstab": "# x\nUUID=1 / ext4 defaults\n/dev/sda2 none swap sw\n/dev/sdb1 /data ext4 nofail\n"}), [(E, "waits for / on a disk: UUID=1"), (E, "swaps to a disk: /dev/sda2")]),
    (replace(GOOD, texts={"etc/network/interfaces": "iface lo inet loopback\niface eth0 inet dhcp\n"}), [(W, "takes eth0 down")]),
    (replace(GOOD, units=("NetworkManager.service",)), [(W, "NetworkManager")]),
    (replace(GOOD, unique=4), [(N, "4 files belong to one machine")]),
]  # fmt: skip


@pytest.mark.parametrize(("facts", "expected"), CASES)
def test_findings(facts: Facts, expected: list[tuple[Severity, str]]) -> None:
    found = inspect(facts, HERE)
    assert [f.severity for f in found] == [severity for severity, _ in expected]
    assert all(text in f.problem and f.remedy for f, (_, text) in zip(found, expected, strict=True))


def elf(machine: int, interpreter: bytes, wide: bool = True, big: bool = False) -> bytes:
    order, at = ">" if big else "<", 64 if wide else 52
    data = bytearray(300)
    data[:6] = b"\x7fELF" + bytes((2 if wide else 1, 2 if big else 1))
    struct.pack_into(order + "H", data, 18, machine)
    if wide:
        struct.pack_into(order + "Q", data, 32, at)
        struct.pack_into(order + "HH", data, 54, 56, 1)
        struct.pack_into(order + "IIQQQQ", data, at, 3, 0, 200, 0, 0, len(interpreter))
    else:
        struct.pack_into(order + "I", data, 28, at)
        struct.pack_into(order + "HH", data, 42, 32, 1)
        struct.pack_into(order + "IIIII", data, at, 3, 200, 0, 0, len(interpreter))
    data[200 : 200 + len(interpreter)] = interpreter
    return bytes(data)


def test_programs() -> None:
    for wide in (True, False):
        for big in (True, False):
            data = elf(183, b"/lib/ld.so\0", wide, big)
            assert elf_program("/sbin/init", data) == Program("/sbin/init", 183, "/lib/ld.so")
    assert elf_program("x", b"#!/bin/sh") is None


def entry(name: str, data: bytes = b"") -> bytes:
    numbers = (0, 0o100644, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name) + 1, 0)
    named = b"070701" + b"".join(b"%08x" % n for n in numbers) + name.encode() + b"\0"
    return named + bytes(-len(named) % 4) + data + bytes(-len(data) % 4)


def test_an_initrd_of_two_archives() -> None:
    first = entry("kernel/x86/microcode", b"12345") + entry("TRAILER!!!")
    whole = first.ljust(1024, b"\0") + entry("init", b"x") + entry("bin") + entry("TRAILER!!!")
    assert cpio_names(whole + b"\x28\xb5rest") == (
        ["kernel/x86/microcode", "init", "bin"],
        len(whole),
    )


@given(st.binary(max_size=200), st.integers(0, 300))
def test_damaged_initrds(noise: bytes, at: int) -> None:
    data = entry("init", b"x") + entry("TRAILER!!!")
    with suppress(ValueError):
        assert cpio_names(data[:at] + noise + data[at:])[1] >= 0


def test_releases() -> None:
    x86 = bytearray(1000)
    x86[0x202:0x206], x86[0x20E:0x210] = b"HdrS", (0x100).to_bytes(2, "little")
    x86[0x300:0x310] = b"6.1.0-demo (x)\0\0"
    assert kernel_release(bytes(x86)) == "6.1.0-demo"
    assert kernel_release(b"..Linux version 6.6.1-arm (made up)") == "6.6.1-arm"
    assert kernel_release(b"nothing") is None


def test_packages() -> None:
    text = "Package: a\nStatus: install ok installed\nVersion: 1\nDescription: x\n more: y\n\nPackage: b\nStatus: deinstall ok config-files\nVersion: 2\n"
    assert parse_status(text) == {"a": "1"}
    assert changes({"a": "1", "b": "1"}, {"a": "2", "c": "1"}) == [
        ("a", "1", "2"),
        ("b", "1", ""),
        ("c", "", "1"),
    ]


@given(
    st.lists(st.tuples(st.integers(0, 1200), st.integers(0, 255)), max_size=12),
    st.integers(0, 1 << 20),
)
def test_a_damaged_program_is_none_or_read(changes: list[tuple[int, int]], length: int) -> None:
    data = bytearray(Path("/bin/sh").read_bytes()[:length])
    for at, value in changes:
        if at < len(data):
            data[at] = value
    found = elf_program("/bin/sh", bytes(data))
    assert found is None or (data[:4] == b"\x7fELF" and found.path == "/bin/sh")
