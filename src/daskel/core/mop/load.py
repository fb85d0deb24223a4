"""One load, as a state machine: what the client says and the time go in, messages come out.

A client does not ask again for a block that was lost; after a minute it begins anew. So the server
repeats by itself, and waits longer each time.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

from daskel.core.memory_image import Block, MemoryImage
from daskel.core.mop.messages import RequestLoad, memory_load, parameters

_FIRST_WAIT, _LONGEST_WAIT = 0.5, 8.0  # seconds until a message is sent again
_PATIENCE = 60.0  # seconds without a word, after which it is over


class State(Enum):
    """How far it is."""

    LOADING = "loading"
    ENDING = "ending"  # all blocks were acknowledged, the last message was not
    DONE = "done"
    GIVEN_UP = "given up"


@dataclass
class Load:
    """`memory` is sent, and begun at `transfer`. Times are monotonic seconds."""

    memory: MemoryImage
    transfer: int  # an address
    host: str = ""
    state: State = State.LOADING
    number: int = 0  # of the message that is to be acknowledged
    repeated: int = 0  # messages
    _sent: float = field(default=0.0)
    _heard: float = field(default=0.0)
    _wait: float = _FIRST_WAIT

    @property
    def done(self) -> int:
        """Bytes that were acknowledged."""
        return self.memory.before(self.number)

    def begin(self, now: float) -> None:
        """The first block is about to be sent."""
        self._sent = self._heard = now

    def acknowledged(self, told: RequestLoad, now: float) -> bool:
        """Whether something is to be sent for it: the next message, or the same again where the
        client found a fault. An old acknowledgement that comes again is not answered."""
        if self.state not in (State.LOADING, State.ENDING):
            return False
        self._heard = now
        if told.error or told.number == self.number & 0xFF:
            return self._again(now) if told.error else False
        if told.number != (self.number + 1) & 0xFF:
            return False
        if self.state is State.ENDING:
            self.state = State.DONE
            return False
        self.number += 1
        self._sent, self._wait = now, _FIRST_WAIT
        if self.number >= self.memory.blocks:
            self.state = State.ENDING
        return True

    def tick(self, now: float) -> bool:
        """Whether the last message is to be sent again."""
        if self.state not in (State.LOADING, State.ENDING) or now < self._sent + self._wait:
            return False
        if now - self._heard > _PATIENCE:
            self.state = State.GIVEN_UP
            return False
        self._wait = min(2 * self._wait, _LONGEST_WAIT)
        return self._again(now)

    def _again(self, now: float) -> bool:
        self.repeated += 1
        self._sent = now
        return True

    @property
    def wanted(self) -> Block | None:
        """The block in the message that is due; the last message has none."""
        return self.memory.at(self.number) if self.state is State.LOADING else None

    def message(self, data: bytes) -> bytes:
        """The message that is due; `data` as `wanted` says."""
        block = self.wanted
        if block:
            return memory_load(self.number, block.address, data)
        return parameters(self.number, self.transfer, self.host)
