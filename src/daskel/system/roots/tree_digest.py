"""One number for all that is in a folder, to compare it with a copy on another machine."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Collection
from pathlib import Path
from typing import Any

from daskel.system.roots.tree_copy import Progress, entries

_PIECE = 1 << 20  # bytes
_OVERLAY = "trusted.overlay."
OVERLAY_MEANT = (  # of its attributes; the others fit one lower folder alone
    "trusted.overlay.opaque", "trusted.overlay.redirect", "trusted.overlay.whiteout",
)  # fmt: skip


def tree_digest(top: Path, progress: Progress, leave: Collection[str] = ()) -> str:
    """SHA-256 of names, kinds, owners, modes, attributes, links and contents; not of times. Names
    right below `top` that are in `leave` are left out. Raises OSError."""
    made = hashlib.sha256()
    for path, status in sorted(entries(top)):
        if path.split("/", 1)[0] not in leave:
            _take(made, top / path, path, status, progress)
    return made.hexdigest()


def _take(made: Any, place: Path, path: str, status: os.stat_result, progress: Progress) -> None:
    mode = status.st_mode
    device = status.st_rdev if stat.S_ISCHR(mode) or stat.S_ISBLK(mode) else 0
    size = status.st_size if stat.S_ISREG(mode) else 0
    kept = [
        (name, os.getxattr(place, name, follow_symlinks=False))
        for name in sorted(os.listxattr(place, follow_symlinks=False))
        if name in OVERLAY_MEANT or not name.startswith(_OVERLAY)
    ]
    link = str(place.readlink()) if stat.S_ISLNK(mode) else ""
    head = (path, mode, status.st_uid, status.st_gid, device, size, link, kept)
    made.update(repr(head).encode() + b"\n")
    if not stat.S_ISREG(mode):
        return
    with os.fdopen(os.open(place, os.O_RDONLY | os.O_NOFOLLOW), "rb") as file:
        while piece := file.read(_PIECE):
            made.update(piece)
            progress(len(piece))
