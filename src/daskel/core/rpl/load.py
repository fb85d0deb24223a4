"""One load, as a state machine: what the client asks and the time go in, blocks come out.

Blocks are sent some at a time; the last of them asks for an acknowledgement, which is a request for
the block behind it. A request for an earlier one says that the rest was lost. When nothing comes,
what was not acknowledged is sent again, and the wait is longer each time.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from daskel.core.memory_image import MemoryImage
from daskel.core.rpl.messages import FileData, Flags

_WINDOW = 8  # blocks until an acknowledgement is asked for
_FIRST_WAIT, _LONGEST_WAIT = 0.5, 8.0  # seconds until they are sent again
_PATIENCE = 60.0  # seconds without a word, after which it is over
_REMINDERS = 2  # times that the last block is sent again


class State(Enum):
    """How far it is."""

    LOADING = "loading"
    DONE = "done"
    GIVEN_UP = "given up"


@dataclass
class Load:
    """`memory` is sent, and begins to run at `begin`. Times are monotonic seconds."""

    memory: MemoryImage
    begin: int  # an address
    state: State = State.LOADING
    wanted: int = 0  # the first block that was not acknowledged
    resent: int = 0  # blocks
    _sent: int = 0  # the first that was never sent
    _last: float = 0.0  # when something was sent
    _heard: float = 0.0
    _wait: float = _FIRST_WAIT
    _reminded: int = 0

    @property
    def done(self) -> int:
        """Bytes that were acknowledged, or sent last of all."""
        return self.memory.before(self.wanted)

    def asked(self, sequence: int, now: float) -> range:
        """The blocks to send to one who wants all from `sequence` on."""
        if self.state is not State.LOADING or sequence > self.memory.blocks:
            return range(0)
        self._heard, self._reminded = now, 0
        self.wanted, self._wait = max(self.wanted, sequence), _FIRST_WAIT
        if sequence >= self.memory.blocks:
            self.state = State.DONE
            return range(0)
        self.wanted = sequence
        return self._send(now)

    def tick(self, now: float) -> range:
        """The blocks to send again, when it is time."""
        if self.state is not State.LOADING or now < self._last + self._wait:
            return range(0)
        if self._sent >= self.memory.blocks and self._heard <= self._last:
            return self._quiet(now)
        if now - self._heard > _PATIENCE:
            self.state = State.GIVEN_UP
            return range(0)
        self._wait = min(2 * self._wait, _LONGEST_WAIT)
        return self._send(now)

    def _quiet(self, now: float) -> range:
        """One that runs what it has got says nothing any more; the last block, or what it said of
        it, may have been lost."""
        if self._reminded >= _REMINDERS:
            self.state, self.wanted = State.DONE, self.memory.blocks
            return range(0)
        self._reminded += 1
        self._last, self.resent = now, self.resent + 1
        return range(self.memory.blocks - 1, self.memory.blocks)

    def _send(self, now: float) -> range:
        upto = min(self.wanted + _WINDOW, self.memory.blocks)
        self.resent += max(0, min(self._sent, upto) - self.wanted)
        self._sent, self._last = max(self._sent, upto), now
        return range(self.wanted, upto)

    def message(self, number: int, data: bytes, *, ends: bool) -> FileData:
        """A block; `ends`: it is the last of those that are sent now."""
        last = number == self.memory.blocks - 1
        flags = Flags.LAST | Flags.BEGIN if last else Flags(0)
        if ends and not last:
            flags |= Flags.ACKNOWLEDGE
        begin = self.begin if last else 0
        return FileData(number, self.memory.at(number).address, begin, flags, data)
