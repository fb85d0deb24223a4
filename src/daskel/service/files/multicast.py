"""One file for many at once (docs/multicast.md): what receivers ask over HTTP, and the blocks that
go to all of them."""

from __future__ import annotations

import asyncio
import errno
import logging
import os
import socket
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from hashlib import blake2b
from ipaddress import IPv4Address

from daskel.core.boot.segments import multicast_group
from daskel.core.history.events import (
    Abort,
    FileAborted,
    FileAsked,
    FileKind,
    FileSent,
    SentToAll,
    Who,
)
from daskel.core.multicast.datagrams import BLOCK, END, HEAD, Report, write_head
from daskel.core.multicast.transmission import (
    Answer,
    Phase,
    Range,
    Transmission,
    missing_of,
    ranges,
)
from daskel.core.reader import MalformedError
from daskel.service.files.blocks import Sender
from daskel.service.files.opened import Opened
from daskel.service.shared import Moving, Shared
from daskel.service.sockets import to_group, udp

OVER = "multicast"  # in events, as "http"
LARGEST = 4 << 30  # bytes of a file that is sent so
_MOST, _MOST_RECEIVERS = 16, 256  # transmissions at once, and receivers of one
_TOGETHER = 44  # blocks that leave with one system call: as many as the kernel cuts from 64 KiB
_AHEAD = 8 << 20  # bytes that the disk is asked for before they are sent
_PIECE = 256 << 10  # bytes of the rest that are read at once
_LARGEST_REPORT = 64  # bytes
_BATCH = 64  # reports read at once
_MARKS = 3  # ends of a pass that are sent: one may be lost
_LOOK = 0.5  # seconds
_SAY_AGAIN = 60.0  # seconds
_COMING = 30.0  # seconds from a kernel to what its initrd fetches, at most
_FULL = (errno.EAGAIN, errno.ENOBUFS)
_WAIT = 0.001  # seconds until the network card is tried again
_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a transmission can be heard."""

    number: int
    group: IPv4Address
    port: int
    size: int  # bytes of the file

    def told(self) -> str:
        """As receivers are told."""
        return (
            f"transmission={self.number}\ngroup={self.group}\nport={self.port}\n"
            f"size={self.size}\nblock={BLOCK}\n"
        )

    @property
    def blocks(self) -> int:
        """How many the file has."""
        return -(-self.size // BLOCK)


@dataclass(frozen=True, slots=True)
class Rest:
    """What a receiver misses in the end, and since when it has listened: None when it never did."""

    missing: int  # a bit for each block
    since: float | None

    def size(self, place: Place) -> int:
        """In bytes."""
        shorter = place.blocks * BLOCK - place.size if self.missing >> (place.blocks - 1) else 0
        return self.missing.bit_count() * BLOCK - shorter


@dataclass(frozen=True, slots=True)
class Listen:
    """A pass is, or will be, under way; end marks before this sequence are of an earlier one."""

    sequence: int

    def told(self) -> str:
        """As a receiver is told."""
        return f"sequence={self.sequence}\n"


@dataclass
class _Listener:
    moving: Moving
    since: float


@dataclass
class _Sending:
    segment: str
    place: Place
    path: str
    descriptor: int
    transmission: Transmission
    began: float
    begins: int = 0  # sequence that its pass began with
    asked: asyncio.Event = field(default_factory=asyncio.Event)
    decided: asyncio.Event = field(default_factory=asyncio.Event)
    waiting: set[str] = field(default_factory=set)  # for an answer
    listeners: dict[str, _Listener] = field(default_factory=dict)

    def tell(self) -> None:
        """Those that wait for an answer may have one."""
        self.decided.set()
        self.decided = asyncio.Event()


class Multicast:
    """All transmissions of one server."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._running: dict[int, _Sending] = {}
        self._of_peer: dict[str, _Sending] = {}  # one at a time for each
        self._reports: dict[IPv4Address, socket.socket] = {}  # by server
        self._tasks: set[asyncio.Task[None]] = set()
        self._sender = Sender()
        self._coming: dict[str, dict[str, float]] = {}  # by folder, machines, and when they were
        self._said = float("-inf")
        shared.bus.listen(FileSent, self._sent)

    def place(self, segment: str, opened: Opened) -> Place | None:
        """Where a file can be heard; None when it is not sent to many."""
        here = self._shared.site.segments[segment]
        group = multicast_group(here)
        if group is None or not opened.stored or not 0 < opened.size <= LARGEST:
            return None
        status = os.fstat(opened.descriptor)
        found = segment, status.st_dev, status.st_ino, status.st_mtime_ns, opened.size
        number = int.from_bytes(blake2b(repr(found).encode(), digest_size=4).digest(), "big")
        return Place(number, group, self._shared.wire.ports.multicast, opened.size)

    @property
    def under_way(self) -> list[Moving]:
        """For each that listens, how far it can be."""
        found = []
        for sending in self._running.values():
            done = min(sending.transmission.sent * BLOCK, sending.place.size)
            for listener in sending.listeners.values():
                listener.moving.done = done
                found.append(listener.moving)
        return found

    async def ask(
        self, segment: str, who: Who, opened: Opened, place: Place, have: bytes
    ) -> Rest | Listen:
        """What a receiver that says what it has is to do. Raises OSError when there is no room for
        it, or nothing can be sent."""
        peer, now = str(who.address), self._shared.clock.monotonic()
        sending = self._running.get(place.number)
        if sending is None or sending.transmission.over:
            sending = self._begin(segment, opened, place, now)
        before = self._of_peer.get(peer)
        if before not in (None, sending):
            self._leave(peer, before)
        if peer not in self._of_peer and len(sending.transmission.receivers) >= _MOST_RECEIVERS:
            raise OSError(errno.EUSERS, os.strerror(errno.EUSERS))
        self._of_peer[peer] = sending
        self._coming.get(_folder(sending.path), {}).pop(peer, None)
        missing = missing_of(have, place.blocks)
        receiver = sending.transmission.asks(peer, missing, now)
        sending.asked.set()
        sending.waiting.add(peer)
        while receiver.answer is None and not sending.transmission.over:
            await sending.decided.wait()
        sending.waiting.discard(peer)
        if receiver.answer is Answer.LISTEN:
            if peer not in sending.listeners:
                moving = Moving(who, opened.path, 0, opened.size)
                sending.listeners[peer] = _Listener(moving, now)
                self._shared.emit(FileAsked(who, opened.path, opened.kind, opened.size, OVER))
            return Listen(sending.begins)
        listener = sending.listeners.pop(peer, None)
        self._leave(peer, sending)
        return Rest(missing, listener.since if listener else None)

    def say_why_not(self, path: str, error: Exception) -> None:
        """In the log, once a minute: each machine of a room asks."""
        now = self._shared.clock.monotonic()
        if now - self._said > _SAY_AGAIN:
            self._said = now
            _log.warning("%s is not sent to many: %s", path, error)

    def _leave(self, peer: str, sending: _Sending) -> None:
        sending.transmission.leave(peer)
        sending.asked.set()
        if self._of_peer.get(peer) is sending:
            del self._of_peer[peer]

    def _begin(self, segment: str, opened: Opened, place: Place, now: float) -> _Sending:
        if len(self._running) >= _MOST:
            raise OSError(errno.EUSERS, os.strerror(errno.EUSERS))
        server = self._shared.site.segments[segment].server
        self._hear_reports(server)
        address = self._shared.wire.outside(server)
        sock = to_group(address, (str(place.group), place.port))
        bandwidth = self._shared.bandwidth.get(segment)
        limit = bandwidth.rate if bandwidth else None
        transmission = Transmission(place.blocks, BLOCK, limit)
        descriptor = os.dup(opened.descriptor)
        sending = _Sending(segment, place, opened.path, descriptor, transmission, now)
        self._running[place.number] = sending
        task = asyncio.create_task(self._run(sending, sock))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return sending

    async def _run(self, sending: _Sending, sock: socket.socket) -> None:
        clock, cast = self._shared.clock, sending.transmission
        datagrams = _Datagrams(sending.place, sending.descriptor)
        try:
            while not cast.over:
                sending.asked.clear()
                self._wait_for_others(sending)
                before = cast.passes
                found = cast.due(clock.monotonic(), _TOGETHER)
                if cast.passes != before:
                    sending.begins = datagrams.sequence
                    sending.tell()
                if found:
                    await self._paced(sending.segment, sum(b - a for a, b in found) * BLOCK)
                    await self._send(sock, datagrams.of(found))
                if found and cast.phase is Phase.COLLECTING:
                    end = datagrams.end()
                    for _ in range(_MARKS):
                        await self._send(sock, end)
                if cast.over:
                    sending.tell()
                wait = max(0.0, cast.deadline - clock.monotonic())
                if cast.phase is Phase.SENDING:
                    await clock.sleep(wait)
                elif not cast.over:
                    with suppress(TimeoutError):
                        await asyncio.wait_for(sending.asked.wait(), min(wait, _LOOK))
        except (OSError, EOFError) as error:
            _log.warning("%s is no longer sent to many: %s", sending.path, error)
        finally:
            self._end(sending)
            sock.close()

    def _end(self, sending: _Sending) -> None:
        cast, clock = sending.transmission, self._shared.clock
        cast.end()
        if self._running.get(sending.place.number) is sending:
            del self._running[sending.place.number]
        os.close(sending.descriptor)
        sending.tell()
        for peer, listener in sending.listeners.items():
            if peer in sending.waiting:
                continue
            if self._of_peer.get(peer) is sending:
                del self._of_peer[peer]
            who, reason = listener.moving.who, "it did not say any more what it has"
            self._shared.emit(FileAborted(who, sending.path, OVER, reason, Abort.SILENT))
        if cast.sent:
            seconds = clock.monotonic() - sending.began
            size, sent = sending.place.size, cast.sent * BLOCK
            told = SentToAll(Who(), sending.path, size, sent, cast.most, cast.passes, seconds)
            self._shared.emit(told)

    def _wait_for_others(self, sending: _Sending) -> None:
        """Those that have got a kernel or an initrd from beside the file will want it soon."""
        now = self._shared.clock.monotonic()
        coming = self._coming.get(_folder(sending.path), {})
        if sending.transmission.phase is Phase.GATHERING and any(
            now - at < _COMING for who, at in coming.items() if who not in self._of_peer
        ):
            sending.transmission.wait(now)

    def _sent(self, event: FileSent) -> None:
        if event.kind not in (FileKind.KERNEL, FileKind.INITRD) or event.who.name is None:
            return
        now = self._shared.clock.monotonic()
        coming = self._coming.setdefault(_folder(event.path), {})
        coming[str(event.who.address)] = now
        for who, at in list(coming.items()):
            if now - at > _COMING:
                del coming[who]

    async def _paced(self, segment: str, size: int) -> None:
        bandwidth, clock = self._shared.bandwidth.get(segment), self._shared.clock
        if bandwidth:
            await clock.sleep(bandwidth.wait(size, clock.monotonic()))

    async def _send(self, sock: socket.socket, data: memoryview) -> None:
        while True:
            try:
                return self._sender.send(sock, data, HEAD + BLOCK)
            except OSError as error:
                if error.errno not in _FULL:
                    raise
                await self._shared.clock.sleep(_WAIT)

    def _hear_reports(self, server: IPv4Address) -> None:
        if server not in self._reports:
            wire = self._shared.wire
            sock = udp(wire.outside(server), wire.ports.multicast, roomy=True)
            self._reports[server] = sock
            asyncio.get_running_loop().add_reader(sock, self._heard, sock, server)

    def _heard(self, sock: socket.socket, server: IPv4Address) -> None:
        for _ in range(_BATCH):
            try:
                data, peer = sock.recvfrom(_LARGEST_REPORT)
            except OSError:
                return
            try:
                report = Report.parse(data)
            except MalformedError as error:
                self._shared.malformed("multicast", str(error))
                continue
            if sending := self._running.get(report.transmission):
                who = str(self._shared.wire.inside(server, peer[0]))
                now = self._shared.clock.monotonic()
                sending.transmission.report(who, report, now)

    def close(self) -> None:
        """End all of them."""
        for task in self._tasks:
            task.cancel()
        for sock in self._reports.values():
            asyncio.get_running_loop().remove_reader(sock)
            sock.close()


def _folder(path: str) -> str:
    return path.rpartition("/")[0]


class _Datagrams:
    """Blocks of a file behind their heads, as one piece that the kernel cuts."""

    def __init__(self, place: Place, descriptor: int) -> None:
        self._place, self._descriptor = place, descriptor
        self._whole = memoryview(bytearray(_TOGETHER * (HEAD + BLOCK)))
        starts = range(0, len(self._whole), HEAD + BLOCK)
        self._heads = [self._whole[at : at + HEAD] for at in starts]
        self._bodies = [self._whole[at + HEAD : at + HEAD + BLOCK] for at in starts]
        self.sequence, self._ahead = 0, 0

    def of(self, blocks: list[Range]) -> memoryview:
        """At most as many as are sent together. Raises EOFError when the file has become
        shorter."""
        count = got = 0
        for first, behind in blocks:
            self._read_ahead(first * BLOCK)
            for number in range(first, behind):
                write_head(self._heads[count], self._place.number, number, self.sequence)
                self.sequence += 1
                count += 1
            pieces = self._bodies[count - (behind - first) : count]
            wanted = min(behind * BLOCK, self._place.size) - first * BLOCK
            if os.preadv(self._descriptor, pieces, first * BLOCK) < wanted:
                raise EOFError("the file has become shorter")
            got += wanted
        return self._whole[: count * HEAD + got]

    def end(self) -> memoryview:
        """The mark that a pass is over."""
        write_head(self._heads[0], self._place.number, END, self.sequence)
        self.sequence += 1
        return self._heads[0]

    def _read_ahead(self, at: int) -> None:
        """Nothing waits for the disk, as far as the kernel can help it."""
        if at >= self._ahead or at + 2 * _AHEAD < self._ahead:
            os.posix_fadvise(self._descriptor, at, 2 * _AHEAD, os.POSIX_FADV_WILLNEED)
            self._ahead = at + _AHEAD


def rest_of(opened: Opened, missing: int) -> Iterator[list[tuple[int, int]]]:
    """Where the missing blocks are: offsets and lengths that are read together."""
    found, size = list[tuple[int, int]](), 0
    for first, behind in ranges(missing):
        at, end = first * BLOCK, min(behind * BLOCK, opened.size)
        while at < end:
            length = min(end - at, _PIECE - size)
            found.append((at, length))
            at, size = at + length, size + length
            if size == _PIECE:
                yield found
                found, size = [], 0
    if found:
        yield found


def read_all(opened: Opened, places: list[tuple[int, int]]) -> bytes:
    """Raises EOFError when the file has become shorter."""
    found = b"".join(opened.read(at, length) for at, length in places)
    if len(found) < sum(length for _, length in places):
        raise EOFError("the file has become shorter")
    return found
