"""Results of NFS version 3's procedures (RFC 1813 3.3): a server serialises, a client parses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from daskel.core.nfs.calls import parse_handle
from daskel.core.nfs.nfs3 import (
    BEST,
    LARGEST,
    LISTED,
    NAME_LIMIT,
    Attributes,
    Procedure,
    Stable,
    Status,
    parse_attributes,
)
from daskel.core.nfs.xdr import pack_opaque, pack_optional, pack_u32, pack_u64
from daskel.core.reader import Reader

_OK, _SECOND = pack_u32(Status.OK), 10**9
_YES = pack_u32(1)


def post_op(attributes: Attributes | None) -> bytes:
    """post_op_attr, RFC 1813 2.6."""
    return pack_u32(0) if attributes is None else _YES + attributes.serialise()


def parse_post_op(reader: Reader) -> Attributes | None:
    """post_op_attr (RFC 1813 2.6)."""
    return parse_attributes(reader) if reader.number(4) else None


def changed(before: Attributes, after: Attributes) -> bytes:
    """wcc_data, RFC 1813 2.6: what a client needs to see whether somebody else changed it, too."""
    times = (
        before.mtime // _SECOND, before.mtime % _SECOND,
        before.ctime // _SECOND, before.ctime % _SECOND,
    )  # fmt: skip
    return _YES + pack_u64(before.size) + pack_u32(*times) + _YES + after.serialise()


def parse_changed(reader: Reader) -> Attributes | None:
    """The attributes after the change."""
    if reader.number(4):
        reader.take(24)
    return parse_post_op(reader)


def attributes_of(attributes: Attributes) -> bytes:
    """GETATTR."""
    return _OK + attributes.serialise()


def looked_up(handle: bytes, attributes: Attributes, directory: Attributes | None) -> bytes:
    """LOOKUP3resok (RFC 1813 3.3.3)."""
    return b"".join((_OK, pack_opaque(handle), post_op(attributes), post_op(directory)))


def granted(attributes: Attributes, access: int) -> bytes:
    """ACCESS."""
    return _OK + post_op(attributes) + pack_u32(access)


def link_text(attributes: Attributes, text: bytes) -> bytes:
    """READLINK."""
    return _OK + post_op(attributes) + pack_opaque(text)


def read_head(attributes: Attributes, count: int, *, end: bool) -> bytes:
    """The result of READ up to the data, which follows with `-count % 4` bytes of padding."""
    return _OK + post_op(attributes) + pack_u32(count, end, count)


def set_attributes(before: Attributes, after: Attributes) -> bytes:
    """SETATTR, and REMOVE and RMDIR with those of the directory."""
    return _OK + changed(before, after)


def written(
    before: Attributes, after: Attributes, count: int, stable: Stable, verifier: bytes
) -> bytes:
    """WRITE3resok (RFC 1813 3.3.7); `count` in bytes."""
    return _OK + changed(before, after) + pack_u32(count, stable) + verifier


def parse_written(reader: Reader) -> tuple[int, bytes]:
    """Bytes, and the write verifier."""
    parse_changed(reader)
    count, _ = reader.number(4), reader.number(4)
    return count, reader.take(8)


def made(handle: bytes, attributes: Attributes, before: Attributes, after: Attributes) -> bytes:
    """CREATE, MKDIR, SYMLINK and MKNOD; `before` and `after` are the directory's."""
    return b"".join((_OK, _YES, pack_opaque(handle), post_op(attributes), changed(before, after)))


def parse_made(reader: Reader) -> tuple[bytes | None, Attributes | None]:
    """What CREATE, MKDIR, SYMLINK and MKNOD give: handle and attributes."""
    handle = parse_handle(reader) if reader.number(4) else None
    return handle, parse_post_op(reader)


def renamed(
    before: Attributes, after: Attributes, target_before: Attributes, target_after: Attributes
) -> bytes:
    """RENAME3resok (RFC 1813 3.3.14): both directories, before and after."""
    return _OK + changed(before, after) + changed(target_before, target_after)


def linked(attributes: Attributes, before: Attributes, after: Attributes) -> bytes:
    """LINK3resok (RFC 1813 3.3.15): the file, and its directory before and after."""
    return _OK + post_op(attributes) + changed(before, after)


def committed(before: Attributes, after: Attributes, verifier: bytes) -> bytes:
    """COMMIT3resok (RFC 1813 3.3.21)."""
    return _OK + changed(before, after) + verifier


@dataclass(frozen=True, slots=True)
class DirectoryEntry:
    """One name in a directory. `attributes` and `handle` go into READDIRPLUS alone."""

    fileid: int
    name: bytes
    cookie: int
    attributes: Attributes | None = None
    handle: bytes | None = None

    def serialise(self, *, plus: bool) -> bytes:
        """entry3, or entryplus3 with attributes and handle."""
        data = pack_u64(self.fileid) + pack_opaque(self.name) + pack_u64(self.cookie)
        if plus:
            data += post_op(self.attributes)
            data += pack_optional(None if self.handle is None else pack_opaque(self.handle))
        return data


def listed(
    directory: Attributes, entries: Sequence[bytes], *, end: bool
) -> bytes:  # entries as `DirectoryEntry.serialise` made them
    """READDIR3resok and READDIRPLUS3resok (RFC 1813 3.3.16, 3.3.17)."""
    head = _OK + post_op(directory) + bytes(8)
    return head + b"".join(_YES + entry for entry in entries) + pack_u32(0, end)


LISTED_OVERHEAD = 4 + 88 + 8 + 8  # bytes of READDIR results besides the entries


def parse_listed_plus(reader: Reader) -> tuple[list[DirectoryEntry], bool]:
    """Entries of READDIRPLUS, and whether they are the last."""
    parse_post_op(reader), reader.take(8)
    entries = []
    while reader.number(4):
        fileid, name, cookie = reader.number(8), reader.opaque(NAME_LIMIT), reader.number(8)
        attributes = parse_post_op(reader)
        handle = parse_handle(reader) if reader.number(4) else None
        entries.append(DirectoryEntry(fileid, name, cookie, attributes, handle))
    return entries, bool(reader.number(4))


@dataclass(frozen=True, slots=True)
class Space:
    """What FSSTAT tells: bytes and files, total and free."""

    total: int
    free: int
    files: int
    free_files: int


def space(attributes: Attributes, amount: Space) -> bytes:
    """FSSTAT3resok (RFC 1813 3.3.18)."""
    numbers = pack_u64(amount.total, amount.free, amount.free, amount.files)
    rest = pack_u64(amount.free_files, amount.free_files) + pack_u32(0)
    return _OK + post_op(attributes) + numbers + rest


_PROPERTIES = 0x1 | 0x2 | 0x8 | 0x10  # hard links, symbolic links, homogeneous, times can be set


def info(attributes: Attributes) -> bytes:
    """FSINFO, RFC 1813 3.3.19."""
    sizes = pack_u32(LARGEST, BEST, 4096, LARGEST, BEST, 4096, LISTED)
    rest = pack_u64((1 << 63) - 1) + pack_u32(0, 1, _PROPERTIES)
    return _OK + post_op(attributes) + sizes + rest


def path_limits(attributes: Attributes) -> bytes:
    """PATHCONF: no truncation, chown restricted, case sensitive and preserving."""
    return _OK + post_op(attributes) + pack_u32(32000, NAME_LIMIT, 1, 1, 0, 1)


# Words of empty results behind the status: how many "no attributes follow" each failure has.
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
