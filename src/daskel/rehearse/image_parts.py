"""What firmware starts of an image that needs no boot loader, read as it comes."""

from __future__ import annotations

from daskel.core.efi.pe import HEADS, Program, parse
from daskel.core.roots.kernels import HEAD


class ImageParts:
    """The beginning of the kernel, and the command line."""

    def __init__(self) -> None:
        self.kernel, self.line = bytearray(), bytearray()
        self._head, self._at = bytearray(), 0
        self._program: Program | None = None

    def take(self, piece: bytes) -> None:
        """The next bytes of the image. Raises MalformedError when it is not an EFI program."""
        if self._program is None:
            self._head += piece
            if len(self._head) < HEADS:
                return
            self._program = parse(bytes(self._head[:HEADS]))
            piece = bytes(self._head)
        for name, found, most in ((".linux", self.kernel, HEAD), (".cmdline", self.line, HEADS)):
            if section := self._program.section(name):
                begin = max(section.offset + len(found) - self._at, 0)
                end = section.offset + min(section.size, most) - self._at
                found += piece[begin : max(end, begin)]
        self._at += len(piece)
