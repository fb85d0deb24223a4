"""Which of several servers answers a machine that asks all of them.

Each machine has its server, of those that are alive: by a hash of both names, so that only the
machines of one that ends move to others. Another server answers when it has heard the same question
for a second: then nobody did.
"""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import blake2s

STEP_IN = 1.0  # seconds
_FORGOTTEN, _MOST = 30.0, 10_000  # seconds without the question; questions that are remembered
_NEVER = float("inf")


def owner(mac: bytes, servers: Sequence[str]) -> str:
    """The server of a machine, by its hardware address: rendezvous hashing."""
    return max(servers, key=lambda name: blake2s(name.encode() + b"\0" + mac).digest())


class Turns:
    """Those of the server `own`. Times are seconds of any clock that is never set."""

    def __init__(self, own: str) -> None:
        self._own = own
        self._live: Sequence[str] = (own,)
        self._heard: dict[bytes, tuple[float, float]] = {}  # first and last, by address and number

    def use(self, live: Sequence[str]) -> None:
        """The servers that are alive; this one is, whatever the others say."""
        self._live = tuple(sorted({*live, self._own}))

    def is_mine(self, mac: bytes, number: bytes, now: float) -> bool:
        """Whether to answer a question of this machine, with this number of its own."""
        if len(self._live) == 1 or owner(mac, self._live) == self._own:
            return True
        key = mac + number
        first, last = self._heard.pop(key, (now, now))
        if now - last > _FORGOTTEN:
            first = now
        while len(self._heard) >= _MOST:
            del self._heard[next(iter(self._heard))]
        self._heard[key] = first, now
        return now - first >= STEP_IN

    def answered(self, mac: bytes, number: bytes, now: float) -> None:
        """Another server answers it: it said so."""
        key = mac + number
        if key in self._heard:
            self._heard[key] = _NEVER, now
