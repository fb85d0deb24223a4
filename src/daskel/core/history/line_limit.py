"""Which events become lines of the log: of what anybody on the wire can cause, a number a minute.

Each machine has a number of lines of each kind; all machines that are not in the site together have
a larger one, since names can be made up. What is left out is counted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from daskel.core.history.encoding import name_of
from daskel.core.history.events import (
    Event,
    FileReceived,
    FileSent,
    LeftOut,
    Malformed,
    Mounted,
    ProcessEnded,
    Up,
    Who,
)

WINDOW = 60.0  # seconds
EACH, STRANGER, STRANGERS = 60, 12, 240  # lines of one kind: a client's, a stranger's, all others'
_OURS = (Malformed, ProcessEnded, LeftOut)  # limited where they arise
_COSTLY = (FileSent, FileReceived, Mounted, Up)  # a client of the site fetched, or did, something


class LineLimit:
    """`now` in seconds of a clock that only goes forward."""

    def __init__(self) -> None:
        self._began = float("-inf")
        self._lines: Counter[tuple[str, type[Event]]] = Counter()
        self._strangers: Counter[type[Event]] = Counter()
        self._left_out: Counter[type[Event]] = Counter()

    def takes(self, event: Event, now: float) -> bool:
        """Whether it becomes a line."""
        if now - self._began >= WINDOW:
            self._began = now
            self._lines.clear()
            self._strangers.clear()
        kind, who = type(event), event.who
        if kind in _OURS or (who.name and kind in _COSTLY):
            return True
        if who.name is None and self._strangers[kind] >= STRANGERS:
            self._left_out[kind] += 1
            return False
        key = who.name or who.mac or str(who.address), kind
        lines = self._lines.get(key, 0)
        if lines >= (EACH if who.name else STRANGER):
            self._left_out[kind] += 1
            return False
        self._lines[key] = lines + 1
        if who.name is None:
            self._strangers[kind] += 1
        return True

    @property
    def has_left_out(self) -> bool:
        """Something is to be said."""
        return bool(self._left_out)

    def left_out(self) -> Iterator[LeftOut]:
        """How many lines of each kind were left out since this was asked last."""
        found, self._left_out = self._left_out, Counter()
        for kind, count in found.most_common():
            yield LeftOut(Who(), name_of(kind), count)
