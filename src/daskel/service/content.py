"""A path that was asked for, over TFTP or HTTP, becomes bytes or the reason why not."""

from __future__ import annotations

import errno
import os
from dataclasses import dataclass

from daskel.core.boot.files import Content, FileKind, Missing, PathRefusedError, clean_path
from daskel.core.boot.identity import Who
from daskel.core.boot.stages import FileMissing, Waits
from daskel.service.shared import Shared


@dataclass
class Opened:
    """A file to send: `data` when computed, else an open descriptor. Close it."""

    path: str
    kind: FileKind
    size: int  # bytes
    data: bytes | None = None
    descriptor: int = -1
    quiet: bool = False

    def read(self, offset: int, length: int) -> bytes:
        if self.data is not None:
            return self.data[offset : offset + length]
        return os.pread(self.descriptor, length, offset)

    def close(self) -> None:
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1


@dataclass(frozen=True, slots=True)
class NotOpened:
    reason: str
    refused: bool  # nobody may have it, as against: it is not there


def open_content(
    shared: Shared, segment: str, asked: bytes, who: Who, over: str
) -> Opened | NotOpened:
    """Open what `who` asked for; emits the event when there is nothing to send."""
    try:
        path = clean_path(asked)
    except PathRefusedError as error:
        return _missing(shared, who, asked, over, str(error), refused=True)
    found = shared.computed.content(segment, path, who, over)
    if isinstance(found, Missing):
        return _missing(shared, who, asked, over, found.reason, refused=False)
    return _open(shared, segment, found, asked, who, over)


def _open(
    shared: Shared, segment: str, found: Content, asked: bytes, who: Who, over: str
) -> Opened | NotOpened:
    if found.kind is FileKind.WAITING:
        shared.emit(Waits(who, segment))
    if found.data is not None:
        return Opened(found.path, found.kind, len(found.data), found.data, quiet=found.quiet)
    try:
        descriptor, size = shared.files.open(found.path)
    except OSError as error:
        outside = error.errno in (errno.EXDEV, errno.EACCES, errno.EPERM)
        reasons = {
            errno.ENOENT: "no such file",
            errno.EXDEV: "a link that leads out of the files folder",
            errno.EACCES: "Daskel may not read it",
        }
        reason = reasons.get(error.errno or 0, (error.strerror or "cannot be opened").lower())
        return _missing(shared, who, asked, over, reason, refused=outside)
    return Opened(found.path, found.kind, size, descriptor=descriptor)


def _missing(
    shared: Shared, who: Who, asked: bytes, over: str, reason: str, *, refused: bool
) -> NotOpened:
    shown = asked[:200].decode("utf-8", "backslashreplace")
    shared.emit(FileMissing(who, shown, over, reason))
    return NotOpened(reason, refused)
