"""MOUNT version 3 (RFC 1813 appendix I): a path becomes a file handle."""

from __future__ import annotations

from enum import IntEnum

from daskel.core.nfs.rpc import AUTH_SYS
from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.core.reader import Reader

PROGRAM, VERSION = 100005, 3
_PATH_LIMIT = 1024


class Procedure(IntEnum):
    """MOUNT version 3 (RFC 1813 appendix I 5.2)."""

    NULL = 0
    MOUNT = 1
    DUMP = 2
    UNMOUNT = 3
    UNMOUNT_ALL = 4
    EXPORT = 5


class Status(IntEnum):
    """mountstat3 (RFC 1813 appendix I 5.1.4), as far as it is used."""

    OK = 0
    NOT_FOUND = 2
    ACCESS = 13


_STATUSES = frozenset(Status)


def parse_path(arguments: Reader) -> str:
    """The path of MOUNT and UNMOUNT. From the network; raises MalformedError."""
    path = arguments.opaque(_PATH_LIMIT).decode("utf-8", "replace")
    arguments.end()
    return path


def serialise_path(path: str) -> bytes:
    """dirpath (RFC 1813 appendix I 5.1.2)."""
    return pack_opaque(path.encode())


def mounted(handle: bytes) -> bytes:
    """The results of MNT: the handle, and that AUTH_SYS is good for it."""
    return pack_u32(Status.OK) + pack_opaque(handle) + pack_u32(1, AUTH_SYS)


def refused(status: Status) -> bytes:
    """The results of MNT when there is no handle."""
    return pack_u32(status)


def parse_mounted(results: Reader) -> bytes | Status:
    """The root's handle, or why it was refused; from the network, raises MalformedError."""
    status = results.number(4)
    if status not in _STATUSES:
        raise results.fail(f"status {status} of a mount is not known")
    return results.opaque(64) if status == Status.OK else Status(status)


def exports(paths: list[str]) -> bytes:
    """The results of EXPORT: every path, without naming who may mount it."""
    entries = (pack_u32(1) + pack_opaque(path.encode()) + pack_u32(0) for path in paths)
    return b"".join(entries) + pack_u32(0)
