"""What a process of root may do is cut down to what it needs: capabilities(7)."""

from __future__ import annotations

import ctypes
import os
import struct
from collections.abc import Collection

CHOWN, DAC_OVERRIDE, DAC_READ_SEARCH, FOWNER, FSETID = 0, 1, 2, 3, 4
SETGID, SETUID, MKNOD = 6, 7, 27
# To read and write files as any user, to find them by handle, to make device nodes.
FOR_FILES = (CHOWN, DAC_OVERRIDE, DAC_READ_SEARCH, FOWNER, FSETID, SETGID, SETUID, MKNOD)
_VERSION = 0x20080522
_PR_SET_NO_NEW_PRIVS, _PR_CAPBSET_DROP = 38, 24
_libc = ctypes.CDLL(None, use_errno=True)


def keep_only(capabilities: Collection[int]) -> None:
    """Gives up all others, for good; nothing to do for a process that is not root's."""
    if os.geteuid() != 0:
        return
    for number in range(64):
        if number not in capabilities:
            _libc.prctl(_PR_CAPBSET_DROP, number, 0, 0, 0)
    _libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    mask = sum(1 << number for number in capabilities)
    low, high = mask & 0xFFFFFFFF, mask >> 32
    data = struct.pack("=6I", low, low, 0, high, high, 0)
    if _libc.capset(struct.pack("=II", _VERSION, 0), data) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), "capset")
