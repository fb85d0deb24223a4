"""What NFS version 3 talks about (RFC 1813): procedures, statuses, attributes, and who may do what.

Arguments of calls are in `calls`, results in `results`. No file system here: `system/export` has
one, `service/exporter` brings both together.
"""

from __future__ import annotations

import struct
from enum import IntEnum, IntFlag
from typing import NamedTuple

from daskel.core.nfs.rpc import Credentials
from daskel.core.reader import Reader

PROGRAM, VERSION = 100003, 3
HANDLE_LIMIT, NAME_LIMIT, TEXT_LIMIT = 64, 255, 4095  # bytes
LARGEST, BEST = 1 << 20, 256 << 10  # bytes of one READ or WRITE
LISTED = 64 << 10  # bytes of one list of a directory's entries


class Procedure(IntEnum):
    """NFS version 3 (RFC 1813 3.3)."""

    NULL = 0
    GETATTR = 1
    SETATTR = 2
    LOOKUP = 3
    ACCESS = 4
    READLINK = 5
    READ = 6
    WRITE = 7
    CREATE = 8
    MKDIR = 9
    SYMLINK = 10
    MKNOD = 11
    REMOVE = 12
    RMDIR = 13
    RENAME = 14
    LINK = 15
    READDIR = 16
    READDIRPLUS = 17
    FSSTAT = 18
    FSINFO = 19
    PATHCONF = 20
    COMMIT = 21


class Status(IntEnum):
    """nfsstat3, RFC 1813 2.6; those that Daskel sends."""

    OK = 0
    PERM = 1
    NOENT = 2
    IO = 5
    ACCES = 13
    EXIST = 17
    XDEV = 18
    NOTDIR = 20
    ISDIR = 21
    INVAL = 22
    FBIG = 27
    NOSPC = 28
    ROFS = 30
    MLINK = 31
    NAMETOOLONG = 63
    NOTEMPTY = 66
    DQUOT = 69
    STALE = 70
    BADHANDLE = 10001
    NOT_SYNC = 10002
    NOTSUPP = 10004
    TOOSMALL = 10005
    BADTYPE = 10007
    JUKEBOX = 10008  # not now: ask again


class NfsError(Exception):
    """A procedure that fails with a status of the protocol."""

    def __init__(self, status: Status) -> None:
        super().__init__(status.name)
        self.status = status


class FileType(IntEnum):
    """ftype3, RFC 1813 2.5.5."""

    REGULAR = 1
    DIRECTORY = 2
    BLOCK = 3
    CHARACTER = 4
    LINK = 5
    SOCKET = 6
    FIFO = 7


class Stable(IntEnum):
    """stable_how, RFC 1813 3.3.7: what must be on disk before the reply to a WRITE."""

    UNSTABLE = 0
    DATA_SYNC = 1
    FILE_SYNC = 2


class Access(IntFlag):
    """Bits of ACCESS, RFC 1813 3.3.4."""

    READ = 1
    LOOKUP = 2
    MODIFY = 4
    EXTEND = 8
    DELETE = 16
    EXECUTE = 32


_ATTRIBUTES = struct.Struct(">5I2Q2I2Q6I")
_SECOND = 10**9  # nanoseconds


class Attributes(NamedTuple):
    """fattr3, RFC 1813 2.6. Sizes in bytes, times in nanoseconds since 1970."""

    type: FileType
    mode: int
    links: int
    uid: int
    gid: int
    size: int
    used: int
    device: tuple[int, int]
    fsid: int
    fileid: int
    atime: int
    mtime: int
    ctime: int

    def serialise(self) -> bytes:
        """fattr3 (RFC 1813 2.6)."""
        (kind, mode, links, uid, gid, size, used, (major, minor), fsid, fileid,
         atime, mtime, ctime) = self  # fmt: skip
        return _ATTRIBUTES.pack(
            kind, mode & 0o7777, links, uid, gid, size, used, major, minor, fsid, fileid,
            atime // _SECOND & 0xFFFFFFFF, atime % _SECOND,
            mtime // _SECOND & 0xFFFFFFFF, mtime % _SECOND,
            ctime // _SECOND & 0xFFFFFFFF, ctime % _SECOND,
        )  # fmt: skip


def parse_attributes(reader: Reader) -> Attributes:
    """fattr3 (RFC 1813 2.6)."""
    parts = _ATTRIBUTES.unpack(reader.take(_ATTRIBUTES.size))
    mode, links, uid, gid, size, used, major, minor, fsid, fileid = parts[1:11]
    atime, mtime, ctime = (parts[i] * _SECOND + parts[i + 1] for i in (11, 13, 15))
    return Attributes(
        FileType(parts[0]), mode, links, uid, gid, size, used, (major, minor), fsid, fileid,
        atime, mtime, ctime,
    )  # fmt: skip


def permitted(
    attributes: Attributes, who: Credentials, *, writable: bool, opened: bool = False
) -> int:
    """What `who` may do with a file, as bits of Access; nothing that writes on an export that is
    not writable.

    `opened`: the client has opened the file, or runs it, and asks again with each READ and WRITE.
    The owner may then read and write, and execute may read, whatever the mode says by now
    (RFC 1813 4.4).
    """
    directory = attributes.type is FileType.DIRECTORY
    mode = attributes.mode
    if who.uid == 0:
        bits = 7 if directory or mode & 0o111 else 6
    elif who.uid == attributes.uid:
        bits = mode >> 6 | ((4 if directory else 6) if opened else 0)
    elif attributes.gid == who.gid or attributes.gid in who.groups:
        bits = mode >> 3
    else:
        bits = mode
    return _GRANTED[opened, directory, bits & 7 if writable else bits & 5]


def _granted(opened: bool, directory: bool, bits: int) -> int:
    access = Access.READ if bits & 4 else Access(0)
    if bits & 1:
        access |= Access.LOOKUP if directory else Access.EXECUTE
        access |= Access.READ if opened and not directory else Access(0)
    if bits & 2:
        access |= Access.MODIFY | Access.EXTEND | (Access.DELETE if directory else Access(0))
    return int(access)


_GRANTED = {
    (opened, directory, bits): _granted(opened, directory, bits)
    for opened in (False, True) for directory in (False, True) for bits in range(8)
}  # fmt: skip
