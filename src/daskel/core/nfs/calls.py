"""Arguments of NFS version 3's procedures (RFC 1813 3.3): a server parses, a client serialises.

Everything that is parsed comes from the network; MalformedError when it is garbage, NfsError when
the protocol has a status for it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from daskel.core.nfs.nfs3 import (
    HANDLE_LIMIT,
    LARGEST,
    LISTED,
    NAME_LIMIT,
    TEXT_LIMIT,
    FileType,
    NfsError,
    Stable,
    Status,
)
from daskel.core.nfs.xdr import pack_opaque, pack_optional, pack_u32, pack_u64
from daskel.core.reader import Reader

_SECOND = 10**9


def parse_handle(reader: Reader) -> bytes:
    """A file handle, nfs_fh3 (RFC 1813 2.5)."""
    return reader.opaque(HANDLE_LIMIT)


def parse_name(reader: Reader) -> bytes:
    """A name that is too long is a status, not garbage; one that is not a name is refused."""
    name = reader.opaque(4096)
    if len(name) > NAME_LIMIT:
        raise NfsError(Status.NAMETOOLONG)
    return name


def parse_lookup(reader: Reader) -> tuple[bytes, bytes]:
    """Handle of the directory, and the name: of LOOKUP, REMOVE and RMDIR."""
    return parse_handle(reader), parse_name(reader)


def serialise_lookup(handle: bytes, name: bytes) -> bytes:
    """LOOKUP3args, REMOVE3args, RMDIR3args (RFC 1813 3.3.3)."""
    return pack_opaque(handle) + pack_opaque(name)


def parse_access(reader: Reader) -> tuple[bytes, int]:
    """ACCESS3args (RFC 1813 3.3.4): handle, and the bits that are asked for."""
    return parse_handle(reader), reader.number(4) & 63


def parse_read(reader: Reader) -> tuple[bytes, int, int]:
    """Handle, offset, count; in bytes, the count cut to LARGEST."""
    handle, offset, count = parse_handle(reader), reader.number(8), reader.number(4)
    return handle, offset, min(count, LARGEST)


def parse_commit(reader: Reader) -> tuple[bytes, int, int]:
    """COMMIT3args (RFC 1813 3.3.21): handle, offset and count, in bytes."""
    return parse_handle(reader), reader.number(8), reader.number(4)


def serialise_commit(handle: bytes, offset: int, count: int) -> bytes:
    """COMMIT3args (RFC 1813 3.3.21); offset and count in bytes, a count of 0 is to the end."""
    return serialise_read(handle, offset, count)


def serialise_read(handle: bytes, offset: int, count: int) -> bytes:
    """READ3args (RFC 1813 3.3.6); offset and count in bytes."""
    return pack_opaque(handle) + pack_u64(offset) + pack_u32(count)


@dataclass(frozen=True, slots=True)
class ReadDir:
    """Arguments of READDIR and READDIRPLUS. `limit`: bytes of the whole result."""

    handle: bytes
    cookie: int
    limit: int
    plus: bool


def parse_readdir(reader: Reader, *, plus: bool) -> ReadDir:
    """READDIR3args and READDIRPLUS3args (RFC 1813 3.3.16, 3.3.17)."""
    handle, cookie = parse_handle(reader), reader.number(8)
    reader.take(8)  # cookie verifier: cookies here do not go stale
    if plus:
        reader.number(4)
    return ReadDir(handle, cookie, min(reader.number(4), LISTED), plus)


def serialise_readdirplus(handle: bytes, cookie: int, limit: int) -> bytes:
    """READDIRPLUS3args (RFC 1813 3.3.17); `limit` in bytes."""
    return pack_opaque(handle) + pack_u64(cookie, 0) + pack_u32(limit, limit)


# --- what changes something ---


_NO_ONE = 0xFFFFFFFF  # no user or group has this number


class Clock(Enum):
    """A time that is to be set by the server's clock."""

    SERVER = 1  # SET_TO_SERVER_TIME


@dataclass(frozen=True, slots=True)
class NewAttributes:
    """sattr3, RFC 1813 2.6: what is to be set; None stays. Times in nanoseconds since 1970."""

    mode: int | None = None
    uid: int | None = None
    gid: int | None = None
    size: int | None = None
    atime: int | Clock | None = None
    mtime: int | Clock | None = None

    def serialise(self) -> bytes:
        """sattr3 (RFC 1813 2.6)."""
        numbers = (self.mode, self.uid, self.gid)
        plain = [pack_optional(None if n is None else pack_u32(n)) for n in numbers]
        plain.append(pack_optional(None if self.size is None else pack_u64(self.size)))
        return b"".join([*plain, _pack_time(self.atime), _pack_time(self.mtime)])


def _pack_time(time: int | Clock | None) -> bytes:
    if isinstance(time, int):
        return pack_u32(2, time // _SECOND, time % _SECOND)
    return pack_u32(1 if time is Clock.SERVER else 0)


def parse_new_attributes(reader: Reader) -> NewAttributes:
    """sattr3 (RFC 1813 2.6)."""
    mode, uid, gid = (reader.number(4) if reader.number(4) else None for _ in range(3))
    if _NO_ONE in (uid, gid):
        raise NfsError(Status.INVAL)
    size = reader.number(8) if reader.number(4) else None
    return NewAttributes(mode, uid, gid, size, _parse_time(reader), _parse_time(reader))


def _parse_time(reader: Reader) -> int | Clock | None:
    how = reader.number(4)
    if how > 2:
        raise reader.fail(f"time_how is {how}")
    if how == 2:
        return reader.number(4) * _SECOND + reader.number(4)
    return Clock.SERVER if how else None


def parse_setattr(reader: Reader) -> tuple[bytes, NewAttributes, int | None]:
    """Handle, attributes, and the ctime that the file must still have, in nanoseconds."""
    handle, new = parse_handle(reader), parse_new_attributes(reader)
    guard = reader.number(4) * _SECOND + reader.number(4) if reader.number(4) else None
    return handle, new, guard


def serialise_setattr(handle: bytes, new: NewAttributes, guard: int | None = None) -> bytes:
    """SETATTR3args (RFC 1813 3.3.2); `guard` in nanoseconds since 1970."""
    time = None if guard is None else pack_u32(guard // _SECOND, guard % _SECOND)
    return pack_opaque(handle) + new.serialise() + pack_optional(time)


@dataclass(frozen=True, slots=True)
class Write:
    """WRITE3args (RFC 1813 3.3.7); `offset` in bytes."""

    handle: bytes
    offset: int
    stable: Stable
    data: bytes

    def serialise(self) -> bytes:
        """As a client sends it."""
        place = pack_u64(self.offset) + pack_u32(len(self.data), self.stable)
        return pack_opaque(self.handle) + place + pack_opaque(self.data)


def parse_write(reader: Reader) -> Write:
    """WRITE3args (RFC 1813 3.3.7); data beyond its count is left out."""
    handle, offset, count, stable = (
        parse_handle(reader), reader.number(8), reader.number(4), reader.number(4),
    )  # fmt: skip
    if stable > 2:
        raise reader.fail(f"stable_how is {stable}")
    data = reader.opaque(LARGEST)
    return Write(handle, offset, Stable(stable), data[:count])


@dataclass(frozen=True, slots=True)
class Make:
    """CREATE, MKDIR, SYMLINK and MKNOD: what to make in a directory."""

    directory: bytes
    name: bytes
    type: FileType
    new: NewAttributes = NewAttributes()
    exclusive: bytes | None = None  # CREATE: the verifier of an exclusive create
    guarded: bool = False  # CREATE: fails when the name is there
    text: bytes = b""  # SYMLINK
    device: tuple[int, int] = (0, 0)  # MKNOD


def parse_create(reader: Reader) -> Make:
    """CREATE3args (RFC 1813 3.3.8)."""
    directory, name, how = parse_handle(reader), parse_name(reader), reader.number(4)
    if how > 2:
        raise reader.fail(f"createmode is {how}")
    if how == 2:
        return Make(directory, name, FileType.REGULAR, exclusive=reader.take(8))
    new = parse_new_attributes(reader)
    return Make(directory, name, FileType.REGULAR, new, guarded=how == 1)


def serialise_create(make: Make) -> bytes:
    """CREATE3args (RFC 1813 3.3.8)."""
    place = pack_opaque(make.directory) + pack_opaque(make.name)
    if make.exclusive is not None:
        return place + pack_u32(2) + make.exclusive
    return place + pack_u32(make.guarded) + make.new.serialise()


def parse_mkdir(reader: Reader) -> Make:
    """MKDIR3args (RFC 1813 3.3.9)."""
    directory, name = parse_lookup(reader)
    return Make(directory, name, FileType.DIRECTORY, parse_new_attributes(reader))


def serialise_mkdir(make: Make) -> bytes:
    """MKDIR3args (RFC 1813 3.3.9)."""
    return serialise_lookup(make.directory, make.name) + make.new.serialise()


def parse_symlink(reader: Reader) -> Make:
    """SYMLINK3args (RFC 1813 3.3.10)."""
    directory, name = parse_lookup(reader)
    new, text = parse_new_attributes(reader), reader.opaque(65536)
    if len(text) > TEXT_LIMIT:
        raise NfsError(Status.NAMETOOLONG)
    return Make(directory, name, FileType.LINK, new, text=text)


def serialise_symlink(make: Make) -> bytes:
    """SYMLINK3args (RFC 1813 3.3.10)."""
    return serialise_mkdir(make) + pack_opaque(make.text)


_SPECIAL = (FileType.BLOCK, FileType.CHARACTER, FileType.SOCKET, FileType.FIFO)


def parse_mknod(reader: Reader) -> Make:
    """MKNOD3args (RFC 1813 3.3.11)."""
    directory, name = parse_lookup(reader)
    kind = reader.number(4)
    if kind not in list(_SPECIAL):
        raise NfsError(Status.BADTYPE)
    new, device = parse_new_attributes(reader), (0, 0)
    if kind in (FileType.BLOCK, FileType.CHARACTER):
        device = reader.number(4), reader.number(4)
    return Make(directory, name, FileType(kind), new, device=device)


def serialise_mknod(make: Make) -> bytes:
    """MKNOD3args (RFC 1813 3.3.11)."""
    place = serialise_lookup(make.directory, make.name) + pack_u32(make.type)
    has_device = make.type in (FileType.BLOCK, FileType.CHARACTER)
    return place + make.new.serialise() + (pack_u32(*make.device) if has_device else b"")


def parse_rename(reader: Reader) -> tuple[bytes, bytes, bytes, bytes]:
    """Directory and name, of what is and of what is to be."""
    return *parse_lookup(reader), *parse_lookup(reader)


def serialise_rename(directory: bytes, name: bytes, target: bytes, new: bytes) -> bytes:
    """RENAME3args (RFC 1813 3.3.14)."""
    return serialise_lookup(directory, name) + serialise_lookup(target, new)


def parse_link(reader: Reader) -> tuple[bytes, bytes, bytes]:
    """The file, the directory, and the name that it gets there."""
    return parse_handle(reader), *parse_lookup(reader)


def serialise_link(handle: bytes, directory: bytes, name: bytes) -> bytes:
    """LINK3args (RFC 1813 3.3.15)."""
    return pack_opaque(handle) + serialise_lookup(directory, name)
