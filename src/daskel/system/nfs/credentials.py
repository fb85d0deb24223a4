"""Acting as a client's user for one call: the kernel then checks and sets what belongs to whom.

setfsuid(2), setfsgid(2) and setgroups(2) of this thread alone; the C library would change all.
"""

from __future__ import annotations

import ctypes
import os
import platform
import struct
from collections.abc import Collection, Iterator
from contextlib import contextmanager

_NUMBERS = {  # setfsuid, setfsgid, setgroups
    "x86_64": (122, 123, 116),
    "aarch64": (151, 152, 159),
    "riscv64": (151, 152, 159),
}
_libc = ctypes.CDLL(None, use_errno=True)


def may_act() -> bool:
    """Whether this process can act as others; without it everything is done as its own user."""
    return os.geteuid() == 0 and platform.machine() in _NUMBERS


@contextmanager
def acting_as(uid: int, gid: int, groups: Collection[int]) -> Iterator[None]:
    if not may_act() or (uid == 0 and gid == 0):
        yield
        return
    _become(uid, gid, groups)
    try:
        yield
    finally:
        _become(0, 0, ())


def _become(uid: int, gid: int, groups: Collection[int]) -> None:
    setfsuid, setfsgid, setgroups = _NUMBERS[platform.machine()]
    packed = struct.pack(f"={len(groups)}I", *groups)
    if uid == 0:  # groups can be set by root alone
        _libc.syscall(setfsuid, uid)
    if _libc.syscall(setgroups, len(groups), packed) != 0:
        raise OSError(ctypes.get_errno(), "setgroups")
    _libc.syscall(setfsgid, gid)
    _libc.syscall(setfsuid, uid)
