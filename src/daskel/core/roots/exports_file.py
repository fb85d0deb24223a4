"""The operating system's NFS server instead of Daskel's: where views are shown, and its exports
file (exports(5))."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from hashlib import blake2b

_PLAIN = re.compile(r"[A-Za-z0-9/._-]")
_HEAD = "# Made by daskel serve, and made anew whenever a client boots; changes are lost.\n"


def exports_text(places: Mapping[str, tuple[Collection[str], bool]]) -> str:
    """The file: by path the addresses that may mount it, and whether they may write.

    Files keep their owners, root's too: a root file system is not usable otherwise. What is
    written is on disk before the answer. Handles survive a restart by the number (fsid) that
    follows from the path.
    """
    lines = []
    for path, (addresses, writable) in sorted(places.items()):
        options = f"{'rw' if writable else 'ro'},sync,no_root_squash,no_subtree_check,insecure"
        number = blake2b(path.encode(), digest_size=16).hexdigest()
        for_each = [f"{address}({options},fsid={number})" for address in sorted(addresses)]
        if for_each:
            lines.append(" ".join([_quoted(path), *for_each]) + "\n")
    return _HEAD + "".join(lines)


def _quoted(path: str) -> str:
    """Blanks and everything unusual as a backslash and three octal digits."""
    plain = (chr(b) if _PLAIN.match(chr(b)) else f"\\{b:03o}" for b in path.encode())
    return f'"{"".join(plain)}"'
