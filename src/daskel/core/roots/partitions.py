"""What an image file is, from its first bytes; and the partitions of a disk image.

MBR as every PC has it; GPT by the UEFI specification, section 5.3.
"""

from __future__ import annotations

import itertools
import struct
from collections.abc import Callable
from dataclasses import dataclass

from daskel.core.roots.magic import SQUASHFS, compression

SECTOR = 512
HEAD = 0x12000  # bytes that tell everything about one file system or image
_ISO_AT, _EXT_AT, _BTRFS_AT = 0x8001, 1080, 0x10040
_MBR_ENTRY = struct.Struct("<B3sB3sII")
_GPT_HEADER = struct.Struct("<8sIIIIQQQQ16sQIII")
_GPT_ENTRY = struct.Struct("<16s16sQQQ72s")
_EXTENDED, _PROTECTIVE = (0x05, 0x0F, 0x85), 0xEE
_UNPACKED = ("gzip", "xz", "zstd")  # archives that can be imported
_MOST = 128  # partitions that are read
_VIRTUAL = {  # disks of virtual machines, by where their magic is
    (0, b"QFI\xfb"): "qcow2", (0, b"KDMV"): "vmdk", (0, b"# Disk DescriptorFile"): "vmdk",
    (64, b"\x7f\x10\xda\xbe"): "vdi", (0, b"vhdxfile"): "vhdx", (0, b"conectix"): "vpc",
}  # fmt: skip
VIRTUAL = tuple(dict.fromkeys(_VIRTUAL.values()))

Read = Callable[[int, int], bytes]  # offset and count


@dataclass(frozen=True, slots=True)
class Partition:
    """`start` and `size` in bytes."""

    number: int
    start: int
    size: int


def kind_of(head: bytes) -> str | None:
    """tar, gzip, xz, zstd, squashfs, iso, disk, one of VIRTUAL, or the name of a file system; None
    for others."""
    for (at, magic), name in _VIRTUAL.items():
        if head.startswith(magic, at):
            return name
    if compression(head) in _UNPACKED:
        return compression(head)
    if head[_ISO_AT : _ISO_AT + 5] == b"CD001":
        return "iso"
    if head[257:262] == b"ustar":
        return "tar"
    return file_system(head) or ("disk" if head[510:512] == b"\x55\xaa" else None)


def file_system(head: bytes) -> str | None:
    """The name that mount(8) knows."""
    if head.startswith(SQUASHFS):
        return "squashfs"
    if head[_EXT_AT : _EXT_AT + 2] == b"\x53\xef":
        return "ext4"  # which mounts its forerunners, too
    if head[:4] == b"XFSB":
        return "xfs"
    if head[_BTRFS_AT : _BTRFS_AT + 8] == b"_BHRfS_M":
        return "btrfs"
    if head[54:59] == b"FAT16" or head[82:87] == b"FAT32":
        return "vfat"
    return None


@dataclass(frozen=True, slots=True)
class Obstacle:
    """What is in a partition that cannot be mounted: in words, and the way out."""

    what: str
    remedy: str


_FOLDER = "then import the folder that it is mounted on"
_OBSTACLES = {  # by where their magic is
    (0, b"LUKS\xba\xbe"): Obstacle(
        "encrypted (LUKS)",
        f"open it here (losetup -P, cryptsetup open, mount), {_FOLDER}; or import the machine "
        "while it runs: daskel root import NAME root@ADDRESS:/",
    ),
    (3, b"-FVE-FS-"): Obstacle(
        "encrypted by Windows", "Windows cannot run without a disk; take another system"
    ),
    (3, b"NTFS    "): Obstacle(
        "of Windows (NTFS)", "Windows cannot run without a disk; choose another partition"
    ),
    (SECTOR, b"LABELONE"): Obstacle(
        "a part of a volume group (LVM)",
        f"make its volumes visible (losetup -P, vgchange -ay, mount), {_FOLDER}; or import the "
        "machine while it runs: daskel root import NAME root@ADDRESS:/",
    ),
    (4096, b"\xfc\x4e\x2b\xa9"): Obstacle(
        "a part of a RAID", f"put it together (losetup -P, mdadm --assemble, mount), {_FOLDER}"
    ),
    (4086, b"SWAPSPACE2"): Obstacle("swap", "choose another partition"),
}


def obstacle(head: bytes) -> Obstacle | None:
    """Why a partition that begins so cannot be mounted, where that is known."""
    found = (one for (at, magic), one in _OBSTACLES.items() if head.startswith(magic, at))
    return next(found, None)


def partitions(read: Read) -> list[Partition]:
    """Of a disk image. Raises ValueError with a sentence when its table cannot be read."""
    head = read(0, SECTOR)
    if len(head) < SECTOR or head[510:512] != b"\x55\xaa":
        raise ValueError("has no partition table")
    entries = [_MBR_ENTRY.unpack_from(head, 446 + 16 * i) for i in range(4)]
    if any(entry[2] == _PROTECTIVE for entry in entries):
        return _gpt(read)
    found: list[Partition] = []
    for number, (_, _, kind, _, start, count) in enumerate(entries, 1):
        if kind in _EXTENDED and count:
            found += _logical(read, start)
        elif kind and count:
            found.append(Partition(number, start * SECTOR, count * SECTOR))
    return found


def overlapping(found: list[Partition]) -> tuple[Partition, Partition] | None:
    """Two partitions that share bytes, which none of a healthy disk do."""
    ordered = sorted(found, key=lambda part: part.start)
    pairs = itertools.pairwise(ordered)
    return next(((a, b) for a, b in pairs if a.start + a.size > b.start), None)


def _logical(read: Read, extended: int) -> list[Partition]:
    """The chain of tables inside an extended partition; each names the next."""
    found: list[Partition] = []
    table, seen = extended, set[int]()
    while table not in seen and len(found) < _MOST:
        seen.add(table)
        head = read(table * SECTOR, SECTOR)
        if head[510:512] != b"\x55\xaa":
            raise ValueError("has a broken chain of logical partitions")
        one, following = (_MBR_ENTRY.unpack_from(head, 446 + 16 * i) for i in range(2))
        if one[5]:
            start = (table + one[4]) * SECTOR
            found.append(Partition(5 + len(found), start, one[5] * SECTOR))
        if not following[5]:
            break
        table = extended + following[4]
    return found


def _gpt(read: Read) -> list[Partition]:
    header = read(SECTOR, SECTOR)
    if len(header) < _GPT_HEADER.size or header[:8] != b"EFI PART":
        raise ValueError("has a protective MBR and no GPT: it may be cut short")
    fields = _GPT_HEADER.unpack_from(header)
    table, count, size = fields[10], fields[11], fields[12]
    if not 128 <= size <= 4096 or count > 1024:
        raise ValueError(f"has a GPT of {count} entries of {size} bytes")
    data, found = read(table * SECTOR, count * size), []
    for index in range(min(count, len(data) // size)):
        kind, _, first, last, _, _ = _GPT_ENTRY.unpack_from(data, index * size)
        if any(kind) and last >= first:
            found.append(Partition(index + 1, first * SECTOR, (last - first + 1) * SECTOR))
    return found
