"""One transmission of one file, as a state machine: receivers and time go in, blocks to send come
out.

A receiver says which blocks it has, and is told to listen, or gets the rest alone. The first pass
sends every block once; whoever comes while it is under way takes the rest of it. What several miss
after a pass is sent again to all. Nobody waits for the slowest: the pace goes by what most of them
receive, and a pass begins a second after the last one at the latest.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import Enum

from daskel.core.multicast.datagrams import Report

GATHER = 2.0  # seconds from the last receiver to the first block: others come meanwhile
LONGEST_GATHER = 10.0  # the same from the first one
COLLECT = 2.0  # seconds from the end of a pass until it is decided what is sent again
_PASSES = 5  # that one receiver listens to at most
_SLOWEST, _BEGIN = 1_000_000.0, 15_000_000.0  # bytes a second
_FEWEST, _MORE = 0.3, 1.3  # what the pace becomes at least when many lose, and when few do
_MUCH, _LITTLE = 0.05, 0.02  # part of the datagrams that a receiver lost
_LATE = 0.25  # seconds that one may be behind
_SPARE = 0.8  # of what a receiver takes that is late, so that it comes along again
_JUDGED = 0.25  # seconds between two changes of the pace
_BEHIND = 0.005  # seconds: how far it may be behind its pace, and still make up for it

Range = tuple[int, int]  # the first block, and the one behind the last


class Phase(Enum):
    """Where a transmission is."""

    GATHERING = "gathering"
    SENDING = "sending"
    COLLECTING = "collecting"
    OVER = "over"


class Answer(Enum):
    """What a receiver is to do."""

    LISTEN = "listen"
    REST = "rest"  # it gets by itself what it misses


@dataclass
class Receiver:
    """`missing` is a number with a bit for each block, the first one's the lowest. `answer` is
    None as long as it is not decided."""

    missing: int
    answer: Answer | None = None
    factor: float = 1.0  # what the pace should become for it, by its last report
    behind: int = 0  # datagrams that were sent and had not come to it then
    sequence: int = 0  # of the newest that had
    at: float = 0.0  # when that was
    passes: int = 0  # that it was told to listen to
    said: bool = True  # what it has, since the last pass


@dataclass
class Transmission:
    """`blocks` of one file; `limit` in bytes a second, None for none. Times are monotonic."""

    blocks: int
    block: int  # bytes
    limit: float | None = None
    phase: Phase = Phase.GATHERING
    rate: float = field(init=False)  # bytes a second, now
    passes: int = 0  # that were begun
    sent: int = 0  # blocks, in all passes
    most: int = 0  # receivers at the same time
    _receivers: dict[str, Receiver] = field(default_factory=dict)
    _first: float = float("inf")  # when the first receiver came
    _begins: float = float("inf")  # when the next phase does
    _todo: Iterator[Range] = field(default_factory=lambda: iter(()))
    _next: Range | None = None  # of those
    _free: float = 0.0  # when the next block may leave
    _judged: float = float("-inf")

    def __post_init__(self) -> None:
        self.rate = min(_BEGIN, self.limit or _BEGIN)

    @property
    def over(self) -> bool:
        """Nobody wants it any more."""
        return self.phase is Phase.OVER

    @property
    def receivers(self) -> Sequence[str]:
        """Those that listen, or wait for an answer."""
        return list(self._receivers)

    def asks(self, peer: str, missing: int, now: float) -> Receiver:
        """A receiver says what it misses, at first everything. Its answer may come later."""
        known = self._receivers.get(peer)
        found = known or Receiver(missing)
        self._receivers[peer] = found
        heard_nothing = known is not None and known.said is False and known.missing == missing
        found.missing, found.said = missing, True
        if not missing or heard_nothing or found.passes >= _PASSES:
            self._alone(peer)
        elif self.phase is Phase.SENDING:
            self._listen(found)
        else:
            found.answer = None
        if known is None:
            self.wait(now)
        self.most = max(self.most, len(self._receivers))
        return found

    def wait(self, now: float) -> None:
        """Others come, or will: it does not begin yet."""
        if self.phase is Phase.GATHERING:
            self._first = min(self._first, now)
            self._begins = min(self._first + LONGEST_GATHER, now + GATHER)

    def leave(self, peer: str) -> None:
        """It has gone."""
        self._receivers.pop(peer, None)
        if not self._receivers:
            self.phase = Phase.OVER

    def end(self) -> None:
        """Nothing can be sent any more: everybody gets the rest alone."""
        for peer in self.receivers:
            self._alone(peer)
        self.phase = Phase.OVER

    def report(self, peer: str, told: Report, now: float) -> None:
        """What a receiver got and missed since its last report. One that takes datagrams more
        slowly than they come loses some as soon as its memory for them is full."""
        known = self._receivers.get(peer)
        if known is None or told.received + told.missed == 0:
            return
        lost = told.missed / (told.received + told.missed)
        factor = _MORE if lost < _LITTLE else 1.0 if lost < _MUCH else 1 - lost
        behind = max(0, self.sent + self.passes - 1 - told.sequence)
        if behind * self.block > self.rate * _LATE:
            taken = (told.sequence - known.sequence) * self.block / max(now - known.at, 1e-3)
            factor = min(factor, 1.0 if behind < known.behind else _SPARE * taken / self.rate)
        known.factor = max(_FEWEST, factor)
        known.behind, known.sequence, known.at = behind, told.sequence, now
        if now - self._judged < _JUDGED:
            return
        self._judged = now
        factors = sorted(one.factor for one in self._receivers.values() if one.at)
        rate = self.rate * factors[(len(factors) - 1) // 2]
        self.rate = min(self.limit or float("inf"), max(_SLOWEST, rate))

    def due(self, now: float, most: int) -> list[Range]:
        """The blocks that are to be sent now, `most` at a time; none when nothing is due."""
        if self.phase is Phase.GATHERING and now >= self._begins:
            self._begin(now)
        if self.phase is Phase.COLLECTING and (now >= self._begins or self._all_said):
            self._again(now)
        if self.phase is not Phase.SENDING or now < self._free:
            return []
        found, count = [], 0
        while self._next and count < most:
            first, behind = self._next
            upto = min(behind, first + most - count)
            found.append((first, upto))
            count += upto - first
            self._next = (upto, behind) if upto < behind else next(self._todo, None)
        self._free = max(self._free, now - _BEHIND) + count * self.block / self.rate
        self.sent += count
        if self._next is None:
            self.phase, self._begins = Phase.COLLECTING, now + COLLECT
        return found

    @property
    def deadline(self) -> float:
        """When `due` is to be asked next."""
        return self._free if self.phase is Phase.SENDING else self._begins

    @property
    def _all_said(self) -> bool:
        return all(receiver.said for receiver in self._receivers.values())

    def _listen(self, receiver: Receiver) -> None:
        receiver.answer, receiver.said = Answer.LISTEN, False
        receiver.passes += 1

    def _alone(self, peer: str) -> None:
        self._receivers[peer].answer = Answer.REST
        self.leave(peer)

    def _begin(self, now: float) -> None:
        """One that is alone gets it by itself."""
        if len(self._receivers) < 2:
            self.end()
            return
        missed = 0
        for receiver in self._receivers.values():
            missed |= receiver.missing
            self._listen(receiver)
        self._send(missed, now)

    def _again(self, now: float) -> None:
        """What several miss, to all; those that miss nothing of it get the rest alone."""
        once = several = 0
        for peer, receiver in list(self._receivers.items()):
            if not receiver.said:
                self.leave(peer)
                continue
            several |= once & receiver.missing
            once |= receiver.missing
        for peer, receiver in list(self._receivers.items()):
            if receiver.missing & several:
                self._listen(receiver)
            else:
                self._alone(peer)
        if self._receivers:
            self._send(several, now)

    def _send(self, missed: int, now: float) -> None:
        self.phase, self._free = Phase.SENDING, now
        self.passes += 1
        self._todo = ranges(missed)
        self._next = next(self._todo, None)


def least_time(size: int, limit: float) -> float:
    """Seconds that a file of `size` bytes takes where nothing is lost, from the last receiver on;
    `limit` in bytes a second."""
    rate, seconds, left = min(_BEGIN, limit), GATHER, float(size)
    while left > rate * _JUDGED:
        left -= rate * _JUDGED
        seconds += _JUDGED
        rate = min(limit, rate * _MORE)
    return seconds + left / rate


def ranges(missing: int) -> Iterator[Range]:
    """The blocks whose bits are set, in runs from the first one on."""
    bits = bin(missing)[:1:-1]
    return (found.span() for found in re.finditer("1+", bits))


def missing_of(have: bytes, blocks: int) -> int:
    """From what a receiver has: a bit for each block, the first one's the lowest of the first
    byte. Nothing at all: it misses everything."""
    return ((1 << blocks) - 1) & ~int.from_bytes(have, "little")
