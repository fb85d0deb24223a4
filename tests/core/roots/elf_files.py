"""Small ELF files, with what the dynamic linker reads of them."""

from __future__ import annotations

import struct

X64, ARM64, I386 = 62, 183, 3
_LOAD, _DYNAMIC, _INTERP = 1, 2, 3
_NEEDED, _STRTAB, _STRSZ, _SONAME, _RPATH, _RUNPATH = 1, 5, 10, 14, 15, 29
_AT = 64 + 3 * 56  # where what follows the headers begins


def elf(
    *needed: str, soname: str = "", rpath: str = "", runpath: str = "", interpreter: str = "",
    machine: int = X64,
) -> bytes:  # fmt: skip
    """ELF of 64 bits; a program when it names an interpreter, else a library."""
    strings, tags = b"\0", []
    for tag, text in [*((_NEEDED, n) for n in needed), (_SONAME, soname), (_RPATH, rpath),
                      (_RUNPATH, runpath)]:  # fmt: skip
        if text:
            tags.append((tag, len(strings)))
            strings += text.encode() + b"\0"
    named = interpreter.encode() + b"\0" if interpreter else b""
    at_strings = _AT + len(named)
    at_dynamic = at_strings + len(strings)
    tags += [(_STRTAB, at_strings), (_STRSZ, len(strings)), (0, 0)]
    dynamic = b"".join(struct.pack("<QQ", *tag) for tag in tags)
    whole = at_dynamic + len(dynamic)

    def segment(kind: int, at: int, size: int) -> bytes:
        return struct.pack("<IIQQQQQQ", kind, 5, at, at, at, size, size, 1)

    segments = [segment(_LOAD, 0, whole), segment(_DYNAMIC, at_dynamic, len(dynamic))]
    segments += [segment(_INTERP, _AT, len(named))] if named else []
    identity = b"\x7fELF\2\1\1".ljust(16, b"\0")
    head = identity + struct.pack(
        "<HHIQQQIHHHHHH", 3, machine, 1, 0, 64, 0, 0, 64, 56, len(segments), 64, 0, 0
    )
    return head + b"".join(segments).ljust(3 * 56, b"\0") + named + strings + dynamic
