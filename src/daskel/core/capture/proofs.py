"""What a later event proves of an earlier one: a file whose end is not in the capture was there,
when its client went on with what it does only after it."""

from __future__ import annotations

from dataclasses import replace

from daskel.core.history.events import (
    Event,
    FileAsked,
    FileMissing,
    FileUntold,
    ImageTold,
    Mounted,
    Seen,
    Up,
)
from daskel.core.history.misses import searched

Timed = tuple[float, Event]


def with_proofs(events: list[Timed]) -> list[Timed]:
    """`events` in their order, with what is proved by those behind them."""
    found: list[Timed] = []
    later: dict[str | None, list[Event]] = {}  # of each machine, until its next boot
    for at, event in reversed(events):
        mac = event.who.mac
        behind = later.setdefault(mac, [])
        if isinstance(event, FileUntold) and any(_proves(other, event) for other in behind):
            event = replace(event, proved=True)
        if isinstance(event, Seen) and event.firmware:
            behind.clear()
        else:
            behind.append(event)
        found.append((at, event))
    return found[::-1]


def _proves(later: Event, file: FileUntold) -> bool:
    """Names that are tried one after the other prove nothing of each other."""
    if isinstance(later, Seen):
        return later.system
    if isinstance(later, (Mounted, ImageTold, Up)):
        return True
    if not isinstance(later, (FileAsked, FileMissing)) or later.path == file.path:
        return False
    return not (searched(file.path) and searched(later.path))
