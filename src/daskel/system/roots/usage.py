"""How much a slate takes on the disk, and the limit that its client sees as a full disk.

Names count, too: a client that makes empty files and links would fill the disk of all others.
"""

from __future__ import annotations

import os
from pathlib import Path

from daskel.core.nfs.nfs3 import NfsError, Status
from daskel.core.roots.views import NAME_COST


def disk_usage(folder: Path) -> tuple[int, int, int]:
    """Bytes on the disk below a folder, each file once; the numbers of files, and of names."""
    seen: set[int] = set()
    size = names = 0
    pending = [str(folder)]
    while pending:
        try:
            entries = list(os.scandir(pending.pop()))
        except OSError:
            continue  # removed meanwhile
        for entry in entries:
            try:
                status = entry.stat(follow_symlinks=False)
            except OSError:
                continue
            names += 1
            if status.st_ino not in seen:
                seen.add(status.st_ino)
                size += status.st_blocks * 512
            if entry.is_dir(follow_symlinks=False):
                pending.append(entry.path)
    return size, len(seen), names


class Usage:
    """Counted up with every write and every name that is made, and by `count` at first and now and
    then: what is removed is not known to be free before that."""

    def __init__(self, limit: int, folder: Path) -> None:
        self.limit, self._folder, self.used = limit, folder, 0
        self.changed = True  # since it was counted

    @property
    def left(self) -> int:
        """Bytes that may still be written."""
        return max(0, self.limit - self.used)

    def need(self, count: int) -> None:
        """Raises NfsError when that much is not left."""
        if count > self.left:
            self.changed = True
            raise NfsError(Status.NOSPC)

    def need_name(self) -> None:
        """Count one more name, of whatever kind. Raises NfsError when that is too much."""
        self.need(NAME_COST)
        self.add(NAME_COST)

    def add(self, count: int) -> None:
        """Count bytes that were written, until they are counted on the disk."""
        self.used += max(0, count)
        self.changed = True

    def count(self) -> None:
        """Takes as long as a walk through the folder."""
        self.changed = False
        size, _, names = disk_usage(self._folder)
        self.used = size + NAME_COST * names
