"""One client's NBD connection: the handshake, then requests, carried out in their order.

Replies of many bytes are sent from the file by the kernel (sendfile), data to be written are
written as they come: a connection needs little memory however much a client asks for.
"""

from __future__ import annotations

import asyncio
import errno
import logging
import os
import socket
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass

from daskel.core.nbd.handshake import AskExport, AskNames, Export, Handshake, Phase, Question
from daskel.core.nbd.numbers import Command, Errno, Flag
from daskel.core.nbd.requests import HEAD, Request, data_head, done, parse, refusal
from daskel.core.reader import MalformedError
from daskel.system.host.libc import punch_hole

_CHUNK = 256 << 10  # bytes read at once
_SENT_BY_KERNEL = 64 << 10  # bytes of a READ from which on the kernel sends them
_WAITING = 1 << 20  # bytes of replies in memory, above which no more requests are taken
_MOST_WAITING = 1024  # replies, the same
_PIECES = 512  # buffers sent at once: sendmsg(2) takes 1,024
_TURN = 64  # requests, until other connections have their turn
_PIECE = 1 << 20  # bytes that are read, or made zero, at once
_FOR_HANDSHAKE = 30.0  # seconds
_log = logging.getLogger(__name__)
_ERRNOS = {errno.ENOSPC: Errno.NOSPC, errno.EDQUOT: Errno.NOSPC, errno.EPERM: Errno.PERM}


@dataclass(slots=True)
class Opened:
    """An export, and the descriptor of its file, which is the stream's."""

    export: Export
    descriptor: int


Names = Callable[[], Awaitable[Sequence[str]]]
Find = Callable[[str], Awaitable[Opened | str]]


class BlockStream:
    """`names` and `find` say what this client may have (for one that may not: why), `malformed` is
    told what could not be read, `ended` when the connection is gone. `number` is what the server
    calls it by."""

    def __init__(
        self, sock: socket.socket, peer: str, number: int, names: Names, find: Find,
        malformed: Callable[[str], None], ended: Callable[[BlockStream], None],
    ) -> None:  # fmt: skip
        self.peer, self.number = peer, number
        self._sock, self._names, self._find = sock, names, find
        self._malformed, self._ended = malformed, ended
        self._loop = asyncio.get_running_loop()
        self._began = self._loop.time()
        self._handshake: Handshake | None = Handshake()
        self._opened: Opened | None = None
        self._structured = False
        self._in = bytearray()
        self._out: deque[bytes | tuple[int, int]] = deque()  # bytes, or offset and length
        self._size = 0  # bytes in `_out`
        self._writing: tuple[Request, int, Errno | None] | None = None  # and bytes that came
        self._asked: asyncio.Task[None] | None = None  # what the requests behind it wait for
        self._reads = self._writes = False  # what the loop looks for
        self._turn: asyncio.Handle | None = None
        sock.setblocking(False)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        for option, seconds in (("KEEPIDLE", 20), ("KEEPINTVL", 10), ("KEEPCNT", 3)):
            sock.setsockopt(socket.IPPROTO_TCP, getattr(socket, f"TCP_{option}"), seconds)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        self._put(self._handshake.out)
        self._handshake.out = b""
        self._look_for(reads=True)
        self._send()

    def close(self) -> None:
        """End the connection."""
        if self._sock.fileno() < 0:
            return
        self._loop.remove_reader(self._sock)
        self._loop.remove_writer(self._sock)
        self._sock.close()
        for waiting in (self._asked, self._turn):
            if waiting:
                waiting.cancel()
        if self._opened:
            os.close(self._opened.descriptor)
            self._opened = None
        self._ended(self)

    def trust(self) -> None:
        """Who may have something; a handshake asks for it by name."""

    def tick(self, now: float) -> None:
        """A handshake that takes too long ends."""
        if self._handshake and now - self._began > _FOR_HANDSHAKE:
            self.close()

    # --- what comes in ---

    def _readable(self) -> None:
        try:
            data = self._sock.recv(_CHUNK)
        except (BlockingIOError, InterruptedError):
            return None
        except OSError:
            return self.close()
        if not data:
            return self.close()
        self._in += data
        return self._go_on()

    def _go_on(self) -> None:
        """Whatever can be done with the bytes that are there."""
        self._turn = None
        if self._sock.fileno() < 0 or self._asked:
            return None
        try:
            if self._handshake:
                self._shake()
            if not self._handshake:
                self._requests()
        except MalformedError as error:
            self._malformed(str(error))
            return self.close()
        stopped = self._full()
        self._send()
        if stopped and not self._full() and self._turn is None:
            self._turn = self._loop.call_soon(self._go_on)
        return None

    def _shake(self) -> None:
        assert self._handshake
        data, self._in = bytes(self._in), bytearray()
        self._answer(self._handshake.receive(data))

    def _answer(self, question: Question | None) -> None:
        handshake = self._handshake
        assert handshake
        self._put(handshake.out)
        handshake.out = b""
        if question is not None:
            self._later(self._look_up(handshake, question))
        elif handshake.phase is Phase.DONE:
            self._structured, self._in = handshake.structured, bytearray(handshake.rest)
            self._handshake = None
        elif handshake.phase is Phase.ENDED:
            self._send()
            self.close()

    async def _look_up(self, handshake: Handshake, question: Question) -> None:
        if isinstance(question, AskNames):
            self._answer_later(handshake.names(await self._names()))
            return
        assert isinstance(question, AskExport)
        found = await self._find(question.name)
        if isinstance(found, str):
            self._answer_later(handshake.export(None, found))
            return
        if self._sock.fileno() < 0:
            os.close(found.descriptor)
            return
        if self._opened:  # INFO before GO
            os.close(self._opened.descriptor)
        self._opened = found
        self._answer_later(handshake.export(found.export))

    def _answer_later(self, question: Question | None) -> None:
        """In a task of its own, which must have ended before the next one begins."""
        self._asked = None
        self._answer(question)

    def _later(self, work: Awaitable[None]) -> None:
        """The requests behind it wait for it."""

        async def whole() -> None:
            try:
                await work
            except MalformedError as error:
                self._malformed(str(error))
                return self.close()
            except Exception:  # noqa: BLE001 - a fault of ours ends this connection alone
                _log.exception("a connection of %s ends", self.peer)
                return self.close()
            if self._asked is task:
                self._asked = None
            if self._asked is None and self._sock.fileno() >= 0:
                self._look_for(reads=True)
                self._go_on()
            return None

        self._look_for(reads=False)
        task = self._loop.create_task(whole())
        self._asked = task

    def _requests(self) -> None:
        at, turn = 0, 0
        data, opened = self._in, self._opened
        assert opened
        while self._asked is None and not self._full() and self._sock.fileno() >= 0:
            if self._writing:
                at = self._take_data(at)
                if self._writing:
                    break
                continue
            if len(data) - at < HEAD.size:
                break
            if turn == _TURN:
                self._turn = self._loop.call_soon(self._go_on)
                break
            turn += 1
            request = parse(data, at)
            at += HEAD.size
            if request.command == Command.DISCONNECT:
                return self.close()
            error = refusal(request, opened.export)
            if request.data:
                self._writing = (request, 0, error)
            elif error:
                self._reply(request, error)
            else:
                self._carry_out(request, opened)
        del data[:at]
        return None

    def _full(self) -> bool:
        return self._size > _WAITING or len(self._out) > _MOST_WAITING

    def _take_data(self, at: int) -> int:
        """What came of a WRITE's data goes to the disk; where the rest begins."""
        assert self._writing and self._opened
        request, came, error = self._writing
        count = min(len(self._in) - at, request.length - came)
        if count and error is None:
            piece = memoryview(self._in)[at : at + count]
            try:
                error = self._write(piece, request.offset + came)
            finally:
                piece.release()
        came += count
        self._writing = (request, came, error)
        if came == request.length:
            self._writing = None
            self._finish(request, error)
        return at + count

    def _write(self, piece: memoryview, offset: int) -> Errno | None:
        assert self._opened
        try:
            while piece:
                count = os.pwrite(self._opened.descriptor, piece, offset)
                piece, offset = piece[count:], offset + count
        except OSError as error:
            return _ERRNOS.get(error.errno or 0, Errno.IO)
        return None

    # --- what is done ---

    def _carry_out(self, request: Request, opened: Opened) -> None:
        command = Command(request.command)
        if command is Command.READ:
            self._read(request, opened)
        elif command is Command.FLUSH:
            self._finish(request, None, flush=opened.export.writable)
        elif command in (Command.TRIM, Command.WRITE_ZEROES):
            hole = command is Command.TRIM or not request.flags & Flag.NO_HOLE
            self._later(self._zero(request, opened, hole=hole))

    def _read(self, request: Request, opened: Opened) -> None:
        if request.length < _SENT_BY_KERNEL:
            try:
                data = os.pread(opened.descriptor, request.length, request.offset)
            except OSError as error:
                return self._reply(request, _ERRNOS.get(error.errno or 0, Errno.IO))
            if len(data) < request.length:
                return self._reply(request, Errno.IO)
            return self._put(data_head(request, structured=self._structured) + data)
        self._put(data_head(request, structured=self._structured))
        self._out.append((request.offset, request.length))
        return None

    async def _zero(self, request: Request, opened: Opened, *, hole: bool) -> None:
        """Off the loop: a large one takes its time."""
        error = await self._loop.run_in_executor(
            None, _zeroes, opened.descriptor, request.offset, request.length, hole
        )
        if self._sock.fileno() >= 0:
            self._asked = None
            self._finish(request, error)

    def _finish(self, request: Request, error: Errno | None, *, flush: bool = False) -> None:
        """Reply when it is on the disk, where that is asked for."""
        if error is None and (flush or request.flags & Flag.FUA) and self._opened:
            self._later(self._flush(request, self._opened))
        else:
            self._reply(request, error)

    async def _flush(self, request: Request, opened: Opened) -> None:
        error = await self._loop.run_in_executor(None, _sync, opened.descriptor)
        if self._sock.fileno() >= 0:
            self._reply(request, error)

    # --- what goes out ---

    def _reply(self, request: Request, error: Errno | None) -> None:
        self._put(done(request.cookie, structured=self._structured, error=error))

    def _put(self, data: bytes) -> None:
        if data:
            self._out.append(data)
            self._size += len(data)

    def _writable(self) -> None:
        self._send()
        if self._sock.fileno() >= 0 and not self._full() and self._asked is None:
            self._look_for(reads=True)
            self._go_on()

    def _send(self) -> None:
        if self._sock.fileno() < 0:
            return None
        try:
            while self._out:
                if isinstance(self._out[0], tuple):
                    if not self._send_file(*self._out[0]):
                        return self.close()
                else:
                    self._send_bytes()
        except (BlockingIOError, InterruptedError):
            self._look_for(reads=not self._full() and self._asked is None, writes=True)
            return None
        except OSError:
            return self.close()
        self._look_for(reads=self._asked is None, writes=False)
        return None

    def _send_file(self, offset: int, length: int) -> bool:
        """False when the file has become shorter."""
        assert self._opened
        count = os.sendfile(self._sock.fileno(), self._opened.descriptor, offset, length)
        if count == length:
            self._out.popleft()
        else:
            self._out[0] = (offset + count, length - count)
        return count > 0

    def _send_bytes(self) -> None:
        batch: list[bytes] = []
        more = 0
        for item in self._out:
            if isinstance(item, tuple):
                more = socket.MSG_MORE
                break
            batch.append(item)
            if len(batch) == _PIECES:
                break
        count = self._sock.sendmsg(batch, (), more)
        self._size -= count
        while count:
            first = self._out[0]
            assert isinstance(first, bytes)
            if count < len(first):
                self._out[0] = first[count:]
                break
            count -= len(first)
            self._out.popleft()

    def _look_for(self, *, reads: bool, writes: bool | None = None) -> None:
        if reads != self._reads:
            self._reads = reads
            if reads:
                self._loop.add_reader(self._sock, self._readable)
            else:
                self._loop.remove_reader(self._sock)
        if writes is not None and writes != self._writes:
            self._writes = writes
            if writes:
                self._loop.add_writer(self._sock, self._writable)
            else:
                self._loop.remove_writer(self._sock)


def _zeroes(descriptor: int, offset: int, length: int, hole: bool) -> Errno | None:
    """Make a hole where the file system can, else write zeroes."""
    try:
        if hole:
            try:
                punch_hole(descriptor, offset, length)
            except OSError as error:
                if error.errno != errno.EOPNOTSUPP:
                    raise
            else:
                return None
        while length:
            count = os.pwrite(descriptor, bytes(min(length, _PIECE)), offset)
            offset, length = offset + count, length - count
    except OSError as error:
        return _ERRNOS.get(error.errno or 0, Errno.IO)
    return None


def _sync(descriptor: int) -> Errno | None:
    try:
        os.fdatasync(descriptor)
    except OSError as error:
        return _ERRNOS.get(error.errno or 0, Errno.IO)
    return None
