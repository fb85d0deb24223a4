"""Files that known boot loaders ask for without needing them: a miss of one is no bad news."""

from __future__ import annotations

import re

_OWN = "GRUB looks for this machine's own configuration before it takes grub.cfg"
_LISTS = "GRUB goes on without it; commands of its modules then need insmod"
_TABLE = (  # seen on the wire from GRUB 2.06, for BIOS and UEFI, with a prefix of its own
    (r"grub\.cfg-[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", _OWN),  # by its UUID
    (r"grub\.cfg-01(-[0-9a-f]{2}){6}", _OWN),  # by its MAC address
    (r"grub\.cfg-[0-9A-F]{1,8}", _OWN),  # by its IPv4 address and ever less of it
    (r"(command|fs|crypto|terminal)\.lst", _LISTS),
)
_HARMLESS = tuple((re.compile(pattern), why) for pattern, why in _TABLE)


def harmless(path: str) -> str:
    """Why nothing is wrong when this path is not there; empty when something may be."""
    name = path.replace("\\", "/").rpartition("/")[2]
    return next((why for pattern, why in _HARMLESS if pattern.fullmatch(name)), "")
