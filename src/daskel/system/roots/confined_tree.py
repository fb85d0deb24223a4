"""Names below a folder, reached without leaving it, whatever links its content has."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from daskel.system.host.libc import (
    RESOLVE_BENEATH,
    RESOLVE_NO_MAGIC_LINKS,
    RESOLVE_NO_SYMLINKS,
    openat2,
)

_FOLDER = os.O_PATH | os.O_DIRECTORY


class ConfinedTree:
    """An open folder. `links`: links to folders may be followed on the way, where they stay below
    it (RESOLVE_BENEATH of openat2(2)); without, none is."""

    def __init__(self, top: Path, *, links: bool = False) -> None:
        self._resolve = RESOLVE_BENEATH | RESOLVE_NO_MAGIC_LINKS
        self._resolve |= 0 if links else RESOLVE_NO_SYMLINKS
        self._top = os.open(top, _FOLDER | os.O_CLOEXEC)
        self._name, self._open = "", self._top  # the folder that was asked for last

    def __enter__(self) -> ConfinedTree:
        return self

    def __exit__(self, *_: object) -> None:
        self.forget()
        os.close(self._top)

    def at(self, path: str) -> str:
        """A way to `path` that is good until the next call. Its last name may be a link, or not be
        there yet: use it with functions that do not follow links. Raises OSError: EXDEV or ELOOP
        where a folder on the way leads out."""
        above, _, name = path.strip("/").rpartition("/")
        if name == "..":
            raise OSError(errno.EXDEV, "leads out of its folder", path)
        if above != self._name:
            self.forget()
        if above and above != self._name:
            self._open = openat2(self._top, os.fsencode(above), _FOLDER, self._resolve)
            self._name = above
        return f"/proc/self/fd/{self._open}/{name or '.'}"

    def forget(self) -> None:
        """A folder may have become another one."""
        if self._open != self._top:
            os.close(self._open)
        self._name, self._open = "", self._top
