"""One file sent to one client (RFC 1350 with 2347 to 2349 and 7440) as a state machine.

It takes packets and ticks of the clock, and says what to send: packets, or blocks of the file by
number. It reads no file itself, and waits for nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import Enum
from typing import NamedTuple

from daskel.core.tftp.ending import Ending, Failure
from daskel.core.tftp.packet import Ack, Error, ErrorCode, Options, Request, TftpPacket
from daskel.core.tftp.recovery import STEPS, Acked, Recovery, Step
from daskel.core.tftp.round_trip import RoundTrip

DEFAULT_BLOCK = 512  # bytes, RFC 1350
MINIMUM_BLOCK, MAXIMUM_BLOCK = 8, 65464  # bytes, RFC 2348
PATIENCE = 31.0  # seconds without an answer until the transfer is given up
FIRST_PATIENCE = 10.0  # while nothing has come back at all
MOST_PATIENCE = 60.0  # whatever wait the client asks for
LAST_PATIENCE = 7.0  # of the last blocks: a boot loader that starts its kernel may not answer


class State(Enum):
    """How far a transfer is."""

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
        elif name == "timeout" and 1 <= value <= MOST_PATIENCE // 2:  # RFC 2349: may be left out
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
    block_size: int = field(init=False)  # bytes
    window: int = field(init=False)  # blocks that are sent before one is acknowledged
    last_block: int = field(init=False)  # the number of the one that is shorter, perhaps empty
    state: State = field(init=False)
    acknowledged: int = 0  # blocks, not wrapped
    sent: int = 0  # the highest block that was sent, not wrapped
    resent: int = 0  # packets sent again
    timeouts: int = 0  # windows whose end was lost, since nothing came back
    failure: Failure | None = None
    deadline: float = 0.0  # when to call `tick`
    trip: RoundTrip = field(default_factory=RoundTrip)
    recovery: Recovery = field(default_factory=Recovery)
    heard_at: float = 0.0  # when the client answered last
    answered: bool = False  # it answered at all
    sent_at: float = 0.0  # when something was sent

    def __post_init__(self) -> None:
        self.block_size = int(self.options.get("blksize", DEFAULT_BLOCK))
        self.window = int(self.options.get("windowsize", 1))
        self.last_block = self.size // self.block_size + 1
        if "timeout" in self.options:
            # The first and the longest wait; what comes back sooner is asked for sooner, too:
            # some clients ask for seconds, and would lose them with every datagram.
            seconds = float(self.options["timeout"])
            self.trip = RoundTrip(seconds, seconds)
        self.state = State.OFFERING if self.options else State.SENDING

    def start(self, now: float) -> list[Output]:
        """The answer to the request: options, or the first blocks."""
        self.heard_at = now
        return self._send(now)

    def receive(self, packet: TftpPacket, now: float) -> list[Output]:
        """What a packet of the client leads to."""
        kind = type(packet) if isinstance(packet, (Ack, Error)) else object
        handle = _ON_PACKET.get((self.state, kind))
        return handle(self, packet, now) if handle else []

    def acknowledge(self, block: int, now: float) -> Blocks | None:
        """The same for an acknowledgement while blocks are being sent, which is what nearly always
        comes."""
        under_way = self.sent - self.acknowledged
        new = (block - self.acknowledged) & 0xFFFF  # numbers begin again after 65,535
        if new > under_way or (not new and self.window == 1):
            return None  # an old one; answering it would double every packet from here on
        if new:
            self.acknowledged += new
            self.heard_at, self.answered = now, True
            if not self.recovery.resent and not self.acknowledged & self.trip.seldom:
                self.trip.learn(now - self.sent_at, self.acknowledged)
            if self.acknowledged == self.last_block:
                self.state = State.DONE
                return None
            if new == under_way:
                self.recovery.resent = False
                self._now_sent(now)
                return self._blocks(self.sent)
        step = STEPS[self.recovery.resent, Acked.SOME if new else Acked.NOTHING]
        return self._extend(now) if step is Step.EXTEND else self._repeat(now)

    def next_window(self, block: int, now: float) -> int:
        """The short way of `acknowledge`, for an acknowledgement of all that is under way while
        nothing is unusual: the last block of the next window, whose first is behind `acknowledged`.
        0, and nothing is changed, for everything else."""
        sent, recovery = self.sent, self.recovery
        if (
            block != sent & 0xFFFF
            or sent == self.acknowledged
            or sent >= self.last_block
            or self.state is not State.SENDING
            or recovery.resent
        ):
            return 0
        if not sent & self.trip.seldom:
            self.trip.learn(now - self.sent_at, sent)
        self.acknowledged = sent
        self.heard_at = self.sent_at = now
        self.answered = True
        self.deadline = now + self.trip.wait
        end = sent + self.window
        if end > self.last_block:
            end = self.last_block
        self.sent = end
        return end

    def tick(self, now: float) -> list[Output]:
        """Send again what was not acknowledged; give up after PATIENCE."""
        if self.state in (State.DONE, State.FAILED) or now < self.deadline:
            return []
        silent = now - self.heard_at
        if self._all_sent and silent >= min(MOST_PATIENCE, max(LAST_PATIENCE, 3 * self.trip.wait)):
            self.gone()
            return []
        if silent >= self._patience:
            return self._fail(Ending.SILENT, "the client went silent", ErrorCode.UNDEFINED)
        self.resent += max(1, self.sent - self.acknowledged)
        self.timeouts += 1
        self.trip.back_off()
        self.recovery.nothing_came(self.acknowledged, self.sent)
        return self._send(now)

    def later(self, seconds: float) -> None:
        """What was to be sent just now leaves this much later."""
        self.deadline += seconds
        self.sent_at += seconds

    def end(self, reason: str) -> Error:
        """The file cannot be sent any further; what to tell the client."""
        self._fail(Ending.BY_SERVER, reason, None)
        return Error(ErrorCode.UNDEFINED, reason)

    def gone(self) -> None:
        """Nobody is there any more: done when all was sent, else a failure."""
        if self._all_sent:
            self.state = State.DONE
        else:
            self._fail(Ending.CLOSED, "the client closed its port", None)

    @property
    def _patience(self) -> float:
        """Seconds: several of the waits that the path, or the client, has shown to need."""
        least = PATIENCE if self.answered else FIRST_PATIENCE
        return min(MOST_PATIENCE, max(least, 3 * self.trip.longest))

    @property
    def _all_sent(self) -> bool:
        return self.state is State.SENDING and self.sent == self.last_block

    # --- packets ---

    def _accepted(self, packet: TftpPacket, now: float) -> list[Output]:
        """The client takes the options that were offered, by acknowledging block 0."""
        if not isinstance(packet, Ack) or packet.block != 0:
            return []
        self.heard_at, self.answered = now, True
        if not self.recovery.resent:
            self.trip.learn(now - self.sent_at, 0)
        self.state, self.recovery.resent = State.SENDING, False
        return self._send(now)

    def _acked(self, packet: TftpPacket, now: float) -> list[Output]:
        assert isinstance(packet, Ack)
        blocks = self.acknowledge(packet.block, now)
        return [] if blocks is None else [blocks]

    def _ended(self, packet: TftpPacket, now: float) -> list[Output]:  # noqa: ARG002 - as the others
        assert isinstance(packet, Error)
        said = f"the client ended it: {packet.message or 'no reason'}"
        self.state, self.failure = State.FAILED, Failure(Ending.BY_CLIENT, said, packet.code)
        return []

    def _mistaken(self, packet: TftpPacket, now: float) -> list[Output]:  # noqa: ARG002
        said = "the client sent something other than an ACK"
        return self._fail(Ending.MISTAKE, said, ErrorCode.ILLEGAL)

    # --- blocks ---

    def _now_sent(self, now: float) -> None:
        self.deadline, self.sent_at = now + self.trip.wait, now

    def _send(self, now: float) -> list[Output]:
        self._now_sent(now)
        if self.state is State.OFFERING:
            return [Options(self.options)]
        return [self._blocks(self.acknowledged)]

    def _repeat(self, now: float) -> Blocks | None:
        """The next block was lost: send from there again."""
        if now - self.sent_at < self.trip.half:
            return None  # too early to be about what was sent last
        if self.recovery.excuses(self.acknowledged):
            return None
        self.resent += self.sent - self.acknowledged
        self.recovery.resent = True
        self._now_sent(now)
        return self._blocks(self.acknowledged)

    def _extend(self, now: float) -> Blocks | None:
        """What the window has room for behind what is under way."""
        under_way = self.sent
        if under_way == min(self.acknowledged + self.window, self.last_block):
            return None
        self._now_sent(now)
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

    def _fail(self, ending: Ending, words: str, code: ErrorCode | None) -> list[Output]:
        self.state, self.failure = State.FAILED, Failure(ending, words)
        return [] if code is None else [Error(code, words)]


_Handle = Callable[[Transfer, TftpPacket, float], list[Output]]
# What comes, and what is done (the table is part of the class, and stands behind it). What is not
# here is passed over: a transfer that is over says no more. `object`: every other kind of packet.
_ON_PACKET: Mapping[tuple[State, type], _Handle] = {
    (State.OFFERING, Ack): Transfer._accepted,  # noqa: SLF001
    (State.OFFERING, Error): Transfer._ended,  # noqa: SLF001
    (State.OFFERING, object): Transfer._mistaken,  # noqa: SLF001
    (State.SENDING, Ack): Transfer._acked,  # noqa: SLF001
    (State.SENDING, Error): Transfer._ended,  # noqa: SLF001
    (State.SENDING, object): Transfer._mistaken,  # noqa: SLF001
}
