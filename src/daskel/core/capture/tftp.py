"""TFTP in a capture: every file that was asked for, and how its transfer ended."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.capture.heard import Heard
from daskel.core.content.misses import harmless
from daskel.core.history.aborts import abort_by
from daskel.core.history.events import (
    Abort,
    FileAborted,
    FileAsked,
    FileMissing,
    FileSent,
    FileSized,
    Missed,
    Service,
    Unanswered,
)
from daskel.core.reader import MalformedError
from daskel.core.tftp import packet as tftp
from daskel.core.tftp.packet import Ack, Data, Error, ErrorCode, Opcode, Options, Request

_HEADER = 4  # bytes before a block
_STILL = 5.0  # seconds before the end of the capture: a transfer may just go on
_MISSING: dict[int, Missed] = {
    ErrorCode.NOT_FOUND: Missed.ABSENT,
    ErrorCode.ACCESS: Missed.NOT_ALLOWED,
}
_OVER = "tftp"

End = tuple[IPv4Address, int]  # an address and a port


@dataclass
class _Transfer:
    path: str
    client: End
    server: IPv4Address
    began: float
    last: float
    asked: int = 1  # times
    answered: bool = False
    closed: bool = False
    block_size: int = 512  # bytes
    size: int | None = None  # bytes
    blocks: int = 0  # received in a row
    received: int = 0  # bytes
    resent: int = 0  # packets
    last_block: int | None = None
    by_client: bool = True  # who was heard last


class TftpHeard:
    """Follows the TFTP transfers of all machines in a capture."""

    def __init__(self, heard: Heard) -> None:
        self._heard = heard
        self._open: dict[End, _Transfer] = {}  # by the client's end

    def feed(self, at: float, source: End, target: End, data: bytes, length: int) -> None:
        """`data` may be cut; `length`: bytes of the whole datagram's payload."""
        if target[1] == 69:
            self._asked(at, source, target, data)
            return
        transfer = self._open.get(source) or self._open.get(target)
        if transfer is None:
            return
        try:
            packet = tftp.parse(data)
        except MalformedError:
            return
        transfer.last, transfer.by_client = at, source == transfer.client
        if transfer.by_client:
            self._from_client(at, transfer, packet)
        else:
            self._from_server(at, transfer, packet, length)

    def closed(self, client: End) -> None:
        """The server's machine says that nothing listens there."""
        if transfer := self._open.get(client):
            transfer.closed = True

    def finish(self, now: float) -> None:
        """Say how the transfers ended that the capture's end cut off; `now` is its last time."""
        for transfer in list(self._open.values()):
            self._end(transfer, now)

    def _asked(self, at: float, source: End, target: End, data: bytes) -> None:
        try:
            packet = tftp.parse(data)
        except MalformedError:
            return
        if not isinstance(packet, Request) or packet.opcode is not Opcode.READ:
            return
        path, before = packet.path.decode("utf-8", "replace"), self._open.get(source)
        if before and before.path == path and not before.answered:
            before.asked, before.last = before.asked + 1, at
            return
        again = next((t for t in self._open.values() if self._same(t, source, path)), None)
        if again:  # from another port, as some firmware does
            del self._open[again.client]
            again.client, again.asked, again.last = source, again.asked + 1, at
            self._open[source] = again
            return
        if before:
            self._end(before, at)
        self._open[source] = _Transfer(path, source, target[0], at, at)

    def _same(self, transfer: _Transfer, source: End, path: str) -> bool:
        return transfer.client[0] == source[0] and transfer.path == path and not transfer.answered

    def _from_server(self, at: float, transfer: _Transfer, packet: object, length: int) -> None:
        if isinstance(packet, Error):
            self._refused(at, transfer, packet)
            return
        if not transfer.answered:
            transfer.answered = True
            size = packet.options.get("tsize", "") if isinstance(packet, Options) else ""
            transfer.size = int(size) if size.isdigit() else None
            who = self._heard.at(transfer.client[0])
            kind = self._heard.kind(who.mac, transfer.path)
            asked = FileAsked(who, transfer.path, kind, transfer.size or 0, _OVER)
            self._heard.say(transfer.began, asked)
        if isinstance(packet, Options):
            size = packet.options.get("blksize", "512")
            transfer.block_size = int(size) if size.isdigit() else 512
        elif isinstance(packet, Data):
            self._data(transfer, packet.block, length)

    def _data(self, transfer: _Transfer, block: int, length: int) -> None:
        """One block, or several that the kernel was given at once."""
        whole = transfer.block_size + _HEADER
        while length >= _HEADER:
            payload = min(length, whole) - _HEADER
            expected = (transfer.blocks + 1) & 0xFFFF
            if block == expected:
                transfer.blocks += 1
                transfer.received += payload
                if payload < transfer.block_size:
                    transfer.last_block = transfer.blocks & 0xFFFF
            else:
                transfer.resent += 1
            length, block = length - whole, (block + 1) & 0xFFFF

    def _from_client(self, at: float, transfer: _Transfer, packet: object) -> None:
        if isinstance(packet, Ack) and packet.block == transfer.last_block:
            self._sent(at, transfer)
        elif isinstance(packet, Error):
            who = self._heard.at(transfer.client[0])
            if not transfer.blocks and transfer.answered:
                self._heard.say(at, FileSized(who, transfer.path, _OVER))
            else:
                said = packet.message or "no words"
                reason = f"the client ended it: {said} (error {packet.code})"
                why = abort_by(packet.code, transfer.blocks)
                ended = FileAborted(who, transfer.path, _OVER, reason, why, packet.code)
                self._heard.say(at, ended)
            del self._open[transfer.client]

    def _sent(self, at: float, transfer: _Transfer) -> None:
        who = self._heard.at(transfer.client[0])
        kind = self._heard.kind(who.mac, transfer.path)
        seconds, size = at - transfer.began, transfer.received
        sent = FileSent(who, transfer.path, kind, size, seconds, _OVER, transfer.resent)
        self._heard.say(at, sent)
        del self._open[transfer.client]

    def _refused(self, at: float, transfer: _Transfer, packet: Error) -> None:
        who = self._heard.at(transfer.client[0])
        reason = f"{transfer.server} says: {packet.message or 'no words'} (error {packet.code})"
        if packet.code in (ErrorCode.NOT_FOUND, ErrorCode.ACCESS) or not transfer.answered:
            needless = bool(harmless(transfer.path))
            why = _MISSING.get(packet.code, Missed.UNTOLD)
            missing = FileMissing(
                who, transfer.path, _OVER, reason, needless, why, code=packet.code
            )
            self._heard.say(at, missing)
        else:
            ended = FileAborted(who, transfer.path, _OVER, reason, Abort.BY_SERVER)
            self._heard.say(at, ended)
        del self._open[transfer.client]

    def _end(self, transfer: _Transfer, now: float) -> None:
        """It did not end by itself."""
        self._open.pop(transfer.client, None)
        who = self._heard.at(transfer.client[0])
        if not transfer.answered:
            if transfer.asked > 1 or transfer.closed:
                silence = Unanswered(
                    who, Service.TFTP, transfer.path, transfer.server, transfer.asked,
                    transfer.closed,
                )  # fmt: skip
                self._heard.say(transfer.last, silence)
        elif transfer.last_block is not None:
            self._sent(transfer.last, transfer) if self._reopen(transfer) else None
        elif now - transfer.last > _STILL:
            silent = "the server" if transfer.by_client else "the client"
            reason = f"{silent} went silent"
            self._heard.say(transfer.last, FileAborted(
                who, transfer.path, _OVER, reason, Abort.SILENT
            ))  # fmt: skip

    def _reopen(self, transfer: _Transfer) -> bool:
        """All was sent, and the last acknowledgement is not in the capture."""
        self._open[transfer.client] = transfer
        return True
