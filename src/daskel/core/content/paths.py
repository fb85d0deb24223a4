"""Paths that clients ask for: which are safe, and which existing names are near a missing one."""

from __future__ import annotations

from collections.abc import Collection
from difflib import get_close_matches

PATH_LIMIT = 1024  # bytes
_MOST_NEAR = 3  # names that are said to be near
_MOST_COMPARED = 300  # names: each takes a few microseconds


class PathRefusedError(ValueError):
    """A path that nobody may ask for, whatever files there are."""


def clean_path(asked: bytes) -> str:
    """A path from the network as a relative path below the files folder.

    Leading slashes and backslashes are how firmware writes; `..` and NUL are refused.
    Raises PathRefusedError.
    """
    if len(asked) > PATH_LIMIT:
        raise PathRefusedError(f"a path of {len(asked)} bytes, {PATH_LIMIT} at most")
    try:
        text = asked.decode()
    except UnicodeDecodeError:
        raise PathRefusedError("a path that is not UTF-8") from None
    if not text.isprintable():
        raise PathRefusedError("a path with control characters")
    parts = [part for part in text.replace("\\", "/").split("/") if part not in ("", ".")]
    if ".." in parts:
        raise PathRefusedError("a path with ..")
    if any(len(part.encode()) > 255 for part in parts):
        raise PathRefusedError("a name of more than 255 bytes")
    if not parts:
        raise PathRefusedError("an empty path")
    return "/".join(parts)


def by_folded(names: Collection[str]) -> dict[str, str]:
    """Names by how they are without upper and lower case: old firmware writes as it likes. Of
    several that are the same then, none."""
    found: dict[str, str] = {}
    several: set[str] = set()
    for name in names:
        folded = name.casefold()
        if found.setdefault(folded, name) != name:
            several.add(folded)
    return {folded: name for folded, name in found.items() if folded not in several}


def nearest(path: str, names: Collection[str]) -> list[str]:
    """What was perhaps meant: nearly the same name in this folder, or the same in another."""
    folder, _, last = path.rpartition("/")
    elsewhere = [name for name in names if name.rpartition("/")[2] == last]
    beside = [name for name in names if name.rpartition("/")[0] == folder]
    near = get_close_matches(path, beside[:_MOST_COMPARED], n=_MOST_NEAR, cutoff=0.75)
    return list(dict.fromkeys([*near, *elsewhere]))[:_MOST_NEAR]
