"""Packets that a capture shows twice: from a bridge and its ports, or from any interface."""

from __future__ import annotations

from collections import deque

from dpkt.tcp import TCP
from dpkt.udp import UDP

from daskel.core.history.events import Address

_WITHIN = 0.01  # seconds: nothing is sent again as soon as that


class Twice:
    """Remembers what it saw a moment ago."""

    def __init__(self) -> None:
        self._known: set[object] = set()
        self._order: deque[tuple[float, object]] = deque()

    def seen(self, at: float, source: Address, target: Address, data: object) -> bool:
        """Whether the very same was there a moment ago."""
        while self._order and at - self._order[0][0] > _WITHIN:
            self._known.discard(self._order.popleft()[1])
        if isinstance(data, TCP):
            key: object = (source, target, data.sport, data.dport, data.seq, data.ack, data.flags,
                           bytes(data.data[:256]))  # fmt: skip
        elif isinstance(data, UDP):
            key = source, target, data.sport, data.dport, bytes(data.data[:512])
        else:
            return False
        if key in self._known:
            return True
        self._known.add(key)
        self._order.append((at, key))
        return False
