"""One file sent to one client (RFC 1350 with 2347 to 2349) as a state machine.

It takes packets and ticks of the clock, and says what to send: packets, or blocks of the file
by offset and length. It reads no file itself, and waits for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

from daskel.core.tftp.packet import Ack, Error, ErrorCode, Options, Request, TftpPacket

DEFAULT_BLOCK = 512  # bytes, RFC 1350
MINIMUM_BLOCK, MAXIMUM_BLOCK = 8, 65464  # bytes, RFC 2348
RETRIES = 6  # sendings of one block without an answer, before the transfer is given up
LAST_RETRIES = 3  # of the last one: a boot loader that starts its kernel may not acknowledge it
_FIRST_WAIT, _LONGEST_WAIT = 1.0, 8.0  # seconds until a block is sent again


class State(Enum):
    OFFERING = "options offered"
    SENDING = "sending"
    DONE = "done"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class Block:
    """Send this part of the file as this block."""

    number: int  # from 1, not wrapped
    offset: int  # bytes
    length: int  # bytes


Output = Options | Block | Error


def granted(request: Request, size: int, largest_block: int) -> dict[str, str]:
    """The options of an OACK, in the order asked; what is unknown or out of range is left out.

    `largest_block`: bytes of payload that fit the path to the client unfragmented.
    """
    options: dict[str, str] = {}
    for name, text in request.options.items():
        value = int(text) if text.isascii() and text.isdigit() and len(text) < 20 else -1
        if name == "blksize" and value >= MINIMUM_BLOCK:
            options[name] = str(min(value, MAXIMUM_BLOCK, max(largest_block, DEFAULT_BLOCK)))
        elif name == "timeout" and 1 <= value <= 255:
            options[name] = text
        elif name == "tsize":
            options[name] = str(size)
    return options


@dataclass(slots=True)
class Transfer:
    """The sender's side. Call `start`, then `receive` and `tick`; send what they return."""

    size: int  # bytes
    options: dict[str, str] = field(default_factory=dict)
    block_size: int = DEFAULT_BLOCK  # bytes
    state: State = State.SENDING
    acknowledged: int = 0  # blocks, not wrapped
    resent: int = 0  # packets sent again
    failure: str = ""
    deadline: float = 0.0  # when to call `tick`
    _wait: float = _FIRST_WAIT
    _fixed_wait: bool = False
    _tries: int = 0

    def __post_init__(self) -> None:
        self.block_size = int(self.options.get("blksize", DEFAULT_BLOCK))
        if "timeout" in self.options:
            self._wait, self._fixed_wait = float(self.options["timeout"]), True
        self.state = State.OFFERING if self.options else State.SENDING

    @property
    def last_block(self) -> int:
        """The number of the block that is shorter than the others, perhaps empty."""
        return self.size // self.block_size + 1

    def start(self, now: float) -> list[Output]:
        return self._send(now)

    def receive(self, packet: TftpPacket, now: float) -> list[Output]:
        if self.state in (State.DONE, State.FAILED):
            return []
        if isinstance(packet, Error):
            return self._fail(f"the client ended it: {packet.message or 'no reason'}", None)
        if not isinstance(packet, Ack):
            return self._fail("the client sent something else than an ACK", ErrorCode.ILLEGAL)
        expected = 0 if self.state is State.OFFERING else self.acknowledged + 1
        if packet.block != expected & 0xFFFF:
            return []  # an old ACK again: answering it would double every packet from here on
        if self.state is State.SENDING:
            self.acknowledged += 1
        self.state = State.DONE if self.acknowledged == self.last_block else State.SENDING
        self._tries = 0
        self._wait = self._wait if self._fixed_wait else _FIRST_WAIT
        return [] if self.state is State.DONE else self._send(now)

    def tick(self, now: float) -> list[Output]:
        """Send again what was not acknowledged; give up after RETRIES times."""
        if self.state in (State.DONE, State.FAILED) or now < self.deadline:
            return []
        if self._all_sent and self._tries >= LAST_RETRIES:
            self.gone()
            return []
        if self._tries >= RETRIES:
            return self._fail("the client went silent", ErrorCode.UNDEFINED)
        self.resent += 1
        if not self._fixed_wait:
            self._wait = min(self._wait * 2, _LONGEST_WAIT)
        return self._send(now)

    def gone(self) -> None:
        """Nobody is there any more: done when all was sent, else a failure."""
        self.failure = "" if self._all_sent else "the client closed its port"
        self.state = State.DONE if self._all_sent else State.FAILED

    @property
    def _all_sent(self) -> bool:
        return self.state is State.SENDING and self.acknowledged + 1 == self.last_block

    def _send(self, now: float) -> list[Output]:
        self._tries += 1
        self.deadline = now + self._wait
        if self.state is State.OFFERING:
            return [Options(self.options)]
        offset = self.acknowledged * self.block_size
        length = min(self.block_size, self.size - offset)
        return [Block(self.acknowledged + 1, offset, length)]

    def _fail(self, reason: str, code: ErrorCode | None) -> list[Output]:
        self.state, self.failure = State.FAILED, reason
        return [] if code is None else [Error(code, reason)]
