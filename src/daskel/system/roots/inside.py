"""Paths inside of a tree: links lead where they would if the tree were the whole system."""

from __future__ import annotations

import os
from pathlib import Path


def inside(tree: Path, path: str, depth: int = 16) -> Path | None:
    """What a path means inside of the tree: absolute links begin there; None when it is not."""
    here = Path()
    parts = list(Path(path.lstrip("/")).parts)
    while parts:
        here /= parts.pop(0)
        place = tree / here
        if place.is_symlink():
            if not depth:
                return None
            depth -= 1
            link = place.readlink()
            base = Path() if link.is_absolute() else here.parent
            joined = os.path.normpath("/" / base / str(link).lstrip("/")).lstrip("/")
            here, parts = Path(), [*Path(joined).parts, *parts]
    return tree / here if os.path.lexists(tree / here) else None


def listed(tree: Path, path: str) -> list[Path]:
    """What is in a folder of the tree, by the same rule."""
    place = inside(tree, path)
    return sorted(place.iterdir()) if place and place.is_dir() else []


class FolderTree:
    """A root in a folder of this machine, which a client sees as its own."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def read(self, path: str) -> bytes | None:
        """See `Tree`; links do not lead out of the folder."""
        place = inside(self._folder, path)
        try:
            return place.read_bytes() if place and place.is_file() else None
        except OSError:
            return None

    def names(self, path: str) -> list[str]:
        """See `Tree`."""
        return [place.name for place in listed(self._folder, path)]

    def real(self, path: str) -> str:
        """See `Tree`."""
        place = inside(self._folder, path)
        return f"/{place.relative_to(self._folder)}" if place else path
