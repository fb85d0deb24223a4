"""The ways in which firmware tries to boot, one after the other: over IPv4 and IPv6, by TFTP and
HTTP. Each begins with a DISCOVER of its own, and so is a boot of its own here."""

from __future__ import annotations

from dataclasses import replace

from daskel.core.history.boots import Boot, fetches
from daskel.core.history.case import Case
from daskel.core.history.events import Stage

_NEXT = 90.0  # seconds: firmware that gives up a way goes on to its next one
_ORDER = list(Stage)
_NOTHING = (Stage.SEEN, Stage.LOCAL, Stage.REFUSED)


def furthest(case: Case) -> Case:
    """Of the ways that this boot is the last one of, the one that came furthest, with those before
    it; the case itself where there is one way, or the last came as far as the others."""
    ways = [case.boot, *_before(case)]
    best = max(ways, key=lambda boot: (_reached(boot), boot.number))
    if best is case.boot:
        return case
    at = ways.index(best)
    return replace(case, boot=best, now=float("inf"), before=case.before[at:])


def _before(case: Case) -> list[Boot]:
    """Those that it tried just before, the last one first."""
    tried, later, found = {case.boot.way}, case.boot, []
    for boot in case.before:
        if (boot.way is not None and boot.way in tried) or later.began - boot.last > _NEXT:
            break
        tried.add(boot.way)
        found.append(boot)
        later = boot
    return found


def _reached(boot: Boot) -> int:
    if boot.stage in _NOTHING:
        return 0 if fetches(boot) else -1
    return _ORDER.index(boot.stage)
