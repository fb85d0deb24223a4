"""Replies that are remembered: a call that comes again is answered again, not carried out again.

A client repeats a call when its reply was lost with the connection; a second REMOVE would fail.
"""

from __future__ import annotations

from collections import OrderedDict
from hashlib import blake2b

from daskel.core.nfs.nfs3 import Procedure

REPEATABLE = frozenset(Procedure) - {
    Procedure.SETATTR, Procedure.CREATE, Procedure.MKDIR, Procedure.SYMLINK, Procedure.MKNOD,
    Procedure.REMOVE, Procedure.RMDIR, Procedure.RENAME, Procedure.LINK,
}  # fmt: skip
_EACH = 128  # replies that are remembered of one client
_CLIENTS = 500  # that replies are remembered of


class Replays:
    """Of all clients; a client is known by its address, a call by its number and its bytes."""

    def __init__(self) -> None:
        self._replies: OrderedDict[str, OrderedDict[bytes, bytes]] = OrderedDict()

    def find(self, peer: str, call: bytes) -> tuple[bytes, bytes | None]:
        """What the call is known by, and the reply that it got before."""
        key = blake2b(call, digest_size=12).digest()
        replies = self._replies.get(peer)
        return key, replies.get(key) if replies else None

    def keep(self, peer: str, key: bytes, reply: bytes) -> None:
        """Remember the reply to a call that changes something."""
        replies = self._replies.setdefault(peer, OrderedDict())
        self._replies.move_to_end(peer)
        if len(self._replies) > _CLIENTS:
            self._replies.popitem(last=False)
        replies[key] = reply
        if len(replies) > _EACH:
            replies.popitem(last=False)
