"""Places that are few: who is let in when all are taken, and who gives way.

One cheap machine must not take all transfers or connections of a service: each peer has a number
of places, and each segment a share. When all are taken, whatever rests gives way, the longest
first: a transfer of which nothing was acknowledged yet, a connection without a request. Machines
of the site come before others.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable
from dataclasses import dataclass
from typing import Generic, TypeVar

K = TypeVar("K", bound=Hashable)


@dataclass(slots=True)
class _Place:
    peer: str
    segment: str
    known: bool
    rests: bool = True


class Places(Generic[K]):
    """`most` of all, `each` of one peer, and half of all of one segment where there are several."""

    def __init__(self, most: int, each: int, segments: int = 1) -> None:
        self._most, self._each = most, each
        self._share = most if segments < 2 else max(1, most // 2)
        self._places: dict[K, _Place] = {}
        self._of_peer: dict[tuple[str, str], dict[K, None]] = {}  # on a segment
        self._resting: dict[tuple[str, bool], dict[K, None]] = {}  # the longest first
        self._strangers: dict[str, dict[K, None]] = {}  # by segment, whether they rest or not
        self._count: Counter[str] = Counter()  # by segment

    def __len__(self) -> int:
        return len(self._places)

    def enter(self, key: K, peer: str, segment: str, *, known: bool) -> tuple[bool, K | None]:
        """Whether there is a place, and who must leave it first (call `leave` for it)."""
        gives_way = None
        theirs = self._of_peer.get((peer, segment), {})
        if len(theirs) >= self._each:
            gives_way = next((k for k in theirs if self._places[k].rests), None)
            if gives_way is None:
                return False, None
        elif self._count[segment] >= self._share:
            gives_way = self._who_gives_way(segment, known)
        elif len(self._places) >= self._most:
            gives_way = self._who_gives_way(self._count.most_common(1)[0][0], known)
        else:
            self._put(key, _Place(peer, segment, known))
            return True, None
        if gives_way is None:
            return False, None
        self._put(key, _Place(peer, segment, known))
        return True, gives_way

    def busy(self, key: K) -> None:
        """It does something: it gives way last."""
        place = self._places.get(key)
        if place and place.rests:
            place.rests = False
            self._resting[place.segment, place.known].pop(key, None)

    def rest(self, key: K) -> None:
        """It does nothing from now on."""
        place = self._places.get(key)
        if place and not place.rests:
            place.rests = True
            self._resting.setdefault((place.segment, place.known), {})[key] = None

    def resting(self) -> K | None:
        """Somebody who rests, strangers first: to give way where this machine has no room left."""
        for known in (False, True):
            for (_, of), keys in self._resting.items():
                if of is known and keys:
                    return next(iter(keys))
        return None

    def leave(self, key: K) -> None:
        """Its place is free."""
        place = self._places.pop(key, None)
        if place is None:
            return
        self._resting[place.segment, place.known].pop(key, None)
        self._strangers.get(place.segment, {}).pop(key, None)
        self._count[place.segment] -= 1
        theirs = self._of_peer[place.peer, place.segment]
        del theirs[key]
        if not theirs:
            del self._of_peer[place.peer, place.segment]

    def _put(self, key: K, place: _Place) -> None:
        self._places[key] = place
        self._of_peer.setdefault((place.peer, place.segment), {})[key] = None
        self._resting.setdefault((place.segment, place.known), {})[key] = None
        if not place.known:
            self._strangers.setdefault(place.segment, {})[key] = None
        self._count[place.segment] += 1

    def _who_gives_way(self, segment: str, known: bool) -> K | None:
        candidates = [self._resting.get((segment, False))]
        if known:
            candidates += [self._resting.get((segment, True)), self._strangers.get(segment)]
        return next((next(iter(keys)) for keys in candidates if keys), None)
