"""One EFI program of a stub, a kernel, its initrds and its command line, which firmware starts
without a boot loader (Boot Loader Specification, type 2; the sections `.linux`, `.initrd` and
`.cmdline`).

What differs from client to client is the command line alone. It stands last, filled up to a fixed
size: the headers are the same for all, and the hash of all that is before it is reckoned once.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from daskel.core.efi.pe import HEADS, SECTION_SIZE, Program, Section, hashed, parse
from daskel.core.reader import MalformedError

LINE = 4096  # bytes for a command line; as many again where it is longer
_STORED = 512  # sections begin at multiples of it in the file
_PAGE = 4096  # where sections begin in memory
_INITRD = 4  # and each initrd in its section
_LARGEST = 1 << 31  # bytes; offsets have 32 bits, and firmware has it in memory


class Piece(NamedTuple):
    """A file in the image, and the zeros behind it."""

    size: int
    padding: int


@dataclass(frozen=True, slots=True)
class Unified:
    """Where everything stands: `head`, then `pieces` (the kernel, each initrd), then the command
    line in `line` bytes. `security` is where the directory entry of a signature stands."""

    head: bytes
    pieces: tuple[Piece, ...]
    line: int
    security: int
    checked: tuple[tuple[int, int], ...]  # which parts of the head are signed

    @property
    def size(self) -> int:
        """Bytes of an image that is not signed."""
        return len(self.head) + sum(map(sum, self.pieces)) + self.line

    def begin(self) -> hashlib._Hash:
        """The hash of the head; that of the pieces and of the command line follows."""
        found = hashlib.sha256()
        for at, length in self.checked:
            found.update(self.head[at : at + length])
        return found

    def signed_head(self, table: int) -> bytes:
        """The head of an image that has a certificate table of `table` bytes at its end."""
        head = bytearray(self.head)
        struct.pack_into("<2I", head, self.security, self.size, table)
        return bytes(head)

    def command_line(self, line: str) -> bytes:
        """As it stands in the image."""
        return line.encode().ljust(self.line, b" ")


def room_for(line: str) -> int:
    """Bytes that a command line has in an image."""
    return max(LINE, -(-len(line.encode()) // LINE) * LINE)


def unify(stub: bytes, kernel: int, initrds: Sequence[int], line: int) -> Unified:
    """An image of a stub and of files with these sizes, with `line` bytes for the command line.
    Raises MalformedError when `stub` is not an EFI program, has gaps between its sections or no
    room for more of them, and when the image would have more than 2 GiB."""
    program = parse(stub)
    begin = -(-program.end // _STORED) * _STORED
    head = bytearray(stub[: program.end].ljust(begin, b"\0"))
    pieces = [Piece(kernel, -kernel % _STORED)]
    pieces += [Piece(size, -size % _INITRD) for size in initrds]
    initrd = sum(map(sum, pieces[1:]))
    if initrds:
        last = pieces[-1]
        pieces[-1] = Piece(last.size, last.padding + -initrd % _STORED)
    wanted = [(".linux", kernel), (".initrd", initrd), (".cmdline", line)]
    sections = list(_behind(program, begin, [one for one in wanted if one[1]]))
    _write_headers(head, program, sections)
    whole = Unified(bytes(head), tuple(pieces), line, program.security, ())
    if whole.size > _LARGEST:
        raise MalformedError(f"the image has {whole.size} bytes: firmware takes {_LARGEST} at most")
    checked = list(hashed(parse(bytes(head[:HEADS])), whole.size))
    if any(at + length != following for (at, length), (following, _) in pairwise(checked[2:])):
        raise MalformedError("EFI program: there are gaps between its sections")
    inside = tuple((at, length) for at, length in checked if at < len(head))
    return Unified(whole.head, whole.pieces, line, program.security, inside)


def _behind(program: Program, offset: int, wanted: Sequence[tuple[str, int]]) -> Sequence[Section]:
    """Sections behind those that a program has, in its memory and from `offset` of its file."""
    found = []
    address = max((one.address + one.size for one in program.sections), default=program.headers)
    for name, size in wanted:
        address += -address % _PAGE
        stored = size + -size % _STORED
        found.append(Section(name, size, address, stored, offset))
        address, offset = address + size, offset + stored
    return found


def _write_headers(head: bytearray, program: Program, sections: Sequence[Section]) -> None:
    count = len(program.sections)
    at = program.table + count * SECTION_SIZE
    if at + len(sections) * SECTION_SIZE > program.headers:
        raise MalformedError(f"EFI program: no room for {len(sections)} more sections")
    for section in sections:
        head[at : at + SECTION_SIZE] = section.header()
        at += SECTION_SIZE
    last = sections[-1]
    end = last.address + last.size
    struct.pack_into("<H", head, program.pe + 6, count + len(sections))
    struct.pack_into("<I", head, program.image_size, end + -end % _PAGE)
    struct.pack_into("<I", head, program.checksum, 0)
    struct.pack_into("<2I", head, program.security, 0, 0)
