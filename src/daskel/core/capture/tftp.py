"""TFTP in a capture: every file that was asked for, and how its transfer ended.

Answers come from ports that filters leave out, and mirror ports show one direction: how a
transfer ended is only said where it was seen.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from daskel.core.capture.heard import End, Heard
from daskel.core.capture.scope import Scope, Traffic
from daskel.core.history.aborts import abort_by
from daskel.core.history.events import (
    Abort,
    Address,
    FileAborted,
    FileAsked,
    FileMissing,
    FileSent,
    FileSized,
    FileUntold,
    Missed,
    Service,
    Unanswered,
)
from daskel.core.history.misses import CUT, harmless
from daskel.core.reader import MalformedError
from daskel.core.tftp import packet as tftp
from daskel.core.tftp.packet import Ack, Data, Error, ErrorCode, Opcode, Options, Request

_HEADER = 4  # bytes before a block
_STILL = 5.0  # seconds before the end of the capture: a transfer may just go on
_WAITED = 3  # requests that are all alike: their sender has waited for an answer
_LONG_AGO = 0.8  # seconds between two of them, at least
_MISSING: dict[int, Missed] = {
    ErrorCode.NOT_FOUND: Missed.ABSENT,
    ErrorCode.ACCESS: Missed.NOT_ALLOWED,
}
_OVER = "tftp"


@dataclass
class _Transfer:
    path: str
    options: Mapping[str, str]  # that were asked for
    client: End
    server: Address
    began: float
    last: float
    waits: int = 1  # requests, without those that follow another at once
    waited: float = 0.0  # when it asked last
    answered: bool = False
    closed: bool = False
    no_size: bool = False  # it asked for the size, and was not told
    block_size: int = 512  # bytes
    size: int | None = None  # bytes
    blocks: int = 0  # the highest that was seen
    received: int = 0  # bytes
    seen: set[int] = field(default_factory=set)  # blocks
    missed: bool = False  # there are blocks that the capture has not
    taken: int = 0  # blocks that were acknowledged
    resent: int = 0  # packets
    last_block: int | None = None
    by_client: bool = True  # who was heard last


class TftpHeard:
    """Follows the TFTP transfers of all machines in a capture."""

    def __init__(self, heard: Heard, scope: Scope) -> None:
        self._heard, self._scope = heard, scope
        self._open: dict[End, _Transfer] = {}  # by the client's end

    def feed(self, at: float, source: End, target: End, data: bytes, length: int) -> bool:
        """Whether the datagram is of a transfer. `data` may be cut; `length`: bytes of the whole
        datagram's payload."""
        if target[1] == 69:
            self._scope.seen.add(Traffic.TFTP_ASKED)
            self._asked(at, source, target, data, cut=len(data) < length)
            return True
        transfer = self._open.get(source) or self._open.get(target)
        if transfer is None:
            return False
        try:
            packet = tftp.parse(data)
        except MalformedError:
            return True
        transfer.last, transfer.by_client = at, source == transfer.client
        kind = Traffic.TFTP_TAKEN if transfer.by_client else Traffic.TFTP_SENT
        self._scope.seen.add(kind)
        if transfer.by_client:
            self._from_client(at, transfer, packet)
        else:
            self._from_server(at, transfer, packet, length)
        return True

    def closed(self, client: End) -> None:
        """The server's machine says that nothing listens there."""
        if transfer := self._open.get(client):
            transfer.closed = True

    def finish(self, now: float) -> None:
        """Say how the transfers ended that the capture's end cut off; `now` is its last time."""
        for transfer in list(self._open.values()):
            self._end(transfer, now)

    def _asked(self, at: float, source: End, target: End, data: bytes, *, cut: bool) -> None:
        packet = _request(data, cut=cut)
        if packet is None or packet.opcode is not Opcode.READ:
            return
        path = packet.path.decode("utf-8", "replace")
        for other in [t for t in self._open.values() if t.client[0] == source[0]]:
            alike = other.path == path and other.options == packet.options
            if not alike or other.answered:
                if other.client == source or other.path == path:
                    self._end(other, at, next_one=packet)
                continue
            if source != other.client:  # from another port, as some firmware does
                del self._open[other.client]
                self._open[source] = other
            if at - other.waited > _LONG_AGO:
                other.waits += 1
            other.client, other.last, other.waited = source, at, at
            return
        self._open[source] = _Transfer(path, packet.options, source, target[0], at, at, waited=at)
        who = self._heard.at(source[0])
        kind = self._heard.kind(who.mac, path)
        self._heard.say(at, FileAsked(who, path, kind, 0, _OVER))

    def _from_server(self, at: float, transfer: _Transfer, packet: object, length: int) -> None:
        if isinstance(packet, Error):
            self._refused(at, transfer, packet)
            return
        if not transfer.answered:
            transfer.answered = True
            told = packet.options.get("tsize", "") if isinstance(packet, Options) else ""
            transfer.size = int(told) if told.isdigit() else None
            transfer.no_size = "tsize" in transfer.options and transfer.size is None
        if isinstance(packet, Options):
            size = packet.options.get("blksize", "512")
            transfer.block_size = int(size) if size.isdigit() and int(size) else 512
        elif isinstance(packet, Data):
            self._data(transfer, packet.block, length)

    def _data(self, transfer: _Transfer, block: int, length: int) -> None:
        """One block, or several that the kernel was given at once. Some may be missing from the
        capture."""
        whole = transfer.block_size + _HEADER
        while length >= _HEADER:
            payload = min(length, whole) - _HEADER
            ahead = (block - transfer.blocks) & 0xFFFF
            number = transfer.blocks + ahead if ahead < 0x8000 else 0
            if number > transfer.blocks:
                transfer.missed = transfer.missed or ahead > 1
                transfer.blocks = number
                transfer.received += payload
                if payload < transfer.block_size:
                    transfer.last_block = number & 0xFFFF
            else:
                transfer.resent += 1
            length, block = length - whole, (block + 1) & 0xFFFF

    def _from_client(self, at: float, transfer: _Transfer, packet: object) -> None:
        transfer.answered = True  # it talks to the port of the transfer
        if isinstance(packet, Ack):
            transfer.taken = max(transfer.taken, packet.block)
            if packet.block == transfer.last_block:
                self._sent(at, transfer)
        elif isinstance(packet, Error):
            who = self._heard.at(transfer.client[0])
            begun = transfer.blocks or transfer.taken
            if not begun and not transfer.no_size and packet.code != ErrorCode.FULL:
                self._heard.say(at, FileSized(who, transfer.path, _OVER))
            else:
                said = packet.message or "no words"
                reason = f"the client ended it: {said} (error {packet.code})"
                why = Abort.NO_SIZE if transfer.no_size else abort_by(packet.code, transfer.blocks)
                ended = FileAborted(who, transfer.path, _OVER, reason, why, packet.code)
                self._heard.say(at, ended)
            del self._open[transfer.client]

    def _sent(self, at: float, transfer: _Transfer) -> None:
        who = self._heard.at(transfer.client[0])
        kind = self._heard.kind(who.mac, transfer.path)
        size = transfer.size if transfer.missed and transfer.size else transfer.received
        sent = FileSent(who, transfer.path, kind, size, at - transfer.began, _OVER, transfer.resent)
        self._heard.say(at, sent)
        self._open.pop(transfer.client, None)

    def _refused(self, at: float, transfer: _Transfer, packet: Error) -> None:
        who = self._heard.at(transfer.client[0])
        reason = f"{transfer.server} says: {packet.message or 'no words'} (error {packet.code})"
        if packet.code in (ErrorCode.NOT_FOUND, ErrorCode.ACCESS) or not transfer.answered:
            needless = bool(harmless(transfer.path)) or transfer.path.endswith(CUT)
            why = _MISSING.get(packet.code, Missed.UNTOLD)
            missing = FileMissing(
                who, transfer.path, _OVER, reason, needless, why, code=packet.code
            )
            self._heard.say(at, missing)
        else:
            ended = FileAborted(who, transfer.path, _OVER, reason, Abort.BY_SERVER)
            self._heard.say(at, ended)
        del self._open[transfer.client]

    def _end(self, transfer: _Transfer, now: float, next_one: Request | None = None) -> None:
        """It did not end by itself, until `now`; `next_one`: what its client asked then."""
        self._open.pop(transfer.client, None)
        who = self._heard.at(transfer.client[0])
        kind = self._heard.kind(who.mac, transfer.path)
        if transfer.last_block is not None:  # the last acknowledgement is not in the capture
            self._sent(transfer.last, transfer)
        elif self._was_sized(transfer, next_one):
            self._heard.say(transfer.last, FileSized(who, transfer.path, _OVER))
        elif not transfer.answered and self._unanswered(transfer):
            silence = Unanswered(
                who, Service.TFTP, transfer.path, transfer.server, transfer.waits, transfer.closed
            )
            self._heard.say(transfer.last, silence)
        elif transfer.blocks and not transfer.missed and now - transfer.last > _STILL:
            silent = "the server" if transfer.by_client else "the client"
            reason = f"{silent} went silent"
            self._heard.say(transfer.last, FileAborted(
                who, transfer.path, _OVER, reason, Abort.SILENT
            ))  # fmt: skip
        elif transfer.no_size and not transfer.blocks and now - transfer.last > _STILL:
            reason = f"{transfer.server} did not tell how large it is"
            self._heard.say(transfer.last, FileAborted(
                who, transfer.path, _OVER, reason, Abort.NO_SIZE
            ))  # fmt: skip
        else:
            self._heard.say(transfer.last, FileUntold(who, transfer.path, kind, _OVER))

    def _was_sized(self, transfer: _Transfer, next_one: Request | None) -> bool:
        """It asked for the size, got it, and then asked for the file itself."""
        return (
            next_one is not None
            and "tsize" in transfer.options
            and "tsize" not in next_one.options
            and not transfer.blocks
        )

    def _unanswered(self, transfer: _Transfer) -> bool:
        """Whether it waited in vain, and not only out of sight of the capture."""
        if transfer.closed or transfer.waits >= _WAITED:
            return True
        return transfer.waits > 1 and Traffic.TFTP_SENT in self._scope.seen


def _request(data: bytes, *, cut: bool) -> Request | None:
    """A request; of one that is cut, as much of its path as there is."""
    try:
        packet = tftp.parse(data)
    except MalformedError:
        if not cut or data[:2] != b"\0\1":
            return None
        path, _, rest = data[2:].partition(b"\0")
        words = rest.split(b"\0")[1:-1]
        pairs = zip(words[::2], words[1::2], strict=False)
        options = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in pairs}
        if not data[2:].count(b"\0"):
            path += CUT.encode()
        return Request(Opcode.READ, path, "octet", options) if path else None
    return packet if isinstance(packet, Request) else None
