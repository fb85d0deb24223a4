"""A path that was asked for, over TFTP or HTTP, becomes bytes or the reason why not."""

from __future__ import annotations

import errno
import os
from dataclasses import dataclass

from daskel.core.boot.files import Content, FileKind, Missing, PathRefusedError, clean_path
from daskel.core.boot.identity import Who
from daskel.core.boot.loader import with_server
from daskel.core.boot.stages import FileMissing, Waits
from daskel.service.shared import Shared
from daskel.system.beneath import FilesFolder

_LARGEST_IMAGE, _MOST_IMAGES = 16 << 20, 16  # bytes of a boot loader, and how many are remembered


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
        descriptor, size = _open_own_or_shared(shared.files, found)
    except OSError as error:
        outside = error.errno in (errno.EXDEV, errno.EACCES, errno.EPERM)
        reasons = {
            errno.ENOENT: "no such file",
            errno.EXDEV: "a link that leads out of the files folder",
            errno.EACCES: "Daskel may not read it",
        }
        reason = reasons.get(error.errno or 0, (error.strerror or "cannot be opened").lower())
        return _missing(shared, who, asked, over, reason, refused=outside)
    opened = Opened(found.path, found.kind, size, descriptor=descriptor)
    if found.device and (image := _image(shared, opened, found.device)) is not None:
        opened.data = image
        opened.close()
    return opened


def _image(shared: Shared, opened: Opened, device: str) -> bytes | None:
    """A boot loader's image with the server written into it, made once; None when it has no place
    for one."""
    status = os.fstat(opened.descriptor)
    key = (status.st_dev, status.st_ino, status.st_mtime_ns, opened.size, device)
    if key not in shared.images:
        if opened.size > _LARGEST_IMAGE:
            return None
        if len(shared.images) >= _MOST_IMAGES:
            shared.images.clear()
        plain = opened.read(0, opened.size)
        made = with_server(plain, device)
        shared.images[key] = None if made == plain else made
    return shared.images[key]


def _open_own_or_shared(files: FilesFolder, found: Content) -> tuple[int, int]:
    try:
        return files.open(found.path)
    except FileNotFoundError:
        if not found.shared:
            raise
        return files.open(found.shared)


def _missing(
    shared: Shared, who: Who, asked: bytes, over: str, reason: str, *, refused: bool
) -> NotOpened:
    shown = asked[:200].decode("utf-8", "backslashreplace")
    shared.emit(FileMissing(who, shown, over, reason))
    return NotOpened(reason, refused)
