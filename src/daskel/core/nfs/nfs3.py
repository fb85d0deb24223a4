"""NFS version 3 (RFC 1813): arguments read, results written; and the client's side of both.

No file system here: `system/tree` has one, `service/nfs` brings both together.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum, IntFlag

from daskel.core.nfs.rpc import Credentials
from daskel.core.nfs.xdr import opaque, pack_opaque, pack_optional, pack_u32, pack_u64
from daskel.core.reader import Reader

PROGRAM, VERSION = 100003, 3
HANDLE_LIMIT, NAME_LIMIT = 64, 255  # bytes
LARGEST_READ, BEST_READ = 1 << 20, 256 << 10  # bytes


class Procedure(IntEnum):
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
    NOENT = 2
    IO = 5
    ACCES = 13
    NOTDIR = 20
    ISDIR = 21
    INVAL = 22
    ROFS = 30
    NAMETOOLONG = 63
    STALE = 70
    BADHANDLE = 10001
    TOOSMALL = 10005


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


class Access(IntFlag):
    """Bits of ACCESS, RFC 1813 3.3.4."""

    READ = 1
    LOOKUP = 2
    MODIFY = 4
    EXTEND = 8
    DELETE = 16
    EXECUTE = 32


_ATTRIBUTES = struct.Struct(">5I2Q2I2Q6I")


@dataclass(frozen=True, slots=True)
class Attributes:
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
        times = [part for time in (self.atime, self.mtime, self.ctime) for part in _time(time)]
        return _ATTRIBUTES.pack(
            self.type, self.mode & 0o7777, self.links, self.uid, self.gid, self.size, self.used,
            *self.device, self.fsid, self.fileid, *times,
        )  # fmt: skip


def _time(nanoseconds: int) -> tuple[int, int]:
    seconds, rest = divmod(nanoseconds, 10**9)
    return seconds & 0xFFFFFFFF, rest


def parse_attributes(reader: Reader) -> Attributes:
    parts = _ATTRIBUTES.unpack(reader.take(_ATTRIBUTES.size))
    mode, links, uid, gid, size, used, major, minor, fsid, fileid = parts[1:11]
    atime, mtime, ctime = (parts[i] * 10**9 + parts[i + 1] for i in (11, 13, 15))
    return Attributes(
        FileType(parts[0]), mode, links, uid, gid, size, used, (major, minor), fsid, fileid,
        atime, mtime, ctime,
    )  # fmt: skip


def permitted(attributes: Attributes, who: Credentials) -> Access:
    """What `who` may do with a file of a read-only export; never anything that writes.

    The owner may read and execute may read, whatever the mode says: a client that has opened
    or runs a file asks again with each READ (RFC 1813 4.4).
    """
    directory = attributes.type is FileType.DIRECTORY
    mode = attributes.mode
    if who.uid == 0:
        bits = 7 if directory or mode & 0o111 else 6
    elif who.uid == attributes.uid:
        bits = mode >> 6 | 4
    elif attributes.gid == who.gid or attributes.gid in who.groups:
        bits = mode >> 3
    else:
        bits = mode
    access = Access.READ if bits & 4 else Access(0)
    if bits & 1:
        access |= Access.LOOKUP if directory else Access.EXECUTE | Access.READ
    return access


# --- arguments: parsed by the server, from the network; serialised by a client ---


def parse_handle(reader: Reader) -> bytes:
    return opaque(reader, HANDLE_LIMIT)


def parse_lookup(reader: Reader) -> tuple[bytes, bytes]:
    """Handle of the directory, and the name. A name that is too long is a status, not garbage."""
    handle, name = parse_handle(reader), opaque(reader, 4096)
    if len(name) > NAME_LIMIT:
        raise NfsError(Status.NAMETOOLONG)
    return handle, name


def serialise_lookup(handle: bytes, name: bytes) -> bytes:
    return pack_opaque(handle) + pack_opaque(name)


def parse_access(reader: Reader) -> tuple[bytes, Access]:
    return parse_handle(reader), Access(reader.number(4) & 63)


def parse_read(reader: Reader) -> tuple[bytes, int, int]:
    """Handle, offset, count; in bytes, the count cut to LARGEST_READ."""
    handle, offset, count = parse_handle(reader), reader.number(8), reader.number(4)
    return handle, offset, min(count, LARGEST_READ)


def serialise_read(handle: bytes, offset: int, count: int) -> bytes:
    return pack_opaque(handle) + pack_u64(offset) + pack_u32(count)


@dataclass(frozen=True, slots=True)
class ReadDir:
    """Arguments of READDIR and READDIRPLUS. `limit`: bytes of the whole result."""

    handle: bytes
    cookie: int
    limit: int
    plus: bool


def parse_readdir(reader: Reader, *, plus: bool) -> ReadDir:
    handle, cookie = parse_handle(reader), reader.number(8)
    reader.take(8)  # cookie verifier: cookies here do not go stale
    if plus:
        reader.number(4)
    return ReadDir(handle, cookie, min(reader.number(4), LARGEST_READ), plus)


def serialise_readdirplus(handle: bytes, cookie: int, limit: int) -> bytes:
    return pack_opaque(handle) + pack_u64(cookie, 0) + pack_u32(limit, limit)


# --- results: serialised by the server, parsed by a client ---


def post_op(attributes: Attributes | None) -> bytes:
    """post_op_attr, RFC 1813 2.6."""
    return pack_optional(attributes.serialise() if attributes else None)


def parse_post_op(reader: Reader) -> Attributes | None:
    return parse_attributes(reader) if reader.number(4) else None


def looked_up(handle: bytes, attributes: Attributes, directory: Attributes | None) -> bytes:
    return pack_u32(Status.OK) + pack_opaque(handle) + post_op(attributes) + post_op(directory)


def read_head(attributes: Attributes, count: int, *, end: bool) -> bytes:
    """The result of READ up to the data, which follows with `-count % 4` bytes of padding."""
    return pack_u32(Status.OK) + post_op(attributes) + pack_u32(count, end, count)


@dataclass(frozen=True, slots=True)
class Entry:
    """One name in a directory. `attributes` and `handle` go into READDIRPLUS alone."""

    fileid: int
    name: bytes
    cookie: int
    attributes: Attributes | None = None
    handle: bytes | None = None

    def serialise(self, *, plus: bool) -> bytes:
        data = pack_u64(self.fileid) + pack_opaque(self.name) + pack_u64(self.cookie)
        if plus:
            data += post_op(self.attributes)
            data += pack_optional(None if self.handle is None else pack_opaque(self.handle))
        return data


def listed(
    directory: Attributes, entries: Sequence[bytes], *, end: bool
) -> bytes:  # entries as `Entry.serialise` made them
    head = pack_u32(Status.OK) + post_op(directory) + bytes(8)
    return head + b"".join(pack_u32(1) + entry for entry in entries) + pack_u32(0, end)


LISTED_OVERHEAD = 4 + 88 + 8 + 8  # bytes of READDIR results besides the entries


def parse_listed_plus(reader: Reader) -> tuple[list[Entry], bool]:
    """Entries of READDIRPLUS, and whether they are the last."""
    parse_post_op(reader), reader.take(8)
    entries = []
    while reader.number(4):
        fileid, name, cookie = reader.number(8), opaque(reader, NAME_LIMIT), reader.number(8)
        attributes = parse_post_op(reader)
        handle = parse_handle(reader) if reader.number(4) else None
        entries.append(Entry(fileid, name, cookie, attributes, handle))
    return entries, bool(reader.number(4))


@dataclass(frozen=True, slots=True)
class Space:
    """What FSSTAT tells: bytes and files, total and free."""

    total: int
    free: int
    files: int
    free_files: int


def space(attributes: Attributes, amount: Space) -> bytes:
    numbers = pack_u64(amount.total, amount.free, amount.free, amount.files)
    rest = pack_u64(amount.free_files, amount.free_files) + pack_u32(0)
    return pack_u32(Status.OK) + post_op(attributes) + numbers + rest


# Properties: hard links, symbolic links, homogeneous; not FSF3_CANSETTIME (read-only).
_PROPERTIES = 0x1 | 0x2 | 0x8


def info(attributes: Attributes) -> bytes:
    """FSINFO, RFC 1813 3.3.19."""
    sizes = pack_u32(LARGEST_READ, BEST_READ, 4096, LARGEST_READ, BEST_READ, 4096, 64 << 10)
    rest = pack_u64((1 << 63) - 1) + pack_u32(0, 1, _PROPERTIES)
    return pack_u32(Status.OK) + post_op(attributes) + sizes + rest


def path_limits(attributes: Attributes) -> bytes:
    """PATHCONF: no truncation, chown restricted, case sensitive and preserving."""
    return pack_u32(Status.OK) + post_op(attributes) + pack_u32(32000, NAME_LIMIT, 1, 1, 0, 1)


# Bytes of empty results behind the status: how many "no attributes follow" each failure has.
# GETATTR has none, wcc_data has two, RENAME two wcc_data, LINK one post_op_attr and wcc_data.
_EMPTY = {Procedure.GETATTR: 0, Procedure.RENAME: 4, Procedure.LINK: 3} | dict.fromkeys(
    (
        Procedure.SETATTR, Procedure.WRITE, Procedure.CREATE, Procedure.MKDIR, Procedure.SYMLINK,
        Procedure.MKNOD, Procedure.REMOVE, Procedure.RMDIR, Procedure.COMMIT,
    ),
    2,
)  # fmt: skip


def failed(procedure: Procedure, status: Status) -> bytes:
    """The results of any procedure that fails, without attributes."""
    return pack_u32(status) + bytes(4 * _EMPTY.get(procedure, 1))
