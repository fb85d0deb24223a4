"""Open files of all exports of one process, and the operating system's errors as statuses."""

from __future__ import annotations

import errno
import os
import resource
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager

from daskel.core.nfs.nfs3 import NfsError, Status

_STATUSES = {
    errno.EPERM: Status.PERM,
    errno.ENOENT: Status.NOENT,
    errno.EACCES: Status.ACCES,
    errno.EEXIST: Status.EXIST,
    errno.EXDEV: Status.XDEV,
    errno.ENOTDIR: Status.NOTDIR,
    errno.EISDIR: Status.ISDIR,
    errno.EINVAL: Status.INVAL,
    errno.EFBIG: Status.FBIG,
    errno.ENOSPC: Status.NOSPC,
    errno.EROFS: Status.ROFS,
    errno.EMLINK: Status.MLINK,
    errno.ELOOP: Status.STALE,
    errno.ENAMETOOLONG: Status.NAMETOOLONG,
    errno.ENOTEMPTY: Status.NOTEMPTY,
    errno.EDQUOT: Status.DQUOT,
    errno.ESTALE: Status.STALE,
    errno.EOPNOTSUPP: Status.NOTSUPP,
}


class Descriptors:
    """Open files that are asked for again and again, by handle; the longest unused go first."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._open: OrderedDict[bytes, int] = OrderedDict()
        self.peek = self._open.get  # as `get`, but does not count as a use

    def get(self, handle: bytes) -> int | None:
        """The descriptor of a handle that is open."""
        descriptor = self._open.get(handle)
        if descriptor is not None:
            self._open.move_to_end(handle)
        return descriptor

    def put(self, handle: bytes, descriptor: int) -> int:
        """Keep a descriptor; the longest unused one is closed when there are too many."""
        self.drop(handle)
        self._open[handle] = descriptor
        if len(self._open) > self._most:
            os.close(self._open.popitem(last=False)[1])
        return descriptor

    def drop(self, handle: bytes) -> None:
        """Close what is open of a handle."""
        descriptor = self._open.pop(handle, None)
        if descriptor is not None:
            os.close(descriptor)

    def drop_export(self, export: bytes) -> None:
        """Close what is open of an export."""
        for handle in [handle for handle in self._open if handle.startswith(export)]:
            self.drop(handle)


class OpenFiles:
    """Of all exports of one process: places (O_PATH), files to read, files to read and write."""

    def __init__(self) -> None:
        most = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
        self.places = Descriptors(most // 2)
        self.to_read, self.to_write = Descriptors(most // 8), Descriptors(most // 8)

    def drop(self, handle: bytes) -> None:
        """Close what is open of a handle."""
        for kind in (self.places, self.to_read, self.to_write):
            kind.drop(handle)

    def drop_export(self, export: bytes) -> None:
        """Close what is open of an export."""
        for kind in (self.places, self.to_read, self.to_write):
            kind.drop_export(export)


@contextmanager
def statuses() -> Iterator[None]:
    """The operating system's errors as statuses of the protocol."""
    try:
        yield
    except OSError as error:
        raise failure(error) from error


def failure(error: OSError) -> NfsError:
    """The status of NFS for an error of the operating system."""
    return NfsError(_STATUSES.get(error.errno or 0, Status.IO))
