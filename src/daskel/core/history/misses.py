"""Files that known boot loaders ask for without needing them: a miss of one is not a fault."""

from __future__ import annotations

import re

CUT = "…"  # what stands for the rest of a name, in a capture of cut packets
_OWN = "GRUB looks for this machine's own configuration before it takes grub.cfg"
_LISTS = "GRUB goes on without it; commands of its modules then need insmod"
_SHIM = "shim goes on without it: revocations and certificates of its own are optional"
_UBOOT = "U-Boot tries names of its own one after the other"
_MAC, _UUID = r"01(-[0-9a-f]{2}){6}", r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}"
_TABLE = (  # seen on the wire from GRUB 2.06, shim 16.1 and U-Boot 2023.01, with their own prefixes
    (rf"grub\.cfg-{_UUID}", _OWN),
    (rf"grub\.cfg-{_MAC}", _OWN),
    (r"grub\.cfg-[0-9A-F]{1,8}", _OWN),  # by its IPv4 address and ever less of it
    (r"grub\.cfg-[0-9a-f]{1,4}(-[0-9a-f]{1,4}){7}", _OWN),  # by its IPv6 address
    (r"(command|fs|crypto|terminal)\.lst", _LISTS),
    (r"revocations(_\w+)?\.efi", _SHIM),
    (r"shim_certificate(_\w+)?\.efi", _SHIM),
    (r"boot\.scr(\.uimg)?", _UBOOT),
    (r"[0-9A-F]{8}\.img", _UBOOT),
)
# In a folder whose name ends in .cfg, U-Boot looks for text configurations: by UUID, MAC address,
# address and ever less of it, and then default names with its processor and board.
_FOLDER = re.compile(
    rf"(.*/)?[\w-]+\.cfg/({_MAC}|{_UUID}|[0-9A-F]{{1,8}}|default(-[\w-]+)*)", re.IGNORECASE
)
_HARMLESS = tuple((re.compile(pattern), why) for pattern, why in _TABLE)
_SEARCHES = (_OWN, _UBOOT)


def harmless(path: str) -> str:
    """Why nothing is wrong when this path is not there; empty when something may be."""
    clean = path.replace("\\", "/")
    if _FOLDER.fullmatch(clean):
        return _UBOOT
    name = clean.rpartition("/")[2]
    return next((why for pattern, why in _HARMLESS if pattern.fullmatch(name)), "")


def is_shims(path: str) -> bool:
    """Whether shim asks for such a file, and nothing else does."""
    return harmless(path) == _SHIM


def searched(path: str) -> bool:
    """Whether this is one of many names that are tried, one after the other."""
    return harmless(path) in _SEARCHES
