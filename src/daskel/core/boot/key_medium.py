"""A small medium for a client's key: a FAT12 file system with one file that is written in its place
(system/roots/client/daskel.pl), so that a client needs no driver for it."""

from __future__ import annotations

import struct

LABEL, FILE = "DASKEL", "KEY"
_SECTOR, _SECTORS, _ROOT, _FAT = 512, 2048, 64, 6  # bytes; sectors; entries; sectors of each FAT
_ROOM = b"The key of one machine will be here. Keep this medium with it.\n"


def image() -> bytes:
    """A megabyte, as it is written to a medium."""
    head = b"\xeb\x3c\x90" + b"DASKEL  "
    head += struct.pack("<HBHBHHBHHHII", _SECTOR, 1, 1, 2, _ROOT, _SECTORS, 0xF8, _FAT, 32, 2, 0, 0)
    head += struct.pack("<BBBI", 0x80, 0, 0x29, 0x64736B6C) + LABEL.ljust(11).encode() + b"FAT12   "
    boot = head.ljust(510, b"\0") + b"\x55\xaa"
    fat = b"\xf8\xff\xff\xff\x0f".ljust(_FAT * _SECTOR, b"\0")  # cluster 2 is the file's only one
    label = LABEL.ljust(11).encode() + b"\x08" + bytes(20)
    entry = FILE.ljust(11).encode() + b"\x20" + bytes(14) + struct.pack("<HI", 2, _SECTOR)
    folder = (label + entry).ljust(_ROOT * 32, b"\0")
    content = _ROOM.ljust(_SECTOR, b"\n")
    return (boot + fat * 2 + folder + content).ljust(_SECTOR * _SECTORS, b"\0")
