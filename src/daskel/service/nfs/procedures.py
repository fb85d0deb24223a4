"""NFS version 3's procedures: arguments in, an export asked or changed, results out (RFC 1813 3.3).

Nothing of sockets here. A result is bytes, or says what must still be done before it is sent.
"""

from __future__ import annotations

import itertools
import os
import time
from bisect import bisect_right
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

from daskel.core.nfs import calls, results
from daskel.core.nfs.calls import NewAttributes
from daskel.core.nfs.nfs3 import NfsError, Procedure, Stable, Status
from daskel.core.nfs.results import DirectoryEntry
from daskel.core.nfs.rpc import Call
from daskel.core.reader import Reader
from daskel.system.nfs.export import Export, Name
from daskel.system.nfs.writable import WritableExport

_SENT_BY_KERNEL = 32 << 10  # bytes from which on data is not copied through this process


@dataclass(frozen=True, slots=True)
class FileData:
    """READ: `head`, then `count` bytes of the file, then padding."""

    head: bytes
    descriptor: int  # may be closed by the export's next call
    offset: int
    count: int


@dataclass(frozen=True, slots=True)
class WhenOnDisk:
    """`results`, once what was written to the file is on the disk."""

    results: bytes
    descriptor: int  # may be closed by the export's next call


Pieces = tuple[bytes, ...]  # results in pieces, so that what was read is not copied once more
Reply = bytes | Pieces | FileData | WhenOnDisk
Find = Callable[[bytes], Export]  # the export of a handle; raises NfsError
# Changes at each start: a client that sees another one sends again what was not committed.
VERIFIER = time.time_ns().to_bytes(8, "big")


def carry_out(call: Call, find: Find, failed: Callable[[Status], None]) -> Reply | None:
    """None when there is no such procedure; `failed` is told of errors. Raises MalformedError."""
    known = _PROCEDURES.get(call.procedure)
    if known is None:
        return b"" if call.procedure == Procedure.NULL else None
    parse, do = known
    try:
        asked = parse(call.arguments)
        call.arguments.end()
        return do(call, asked, find)
    except NfsError as error:
        failed(error.status)
        return results.failed(Procedure(call.procedure), error.status)


def _to_change(find: Find, handle: bytes) -> WritableExport:
    """The export of a handle, when it may be changed."""
    export = find(handle)
    if not isinstance(export, WritableExport):
        raise NfsError(Status.ROFS)
    return export


def _getattr(call: Call, handle: bytes, find: Find) -> Reply:  # noqa: ARG001
    return results.attributes_of(find(handle).attributes(handle))


def _setattr(call: Call, asked: tuple[bytes, NewAttributes, int | None], find: Find) -> Reply:
    handle, new, guard = asked
    done = _to_change(find, handle).set_attributes(handle, new, guard, call.credentials)
    return results.set_attributes(*done)


def _lookup(call: Call, asked: tuple[bytes, bytes], find: Find) -> Reply:
    handle, name = asked
    return results.looked_up(*find(handle).lookup(handle, name, call.credentials))


def _access(call: Call, asked: tuple[bytes, int], find: Find) -> Reply:
    handle, wanted = asked
    attributes, granted = find(handle).access(handle, call.credentials)
    return results.granted(attributes, granted & wanted)


def _readlink(call: Call, handle: bytes, find: Find) -> Reply:  # noqa: ARG001
    text, attributes = find(handle).link_text(handle)
    return results.link_text(attributes, text)


def _read(call: Call, asked: tuple[bytes, int, int], find: Find) -> Reply:
    handle, offset, count = asked
    descriptor, attributes = find(handle).readable(handle, call.credentials)
    count = max(0, min(count, attributes.size - offset))
    end = offset + count >= attributes.size
    if count >= _SENT_BY_KERNEL:
        return FileData(results.read_head(attributes, count, end=end), descriptor, offset, count)
    try:
        data = os.pread(descriptor, count, offset) if count else b""
    except OSError:
        raise NfsError(Status.IO) from None
    head = results.read_head(attributes, len(data), end=end)
    return head, data, bytes(-len(data) % 4)


def _write(call: Call, write: calls.Write, find: Find) -> Reply:
    export = _to_change(find, write.handle)
    descriptor, before, after = export.write(
        write.handle, write.offset, write.data, call.credentials
    )
    done = results.written(before, after, len(write.data), write.stable, VERIFIER)
    return done if write.stable is Stable.UNSTABLE else WhenOnDisk(done, descriptor)


def _commit(call: Call, asked: tuple[bytes, int, int], find: Find) -> Reply:
    handle, _offset, _count = asked  # the whole file is written: that is allowed, and simpler
    descriptor, attributes = _to_change(find, handle).writable_file(handle, call.credentials)
    return WhenOnDisk(results.committed(attributes, attributes, VERIFIER), descriptor)


def _make(call: Call, make: calls.Make, find: Find) -> Reply:
    return results.made(*_to_change(find, make.directory).make(make, call.credentials))


def _remove(call: Call, asked: tuple[bytes, bytes], find: Find) -> Reply:
    directory, name = asked
    folder = call.procedure == Procedure.RMDIR
    done = _to_change(find, directory).remove(directory, name, call.credentials, folder=folder)
    return results.set_attributes(*done)


def _rename(call: Call, asked: tuple[bytes, bytes, bytes, bytes], find: Find) -> Reply:
    directory, name, target, new = asked
    export = _to_change(find, directory)
    if find(target) is not export:
        raise NfsError(Status.XDEV)
    return results.renamed(*export.rename(directory, name, target, new, call.credentials))


def _link(call: Call, asked: tuple[bytes, bytes, bytes], find: Find) -> Reply:
    handle, directory, name = asked
    export = _to_change(find, handle)
    if find(directory) is not export:
        raise NfsError(Status.XDEV)
    return results.linked(*export.link(handle, directory, name, call.credentials))


def _readdir(call: Call, asked: calls.ReadDir, find: Find) -> Reply:
    plus = asked.plus
    export = find(asked.handle)
    goes_on = asked.cookie > 2  # behind `.` and `..`
    names, directory = export.names(asked.handle, call.credentials, goes_on=goes_on)
    above = export.parent_inode(asked.handle, directory)
    own = [Name(1, b".", directory.fileid), Name(2, b"..", above)]
    entries, room, end = [], asked.limit - results.LISTED_OVERHEAD, True
    at = bisect_right(names, asked.cookie, key=lambda name: name.cookie)
    rest = itertools.islice(names, at, None)
    for name in itertools.chain((n for n in own if n.cookie > asked.cookie), rest):
        found = export.entry(asked.handle, name.name) if plus and name.cookie > 2 else None
        handle, attributes = found or (None, None)
        entry = DirectoryEntry(name.fileid, name.name, name.cookie, attributes, handle).serialise(
            plus=plus
        )
        room -= len(entry) + 4
        if room < 0:
            end = False
            break
        entries.append(entry)
    if not entries and not end:
        raise NfsError(Status.TOOSMALL)
    return results.listed(directory, entries, end=end)


def _fsstat(call: Call, handle: bytes, find: Find) -> Reply:  # noqa: ARG001
    export = find(handle)
    return results.space(export.attributes(handle), export.space())


def _fsinfo(call: Call, handle: bytes, find: Find) -> Reply:  # noqa: ARG001
    return results.info(find(handle).attributes(handle))


def _pathconf(call: Call, handle: bytes, find: Find) -> Reply:  # noqa: ARG001
    return results.path_limits(find(handle).attributes(handle))


_Parse = Callable[[Reader], Any]
_Do = Callable[[Call, Any, Find], Reply]
_PROCEDURES: Mapping[int, tuple[_Parse, _Do]] = {  # what is asked, and what is done
    Procedure.GETATTR: (calls.parse_handle, _getattr),
    Procedure.SETATTR: (calls.parse_setattr, _setattr),
    Procedure.LOOKUP: (calls.parse_lookup, _lookup),
    Procedure.ACCESS: (calls.parse_access, _access),
    Procedure.READLINK: (calls.parse_handle, _readlink),
    Procedure.READ: (calls.parse_read, _read),
    Procedure.WRITE: (calls.parse_write, _write),
    Procedure.CREATE: (calls.parse_create, _make),
    Procedure.MKDIR: (calls.parse_mkdir, _make),
    Procedure.SYMLINK: (calls.parse_symlink, _make),
    Procedure.MKNOD: (calls.parse_mknod, _make),
    Procedure.REMOVE: (calls.parse_lookup, _remove),
    Procedure.RMDIR: (calls.parse_lookup, _remove),
    Procedure.RENAME: (calls.parse_rename, _rename),
    Procedure.LINK: (calls.parse_link, _link),
    Procedure.READDIR: (partial(calls.parse_readdir, plus=False), _readdir),
    Procedure.READDIRPLUS: (partial(calls.parse_readdir, plus=True), _readdir),
    Procedure.FSSTAT: (calls.parse_handle, _fsstat),
    Procedure.FSINFO: (calls.parse_handle, _fsinfo),
    Procedure.PATHCONF: (calls.parse_handle, _pathconf),
    Procedure.COMMIT: (calls.parse_commit, _commit),
}
