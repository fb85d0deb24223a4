"""A path that was asked for, over TFTP or HTTP, becomes bytes or the reason why not."""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
from dataclasses import dataclass

from daskel.core.content.computed import NOT_YOURS, Content, Missing, may_have
from daskel.core.content.grub import with_server
from daskel.core.content.paths import PathRefusedError, clean_path, nearest
from daskel.core.history.events import FileKind, FileMissing, Missed, Told, Waits, Who
from daskel.core.history.misses import harmless
from daskel.service.shared import Shared
from daskel.system.host.confined_open import why_not

_COMPARE_AGAIN = 0.05  # seconds until names are compared for another missing file
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
        """At most `length` bytes from `offset`."""
        if self.data is not None:
            return self.data[offset : offset + length]
        return os.pread(self.descriptor, length, offset)

    def read_into(self, pieces: list[memoryview], offset: int) -> int:
        """Fill the pieces one after the other, as far as the file goes; bytes read."""
        if self.data is None:
            return os.preadv(self.descriptor, pieces, offset)
        begin = offset
        for piece in pieces:
            part = self.data[offset : offset + len(piece)]
            piece[: len(part)] = part
            offset += len(part)
        return offset - begin

    def close(self) -> None:
        """Close its descriptor, if it has one."""
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1


@dataclass(frozen=True, slots=True)
class NotOpened:
    """Why there is nothing to send, for the one who asked."""

    reason: str
    refused: bool  # nobody may have it, as against: it is not there


class Contents:
    """Opens what is asked for, and remembers what is costly to make."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._images: dict[tuple[object, ...], bytes | None] = {}  # with a server written in
        self._compared = float("-inf")  # when names were compared for a missing file

    def open(self, segment: str, asked: bytes, who: Who, over: str) -> Opened | NotOpened:
        """Open what `who` asked for; emits the event when there is nothing to send."""
        try:
            path = clean_path(asked)
        except PathRefusedError as error:
            return self._missing(who, asked, over, str(error), Missed.NOT_ALLOWED)
        found = self._shared.computed.content(segment, path, who, over)
        if isinstance(found, Missing):
            return self._missing(who, asked, over, found.reason, found.why)
        return self._open(segment, found, asked, who, over)

    def _open(
        self, segment: str, found: Content, asked: bytes, who: Who, over: str
    ) -> Opened | NotOpened:
        if found.kind is FileKind.WAITING:
            self._shared.emit(Waits(who, segment))
        if found.told:
            self._shared.emit(Told(who, found.told))
        if found.data is not None:
            return Opened(found.path, found.kind, len(found.data), found.data, quiet=found.quiet)
        if found.blob:
            return self._published(found, asked, who, over)
        try:
            descriptor, size, place = self._shared.files.find(*found.places)
        except OSError as error:
            outside = error.errno in (errno.EXDEV, errno.EACCES, errno.EPERM)
            if error.errno == errno.ENOENT and (why := harmless(found.path)):
                return self._missing(who, asked, over, why_not(error), Missed.ABSENT, meaning=why)
            missed = Missed.NOT_ALLOWED if outside else Missed.ABSENT
            near = self._near(found.path) if error.errno == errno.ENOENT else ()
            return self._missing(who, asked, over, why_not(error), missed, near=near)
        if not may_have(self._shared.site, who, place):  # its name differs in upper and lower case
            os.close(descriptor)
            return self._missing(who, asked, over, NOT_YOURS, Missed.NOT_YOURS)
        meant = place in found.places
        path = found.path if meant else place  # events name it as it was asked for
        kind = found.kind if meant else self._shared.computed.kind_of(place)
        opened = Opened(path, kind, size, descriptor=descriptor)
        if found.device and (image := self._image(opened, found.device)) is not None:
            opened.data = image
            opened.close()
        return opened

    def _published(self, found: Content, asked: bytes, who: Who, over: str) -> Opened | NotOpened:
        try:
            descriptor, size = self._shared.published.open(found.blob)
        except OSError as error:
            return self._missing(who, asked, over, why_not(error), Missed.ABSENT)
        return Opened(found.path, found.kind, size, descriptor=descriptor)

    def _image(self, opened: Opened, device: str) -> bytes | None:
        """A boot loader's image with the server written into it, made once; None when it has no
        place for one."""
        status = os.fstat(opened.descriptor)
        key = (status.st_dev, status.st_ino, status.st_mtime_ns, opened.size, device)
        if key not in self._images:
            if opened.size > _LARGEST_IMAGE:
                return None
            if len(self._images) >= _MOST_IMAGES:
                self._images.clear()
            plain = opened.read(0, opened.size)
            made = with_server(plain, device)
            self._images[key] = None if made == plain else made
        return self._images[key]

    def _near(self, path: str) -> list[str]:
        """For the log; not for each of a flood."""
        now = self._shared.clock.monotonic()
        if now - self._compared < _COMPARE_AGAIN:
            return []
        self._compared = now
        return nearest(path, self._shared.files.names())

    def _missing(
        self, who: Who, asked: bytes, over: str, reason: str, why: Missed,
        near: Sequence[str] = (), meaning: str = "",
    ) -> NotOpened:  # fmt: skip
        """Names of other files, and what a miss means, are for the log alone."""
        shown = asked[:200].decode("utf-8", "backslashreplace")
        more = f"; {meaning}" if meaning and not near else ""
        event = FileMissing(who, shown, over, reason + more, bool(meaning), why, tuple(near))
        self._shared.emit(event)
        return NotOpened(reason, why is not Missed.ABSENT)
