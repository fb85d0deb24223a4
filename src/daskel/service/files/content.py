"""A path that was asked for, over TFTP or HTTP, becomes bytes or the reason why not."""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from daskel.core.content.computed import NOT_YOURS, Content, Missing, Parts, may_have
from daskel.core.content.grub import with_server
from daskel.core.content.paths import PathRefusedError, clean_path, nearest
from daskel.core.history.events import FileKind, FileMissing, Missed, Told, Waits, Who
from daskel.core.history.misses import harmless
from daskel.core.reader import MalformedError
from daskel.service.files.opened import NotOpened, Opened
from daskel.service.files.unified import UnifiedImages
from daskel.service.shared import Shared
from daskel.system.host.confined_open import why_not

if TYPE_CHECKING:  # few sites have a key
    from daskel.core.efi.signature import Signer

_COMPARE_AGAIN = 0.05  # seconds until names are compared for another missing file
_LARGEST_IMAGE, _MOST_IMAGES = 16 << 20, 16  # bytes of a boot loader, and how many are remembered


class Contents:
    """Opens what is asked for, and remembers what is costly to make."""

    def __init__(self, shared: Shared, signer: Signer | None = None) -> None:
        self._shared, self._signer = shared, signer
        self._unified = UnifiedImages(signer)
        self._images: dict[tuple[object, ...], bytes | None] = {}  # with a server written in
        self._compared = float("-inf")  # when names were compared for a missing file

    def close(self) -> None:
        """End what is being worked out."""
        self._unified.close()

    def open(self, segment: str, asked: bytes, who: Who, over: str) -> Opened | NotOpened:
        """Open what `who` asked for; emits the event when there is nothing to send."""
        try:
            path = clean_path(asked)
        except PathRefusedError as error:
            return self._missing(who, asked, over, str(error), Missed.NOT_ALLOWED)
        found = self._shared.computed_for(who).content(segment, path, who, over)
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
        if found.parts:
            return self._composed(found, found.parts, segment, asked, who, over)
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
        if not may_have(self._shared.site_of(who), who, place):  # by its real name; a secret
            os.close(descriptor)
            return self._missing(who, asked, over, NOT_YOURS, Missed.NOT_YOURS)
        meant = place in found.places
        path = found.path if meant else place  # events name it as it was asked for
        kind = found.kind if meant else self._shared.computed.kind_of(place)
        opened = Opened(path, kind, size, descriptor=descriptor)
        if found.device and (image := self._image(opened, found)) is not None:
            opened.data = image
            opened.close()
            opened.size = len(image)
        return opened

    def _composed(
        self, found: Content, parts: Parts, segment: str, asked: bytes, who: Who, over: str
    ) -> Opened | NotOpened:
        """An image that is made of files."""
        files: list[Opened] = []
        for part in (parts.stub, parts.kernel, *parts.initrds):
            one = self._open(segment, part, asked, who, over)
            if isinstance(one, NotOpened):
                for other in files:
                    other.close()
                return one
            files.append(one)
        try:
            return self._unified.open(found.path, files, parts.line)
        except (MalformedError, OSError, EOFError) as error:
            for other in files:
                other.close()
            return self._missing(who, asked, over, str(error), Missed.ABSENT)

    def _published(self, found: Content, asked: bytes, who: Who, over: str) -> Opened | NotOpened:
        try:
            descriptor, size = self._shared.published.open(found.blob)
        except OSError as error:
            return self._missing(who, asked, over, why_not(error), Missed.ABSENT)
        return Opened(found.path, found.kind, size, descriptor=descriptor)

    def _image(self, opened: Opened, found: Content) -> bytes | None:
        """A boot loader's image with the server written into it, and signed where that is wanted
        and can be; made once. None when it is sent as it is."""
        status = os.fstat(opened.descriptor)
        key = (
            status.st_dev, status.st_ino, status.st_mtime_ns, opened.size, found.device, found.own,
            found.sign,
        )  # fmt: skip
        if key not in self._images:
            if opened.size > _LARGEST_IMAGE:
                return None
            if len(self._images) >= _MOST_IMAGES:
                self._images.clear()
            plain = opened.read(0, opened.size)
            made = with_server(plain, found.device, found.own)
            if found.sign and self._signer:
                with suppress(MalformedError):  # not an EFI program: firmware will say so
                    made = self._unified.signed(made)
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
