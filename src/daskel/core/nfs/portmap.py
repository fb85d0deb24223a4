"""The port mapper, version 2, of the protocol that RFC 1833 describes: program to port."""

from __future__ import annotations

from collections.abc import Mapping
from enum import IntEnum

from daskel.core.nfs.xdr import pack_u32
from daskel.core.reader import Reader

PROGRAM, VERSION = 100000, 2
_TCP = 6


class Procedure(IntEnum):
    """The port mapper, version 2 (RFC 1833 3.2)."""

    NULL = 0
    SET = 1
    UNSET = 2
    GETPORT = 3
    DUMP = 4


def serialise_mapping(program: int, version: int, port: int) -> bytes:
    """Arguments of SET and UNSET."""
    return pack_u32(program, version, _TCP, port)


def answer(procedure: int, arguments: Reader, ports: Mapping[tuple[int, int], int]) -> bytes | None:
    """Results of a call; `ports` by program and version, all over TCP. None: no such procedure,
    also for SET and UNSET, since nobody else may register here. Raises MalformedError."""
    if procedure == Procedure.NULL:
        return b""
    if procedure == Procedure.GETPORT:
        program, version, protocol = (arguments.number(4) for _ in range(3))
        return pack_u32(ports.get((program, version), 0) if protocol == _TCP else 0)
    if procedure == Procedure.DUMP:
        rows = (pack_u32(1, *known, _TCP, port) for known, port in ports.items())
        return b"".join(rows) + pack_u32(0)
    return None
