"""The headers of EFI programs (Microsoft PE/COFF specification, sections 2 and 3)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from daskel.core.reader import MalformedError

HEADS = 64 << 10  # bytes of a file, in which its headers are
_MOST_SECTIONS = 96
_SECTION = struct.Struct("<8s6I2HI")
SECTION_SIZE = _SECTION.size
_PE32, _PE32_PLUS = 0x10B, 0x20B
_DIRECTORIES = {_PE32: 96, _PE32_PLUS: 112}  # where they begin in the optional header
_SECURITY = 4  # which of them
_OPTIONAL = 24  # bytes before the optional header, with the signature "PE\0\0"
_READ_ONLY = 0x40000040  # flags of a section of initialised data


@dataclass(frozen=True, slots=True)
class Section:
    """`size` bytes at `address` in memory, from `stored` bytes at `offset` of the file."""

    name: str
    size: int
    address: int
    stored: int
    offset: int

    def header(self) -> bytes:
        """40 bytes of the section table, of initialised data that is read alone."""
        name = self.name.encode("ascii")
        return _SECTION.pack(
            name, self.size, self.address, self.stored, self.offset, 0, 0, 0, 0, _READ_ONLY
        )


@dataclass(frozen=True, slots=True)
class Program:
    """The headers of an EFI program: places are offsets in the file, sizes are bytes."""

    pe: int  # where "PE\0\0" stands
    table: int  # the section table
    checksum: int
    security: int  # the directory entry of the certificate table
    headers: int  # size of all headers
    image_size: int  # where the size of all that is in memory stands
    sections: tuple[Section, ...]
    certificates: tuple[int, int]  # offset and size of the certificate table; (0, 0) for none

    def section(self, name: str) -> Section | None:
        """The first one of that name."""
        return next((one for one in self.sections if one.name == name), None)

    @property
    def end(self) -> int:
        """Where what belongs to a section ends."""
        return max([self.headers, *(one.offset + one.stored for one in self.sections)])


def parse(head: bytes) -> Program:
    """From the first bytes of a file, `HEADS` of them at most. Raises MalformedError."""
    try:
        return _parse(head)
    except struct.error:
        raise MalformedError(f"EFI program: its headers end after {len(head)} bytes") from None


def _parse(head: bytes) -> Program:
    (pe,) = struct.unpack_from("<I", head, 0x3C)
    if head[:2] != b"MZ" or head[pe : pe + 4] != b"PE\0\0":
        raise MalformedError("EFI program: it does not begin as one")
    (count,) = struct.unpack_from("<H", head, pe + 6)
    (optional_size,) = struct.unpack_from("<H", head, pe + 20)
    optional = pe + _OPTIONAL
    (magic,) = struct.unpack_from("<H", head, optional)
    if magic not in _DIRECTORIES:
        raise MalformedError(f"EFI program: optional header of type {magic:#x}")
    if count > _MOST_SECTIONS:
        raise MalformedError(f"EFI program: {count} sections")
    (headers,) = struct.unpack_from("<I", head, optional + 60)
    security = optional + _DIRECTORIES[magic] + 8 * _SECURITY
    (directories,) = struct.unpack_from("<I", head, optional + _DIRECTORIES[magic] - 4)
    certificates = struct.unpack_from("<2I", head, security) if directories > _SECURITY else (0, 0)
    table = optional + optional_size
    sections = tuple(_sections(head, table, count))
    return Program(
        pe,
        table,
        optional + 64,
        security,
        headers,
        optional + 56,
        sections,
        certificates,
    )


def _sections(head: bytes, table: int, count: int) -> Iterator[Section]:
    for number in range(count):
        name, size, address, stored, offset, *_ = _SECTION.unpack_from(head, table + 40 * number)
        yield Section(name.rstrip(b"\0").decode("latin-1"), size, address, stored, offset)


def hashed(program: Program, size: int) -> Iterator[tuple[int, int]]:
    """Which parts of a file of `size` bytes are signed, as offset and length, one after the other
    (Windows Authenticode Portable Executable Signature Format, 2008, "Calculating the PE image
    hash"). Raises MalformedError for headers and tables that lie over each other, or outside."""
    first = program.checksum + 4, program.security - program.checksum - 4
    second = program.security + 8, program.headers - program.security - 8
    if first[1] < 0 or second[1] < 0:
        raise MalformedError("EFI program: its headers are too short")
    yield 0, program.checksum
    yield first
    yield second
    end = summed = program.headers
    stored = (one for one in program.sections if one.stored)
    for one in sorted(stored, key=lambda one: one.offset):
        if one.offset < end or one.offset + one.stored > size:
            raise MalformedError(f"EFI program: section {one.name!r} is not where it can be")
        yield one.offset, one.stored
        end, summed = one.offset + one.stored, summed + one.stored
    at, length = program.certificates
    if length and (at < end or at + length > size):
        raise MalformedError("EFI program: its certificate table is not where it can be")
    if summed < size - length:  # where sections have gaps between them, from before their end
        yield summed, size - length - summed
