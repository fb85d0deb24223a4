"""One file sent to one client (RFC 1350 with 2347 to 2349 and 7440) as a state machine.

It takes packets and ticks of the clock, and says what to send: packets, or blocks of the file by
number. It reads no file itself, and waits for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum
from typing import NamedTuple

from daskel.core.tftp.packet import Ack, Error, ErrorCode, Options, Request, TftpPacket

DEFAULT_BLOCK = 512  # bytes, RFC 1350
MINIMUM_BLOCK, MAXIMUM_BLOCK = 8, 65464  # bytes, RFC 2348
PATIENCE = 31.0  # seconds without an answer until the transfer is given up
LAST_PATIENCE = 7.0  # of the last blocks: a boot loader that starts its kernel may not answer
_LEARNING, _SELDOM = 64, 15  # blocks that are all learnt from; then every sixteenth
_FIRST_WAIT, _SHORTEST_WAIT, _LONGEST_WAIT = 1.0, 0.02, 2.0  # seconds until blocks are sent again


class State(Enum):
    OFFERING = "options offered"
    SENDING = "sending"
    DONE = "done"
    FAILED = "failed"


class Blocks(NamedTuple):
    """Send this part of the file as blocks, one after the other."""

    first: int  # number, from 1, not wrapped
    amount: int
    offset: int  # bytes
    length: int  # bytes, all together; the file's last block may be empty


Output = Options | Blocks | Error


def granted(request: Request, size: int, largest_block: int, largest_window: int) -> dict[str, str]:
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
        elif name == "windowsize" and 1 <= value <= 65535:
            options[name] = str(min(value, largest_window))
    return options


@dataclass(slots=True)
class Transfer:
    """The sender's side. Call `start`, then `receive` and `tick`; send what they return."""

    size: int  # bytes
    options: dict[str, str] = field(default_factory=dict)
    block_size: int = DEFAULT_BLOCK  # bytes
    window: int = 1  # blocks that are sent before one is acknowledged
    last_block: int = 1  # the number of the one that is shorter than the others, perhaps empty
    state: State = State.SENDING
    acknowledged: int = 0  # blocks, not wrapped
    sent: int = 0  # the highest block that was sent, not wrapped
    resent: int = 0  # packets sent again
    timeouts: int = 0  # windows whose end was lost, since nothing came back
    failure: str = ""
    deadline: float = 0.0  # when to call `tick`
    _wait: float = _FIRST_WAIT
    _longest: float = _LONGEST_WAIT
    _progress: float = 0.0  # when the client answered last
    _sent_last: float = 0.0  # when something was sent
    _recovering: bool = False  # some of what is under way was sent twice
    _twice: int = 0  # the highest block that was sent again since nothing came back
    _excused: int = 0  # acknowledgements that only say that it had come before, until then
    _seldom: int = 0  # bits that a block's number must not have for its answer to be learnt from
    _round_trip: float = 0.0  # seconds, smoothed; zero when not known yet
    _variation: float = 0.0

    def __post_init__(self) -> None:
        self.block_size = int(self.options.get("blksize", DEFAULT_BLOCK))
        self.window = int(self.options.get("windowsize", 1))
        self.last_block = self.size // self.block_size + 1
        if "timeout" in self.options:
            # The first and the longest wait; what comes back sooner is asked for sooner, too:
            # some clients ask for seconds, and would lose them with every datagram.
            self._wait = self._longest = float(self.options["timeout"])
        self.state = State.OFFERING if self.options else State.SENDING

    def start(self, now: float) -> list[Output]:
        self._progress = now
        return self._send(now)

    def receive(self, packet: TftpPacket, now: float) -> list[Output]:
        if isinstance(packet, Ack) and self.state is State.SENDING:
            blocks = self.acknowledge(packet.block, now)
            return [] if blocks is None else [blocks]
        if self.state in (State.DONE, State.FAILED):
            return []
        if isinstance(packet, Error):
            return self._fail(f"the client ended it: {packet.message or 'no reason'}", None)
        if not isinstance(packet, Ack):
            return self._fail("the client sent something else than an ACK", ErrorCode.ILLEGAL)
        if packet.block != 0:
            return []
        self._progress = now
        if not self._recovering:
            self._learn(now)
        self.state, self._recovering = State.SENDING, False
        return self._send(now)

    def acknowledge(self, block: int, now: float) -> Blocks | None:
        """The same for an acknowledgement while blocks are being sent, which is what nearly always
        comes."""
        sent = self.sent
        new = (block - self.acknowledged) & 0xFFFF  # numbers begin again after 65,535
        if new > sent - self.acknowledged:
            return None  # an old one
        if new:
            self.acknowledged += new
            self._progress = now
            if not self._recovering and not self.acknowledged & self._seldom:
                self._learn(now)
            if self.acknowledged == self.last_block:
                self.state = State.DONE
                return None
        elif self.window == 1:
            return None  # answering it would double every packet from here on
        if self.acknowledged == sent:
            self._recovering = False
            self.deadline, self._sent_last = now + self._wait, now
            return self._blocks(sent)
        if new and self._recovering:  # of blocks that it had already: they are behind it now
            return self._extend(now)
        if now - self._sent_last < self._round_trip / 2:
            return None  # too early to be about what was sent last
        if self._excused and self.acknowledged <= self._twice:
            self._excused -= 1
            return None  # else what comes twice would be sent twice again, window after window
        self.resent += sent - self.acknowledged  # the next one was lost
        self._again(now)
        return self._blocks(self.acknowledged)

    def tick(self, now: float) -> list[Output]:
        """Send again what was not acknowledged; give up after PATIENCE."""
        if self.state in (State.DONE, State.FAILED) or now < self.deadline:
            return []
        if self._all_sent and now - self._progress >= max(LAST_PATIENCE, 3 * self._longest):
            self.gone()
            return []
        if now - self._progress >= max(PATIENCE, 6 * self._longest):
            return self._fail("the client went silent", ErrorCode.UNDEFINED)
        self.resent += max(1, self.sent - self.acknowledged)
        self.timeouts += 1
        self._wait = min(self._wait * 2, self._longest)
        before = self._excused if self.acknowledged < self._twice else 0
        self._twice, self._excused = self.sent, before + self.sent - self.acknowledged
        self._again(now)
        return self._send(now)

    def later(self, seconds: float) -> None:
        """What was to be sent just now leaves this much later."""
        self.deadline += seconds
        self._sent_last += seconds

    def end(self, reason: str) -> Error:
        """The file cannot be sent any further; what to tell the client."""
        self.state, self.failure = State.FAILED, reason
        return Error(ErrorCode.UNDEFINED, reason)

    def gone(self) -> None:
        """Nobody is there any more: done when all was sent, else a failure."""
        self.failure = "" if self._all_sent else "the client closed its port"
        self.state = State.DONE if self._all_sent else State.FAILED

    @property
    def _all_sent(self) -> bool:
        return self.state is State.SENDING and self.sent == self.last_block

    def _learn(self, now: float) -> None:
        """From an answer, how long the next may take (RFC 6298; of what was sent once)."""
        if self.acknowledged >= _LEARNING:
            self._seldom = _SELDOM
        took = now - self._sent_last
        if self._round_trip:
            off = abs(took - self._round_trip)
            self._variation += (off - self._variation) / 4
            self._round_trip += (took - self._round_trip) / 8
        else:
            self._round_trip, self._variation = max(took, 1e-6), took / 2
        wait = self._round_trip + 4 * self._variation
        if wait < _SHORTEST_WAIT:
            wait = _SHORTEST_WAIT
        self._wait = wait if wait < self._longest else self._longest

    def _again(self, now: float) -> None:
        """What is under way is sent a second time."""
        self.deadline, self._sent_last = now + self._wait, now
        self._recovering = True

    def _send(self, now: float) -> list[Output]:
        self.deadline, self._sent_last = now + self._wait, now
        if self.state is State.OFFERING:
            return [Options(self.options)]
        return [self._blocks(self.acknowledged)]

    def _extend(self, now: float) -> Blocks | None:
        """What the window has room for behind what is under way."""
        under_way = self.sent
        if under_way == min(self.acknowledged + self.window, self.last_block):
            return None
        self.deadline, self._sent_last = now + self._wait, now
        return self._blocks(under_way)

    def _blocks(self, before: int) -> Blocks:
        """Those behind the block `before`, to the end of the window."""
        end, size = self.acknowledged + self.window, self.block_size
        if end > self.last_block:
            end = self.last_block
        self.sent = end
        count, offset = end - before, before * size
        length, left = count * size, self.size - offset
        return Blocks(before + 1, count, offset, length if length < left else left)

    def _fail(self, reason: str, code: ErrorCode | None) -> list[Output]:
        self.state, self.failure = State.FAILED, reason
        return [] if code is None else [Error(code, reason)]
