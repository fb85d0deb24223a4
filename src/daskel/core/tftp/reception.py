"""One file received from one client (RFC 1350 with 2347 to 2349) as a state machine.

It takes packets and ticks of the clock, and says what to send and what to write. It writes nothing
itself, and waits for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from daskel.core.tftp.ending import Ending, Failure
from daskel.core.tftp.packet import Ack, Data, Error, ErrorCode, Options, Request, TftpPacket
from daskel.core.tftp.round_trip import FIRST_WAIT, LONGEST_WAIT
from daskel.core.tftp.transfer import DEFAULT_BLOCK, PATIENCE, State, granted

LINGER = 5.0  # seconds: the last acknowledgement may be lost


class Write(NamedTuple):
    """Write this at the end of the file; it is whole after the `last` one."""

    data: bytes
    last: bool


Output = Ack | Options | Error | Write


def accepted(request: Request, largest_block: int) -> dict[str, str]:
    """The options of an OACK to a write request; blocks come one at a time."""
    options = granted(request, 0, largest_block, 1)
    options.pop("windowsize", None)
    if "tsize" in options:
        options["tsize"] = request.options["tsize"]  # RFC 2349: the client's own, echoed
    return options


@dataclass(slots=True)
class Reception:
    """The receiver's side. Call `start`, then `receive` and `tick`; do what they return, in
    that order."""

    limit: int  # bytes
    options: dict[str, str] = field(default_factory=dict)
    block_size: int = DEFAULT_BLOCK  # bytes
    size: int = 0  # bytes that were received
    state: State = State.SENDING
    failure: Failure | None = None
    deadline: float = 0.0  # when to call `tick`
    _block: int = 0  # the last one received, not wrapped
    _wait: float = FIRST_WAIT
    _progress: float = 0.0

    def __post_init__(self) -> None:
        self.block_size = int(self.options.get("blksize", DEFAULT_BLOCK))

    @property
    def begun(self) -> bool:
        """A block has come."""
        return self._block > 0

    def start(self, now: float) -> list[Output]:
        """The answer to the request (RFC 1350 section 2, RFC 2347)."""
        self._progress = now
        size = self.options.get("tsize", "")
        if size.isdigit() and int(size) > self.limit:
            return self._fail(Ending.NO_ROOM, self._too_large, ErrorCode.FULL)
        return self._answer(now)

    def receive(self, packet: TftpPacket, now: float) -> list[Output]:
        """What a packet of the client leads to."""
        if self.state is State.FAILED:
            return []
        if isinstance(packet, Error):
            said = f"the client ended it: {packet.message or 'no reason'}"
            self.state, self.failure = State.FAILED, Failure(Ending.BY_CLIENT, said, packet.code)
            return []
        if not isinstance(packet, Data):
            said = "the client sent something other than data"
            return self._fail(Ending.MISTAKE, said, ErrorCode.ILLEGAL)
        if packet.block == self._block & 0xFFFF and self._block:
            return self._answer(now)  # the acknowledgement was lost
        if self.state is State.DONE or packet.block != (self._block + 1) & 0xFFFF:
            return []
        if len(packet.payload) > self.block_size:
            said = "a block is larger than agreed"
            return self._fail(Ending.MISTAKE, said, ErrorCode.ILLEGAL)
        if self.size + len(packet.payload) > self.limit:
            return self._fail(Ending.NO_ROOM, self._too_large, ErrorCode.FULL)
        self._block += 1
        self.size += len(packet.payload)
        self._progress, self._wait = now, FIRST_WAIT
        last = len(packet.payload) < self.block_size
        if last:
            self.state = State.DONE
        return [Write(packet.payload, last), *self._answer(now)]

    def tick(self, now: float) -> list[Output]:
        """Acknowledge again what came last; give up after PATIENCE."""
        if self.state is not State.SENDING or now < self.deadline:
            return []
        if now - self._progress >= PATIENCE:
            return self._fail(Ending.SILENT, "the client went silent", ErrorCode.UNDEFINED)
        self._wait = min(self._wait * 2, LONGEST_WAIT)
        return self._answer(now)

    def end(self, reason: str, code: ErrorCode) -> Error:
        """It cannot be written any further; what to tell the client."""
        self.state, self.failure = State.FAILED, Failure(Ending.BY_SERVER, reason)
        return Error(code, reason)

    @property
    def _too_large(self) -> str:
        return f"more than {self.limit} bytes"

    def _answer(self, now: float) -> list[Output]:
        self.deadline = now + (LINGER if self.state is State.DONE else self._wait)
        return [
            Options(self.options) if self.options and not self.begun else Ack(self._block & 0xFFFF)
        ]

    def _fail(self, ending: Ending, words: str, code: ErrorCode) -> list[Output]:
        self.state, self.failure = State.FAILED, Failure(ending, words)
        return [Error(code, words)]
