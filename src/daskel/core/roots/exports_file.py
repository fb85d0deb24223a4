"""The operating system's NFS server instead of Daskel's: where views are shown, and its exports
file (exports(5))."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from hashlib import blake2b
from typing import NamedTuple

_PLAIN = re.compile(r"[A-Za-z0-9/._-]")
_HEAD = "# Made by daskel serve, and made anew whenever a client boots; changes are lost.\n"


class Exported(NamedTuple):
    """One path. `any_port`: also calls from ports that every program of a client may use. `apart`:
    it is a file system of its own; of any other, a handle is checked to be below the path: one of a
    directory that was moved out would lead on from where that is now."""

    addresses: Collection[str]
    writable: bool = False
    any_port: bool = False
    apart: bool = False


def exports_text(places: Mapping[str, Exported]) -> str:
    """The file, by path.

    Files keep their owners, root's too: a root file system is not usable otherwise. What is
    written is on disk before the answer. Handles survive a restart by the number (fsid) that
    follows from the path.
    """
    lines = []
    for path, place in sorted(places.items()):
        options = "rw" if place.writable else "ro"
        options += ",sync,no_root_squash" + (",insecure" if place.any_port else ",secure")
        options += ",no_subtree_check" if place.apart else ",subtree_check"
        number = blake2b(path.encode(), digest_size=16).hexdigest()
        for_each = [f"{address}({options},fsid={number})" for address in sorted(place.addresses)]
        if for_each:
            lines.append(" ".join([_quoted(path), *for_each]) + "\n")
    return _HEAD + "".join(lines)


def _quoted(path: str) -> str:
    """Blanks and everything unusual as a backslash and three octal digits."""
    plain = (chr(b) if _PLAIN.match(chr(b)) else f"\\{b:03o}" for b in path.encode())
    return f'"{"".join(plain)}"'
