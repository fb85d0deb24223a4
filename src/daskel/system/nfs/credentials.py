"""Acting as a client's user for one call: the kernel then checks and sets what belongs to whom.

For this thread alone.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from contextlib import contextmanager

from daskel.system.host.libc import become, knows_thread_calls


def may_act() -> bool:
    """Whether this process can act as others; without it everything is done as its own user."""
    return os.geteuid() == 0 and knows_thread_calls()


@contextmanager
def acting_as(uid: int, gid: int, groups: Collection[int]) -> Iterator[None]:
    """As this user and these groups, until the block ends. Raises OSError."""
    if not may_act() or (uid == 0 and gid == 0):
        yield
        return
    try:
        become(uid, gid, groups)
        yield
    finally:
        become(0, 0, ())
