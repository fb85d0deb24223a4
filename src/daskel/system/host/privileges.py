"""What a process of root may do is cut down to what it needs: capabilities(7)."""

from __future__ import annotations

import os
import pwd
from collections.abc import Collection, Iterable
from pathlib import Path

from daskel.system.host import libc
from daskel.system.requirements import MissingRequirementError

CHOWN, DAC_OVERRIDE, DAC_READ_SEARCH, FOWNER, FSETID = 0, 1, 2, 3, 4
SETGID, SETUID, MKNOD = 6, 7, 27
NET_BIND, NET_BROADCAST, NET_ADMIN, NET_RAW = 10, 11, 12, 13
# To read and write files as any user, to find them by handle, to make device nodes.
FOR_FILES = (CHOWN, DAC_OVERRIDE, DAC_READ_SEARCH, FOWNER, FSETID, SETGID, SETUID, MKNOD)
# To answer on ports below 1024, with raw frames, on chosen interfaces; and to keep its own files.
FOR_SERVER = (CHOWN, DAC_OVERRIDE, FOWNER, NET_BIND, NET_BROADCAST, NET_ADMIN, NET_RAW)
# The same for an account that owns them.
FOR_ACCOUNT = (NET_BIND, NET_BROADCAST, NET_ADMIN, NET_RAW)


def _permitted() -> int:
    """What this process has; in a container that may be little."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1], 16) for line in lines if line.startswith("CapPrm:"))


def account_of(name: str) -> pwd.struct_passwd:
    """Raises MissingRequirementError."""
    try:
        return pwd.getpwnam(name)
    except KeyError:
        remedy = f"useradd --system {name}, or name another with account = ... in [site]"
        raise MissingRequirementError(f"this machine has no account {name}", remedy) from None


def give(account: str | None, paths: Iterable[Path]) -> None:
    """Make them the account's, where there is one and this is root.

    Raises MissingRequirementError.
    """
    if account is None or os.geteuid() != 0:
        return
    user = account_of(account)
    for path in paths:
        os.chown(path, user.pw_uid, user.pw_gid)


def keep_only(capabilities: Collection[int], account: str | None = None) -> None:
    """Gives up all others, for good, and goes on as the account; nothing to do for a process that
    is not root's. Raises MissingRequirementError."""
    if os.geteuid() != 0:
        return
    for number in range(64):
        if number not in capabilities:
            libc.prctl(libc.PR_CAPBSET_DROP, number)
    libc.prctl(libc.PR_SET_NO_NEW_PRIVS, 1)
    if account is not None:
        user = account_of(account)
        libc.prctl(libc.PR_SET_KEEPCAPS, 1)
        os.initgroups(account, user.pw_gid)
        os.setresgid(user.pw_gid, user.pw_gid, user.pw_gid)
        os.setresuid(user.pw_uid, user.pw_uid, user.pw_uid)
    libc.set_capabilities(sum(1 << number for number in capabilities) & _permitted())
