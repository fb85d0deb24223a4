"""One client's TCP connection to NFS: records in, calls carried out, replies out in batches."""

from __future__ import annotations

import asyncio
import logging
import os
import socket
from collections import deque
from collections.abc import Awaitable, Callable
from functools import partial

from daskel.core.nfs import mount, nfs3
from daskel.core.nfs.nfs3 import NfsError, Status
from daskel.core.nfs.replays import REPEATABLE, Replays
from daskel.core.nfs.rpc import (
    RECORD_LIMIT,
    BadCredentialsError,
    Call,
    Records,
    Refusal,
    mark,
    marked_success,
    parse_call,
    refuse,
    success,
)
from daskel.core.reader import MalformedError
from daskel.service.nfs.kept import LONGEST, Kept, Room
from daskel.service.nfs.procedures import FileData, Find, WhenOnDisk, carry_out

_CHUNK = 256 << 10  # bytes read at once
_PIECES = 512  # buffers sent at once: sendmsg(2) takes 1,024
_JOINED = 64 << 10  # bytes of replies that are copied together, which is sooner done
_WAITING = 8 << 20  # bytes of replies, above which no more calls are taken
_TURN, _TURN_TIME = 64, 0.01  # calls and seconds, until other connections have their turn
_STRANGER = 4096  # bytes of a call, and read at once, of who may have nothing
_STRANGERS_REPLIES = 16 << 10  # bytes, like _WAITING
_MOST_LATER = 256  # calls that wait for a disk or for the server
_UNFINISHED, _STRANGERS_TIME = 30.0, 60.0  # seconds for a record; for who may have nothing
_VERSIONS = {nfs3.PROGRAM: nfs3.VERSION, mount.PROGRAM: mount.VERSION}
_log = logging.getLogger(__name__)

Mounting = Callable[[str, Call], Awaitable[bytes | None]]


class Stream:
    """`find` gives the export of a handle to those who may have it; `mounting` answers the calls
    of MOUNT; `malformed` is told what could not be read, `failed` of NFS errors, `refused` of a
    version that is not served; `ended` when the connection is gone. `number` is what the server
    calls it by; `room` is for what may be answered again."""

    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self, sock: socket.socket, peer: str, number: int, find: Find, mounting: Mounting,
        replays: Replays,
        malformed: Callable[[str], None], failed: Callable[[str, Status], None],
        refused: Callable[[str, str], None], ended: Callable[[Stream], None], room: Room,
    ) -> None:  # fmt: skip
        self.peer, self.number = peer, number
        self._sock, self._find, self._mounting, self._replays = sock, find, mounting, replays
        self._malformed, self._refused, self._ended = malformed, refused, ended
        self._failed = partial(failed, peer)
        self._loop = asyncio.get_running_loop()
        self._records = Records(_STRANGER)
        self._most = _STRANGERS_REPLIES  # bytes in `_out`, above which no more calls are taken
        self._todo: deque[bytes] = deque()  # calls that wait for their turn
        self._began: float | None = None  # when a record began that is not whole yet
        self._since = self._loop.time()
        self._kept = Kept(room)
        self._out: deque[bytes | FileData] = deque()
        self._size = 0  # bytes in it
        self._reading = self._writing = False
        self._turn: asyncio.Handle | None = None  # when it goes on with calls that wait
        self._later: set[asyncio.Task[None]] = set()
        sock.setblocking(False)
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        self._read(True)

    def close(self) -> None:
        """End the connection."""
        if self._sock.fileno() < 0:
            return
        self._read(False)
        self._write(False)
        for task in self._later:
            task.cancel()
        self._todo.clear()
        self._kept.clear()
        while self._out:
            self._done(self._out.popleft())
        self._sock.close()
        self._ended(self)

    # --- in ---

    def _read(self, wanted: bool) -> None:
        if wanted != self._reading:
            self._reading = wanted
            if wanted:
                self._loop.add_reader(self._sock, self._readable)
            else:
                self._loop.remove_reader(self._sock)

    def _readable(self) -> None:
        try:
            data = self._sock.recv(_CHUNK if self._records.limit == RECORD_LIMIT else _STRANGER)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self.close()
            return
        try:
            self._todo += self._records.feed(data)
        except MalformedError as error:
            self._malformed(str(error))
            self.close()
            return
        self._work()

    def trust(self) -> None:
        """Its machine may have an export: its calls may be large."""
        self._records.limit, self._most = RECORD_LIMIT, _WAITING

    def forget(self) -> None:
        """What its machine may have changes, or an export does."""
        self._kept.clear()

    def tick(self, now: float) -> None:
        """Close what does nothing but take room; `now` is the loop's time."""
        if not self._records.unfinished:
            self._began = None
        elif self._began is None:
            self._began = now
        trusted = self._records.limit == RECORD_LIMIT
        slow = self._began is not None and now - self._began > _UNFINISHED
        if slow or (not trusted and now - self._since > _STRANGERS_TIME):
            self.close()

    def _work(self) -> None:
        """Some calls, as far as replies have room; then others have their turn."""
        until, count = self._loop.time() + _TURN_TIME, min(len(self._todo), _TURN)
        corked = count > 1 and self._cork(True)
        try:
            for _ in range(count):
                if not self._has_room:
                    break
                record = self._todo.popleft()
                if not self._again(record):
                    self._take(record)
                if self._loop.time() > until:
                    break
        except MalformedError as error:
            self._malformed(str(error))
            self.close()
            return
        self._flush()
        if corked:
            self._cork(False)

    def _cork(self, on: bool) -> bool:
        """Several replies leave in as few packets as they need (tcp(7))."""
        if self._sock.fileno() < 0:
            return False
        self._sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_CORK, on)
        return True

    def _again(self, record: bytes) -> bool:
        """Whether the call was answered by the short way."""
        if len(record) > LONGEST:
            return False
        if not self._out and (part := self._kept.read(record)):
            self._send_part(*part)
            return True
        reply = self._kept.reply(record)
        if reply is None:
            return False
        self._append(reply)
        return True

    @property
    def _has_room(self) -> bool:
        return self._size < self._most and len(self._later) < _MOST_LATER

    def _go_on(self) -> None:
        self._turn = None
        if self._sock.fileno() >= 0:
            self._work()

    def _take(self, record: bytes) -> None:
        try:
            call = parse_call(record)
        except BadCredentialsError as error:
            self._malformed(str(error))
            self._reply(error.reply)
            return
        version = _VERSIONS.get(call.program)
        if version is None:
            self._reply(refuse(call.xid, Refusal.PROGRAM_UNAVAILABLE))
        elif call.version != version:
            what = "NFS" if call.program == nfs3.PROGRAM else "MOUNT"
            self._refused(self.peer, f"{what} version {call.version}: it is served in version 3")
            self._reply(refuse(call.xid, Refusal.PROGRAM_MISMATCH, (version, version)))
        elif call.program == mount.PROGRAM:
            self._begin(self._mount(call))
        elif call.procedure in REPEATABLE:
            self._carry_out(call, record)
        else:
            key, reply = self._replays.find(self.peer, record)
            if reply is None:
                reply = self._carry_out(call)
                if reply is not None:
                    self._replays.keep(self.peer, key, reply)
            else:
                self._append(reply)

    def _carry_out(self, call: Call, record: bytes = b"") -> bytes | None:
        """Reply to the call; the reply when it is one to remember. `record`: of one that may come
        again and is then answered the same, as long as that is right."""
        try:
            done = carry_out(call, self._find, self._failed)
        except MalformedError as error:
            self._malformed(str(error))
            done = refuse(call.xid, Refusal.GARBAGE_ARGUMENTS)
            return self._reply(done)
        except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("NFS procedure %d failed", call.procedure)
            return self._reply(refuse(call.xid, Refusal.SYSTEM_ERROR))
        if isinstance(done, bytes):
            reply = self._append(marked_success(call.xid, done))
            if record and len(record) <= LONGEST:
                self._keep(record, call, reply)
            return reply
        if done is None:
            return self._reply(refuse(call.xid, Refusal.PROCEDURE_UNAVAILABLE))
        if isinstance(done, tuple):
            self._send_pieces(call.xid, *done)
        elif isinstance(done, FileData):
            head = marked_success(call.xid, done.head, done.count + -done.count % 4)
            self._keep(record, call, head, done.count)
            self._send_part(head, done.descriptor, done.offset, done.count)
        else:
            self._begin(self._when_on_disk(call.xid, done, os.dup(done.descriptor)))
        return None

    async def _mount(self, call: Call) -> None:
        try:
            results = await self._mounting(self.peer, call)
        except MalformedError as error:
            self._malformed(str(error))
            reply = refuse(call.xid, Refusal.GARBAGE_ARGUMENTS)
        else:
            known = results is not None
            reply = (
                success(call.xid, results or b"")
                if known
                else refuse(call.xid, Refusal.PROCEDURE_UNAVAILABLE)
            )
        self._reply(reply)
        self._flush()

    async def _when_on_disk(self, xid: int, done: WhenOnDisk, descriptor: int) -> None:
        try:
            await self._loop.run_in_executor(None, os.fdatasync, descriptor)
            reply = success(xid, done.results)
        except OSError:
            _log.exception("a file could not be written to the disk")
            reply = refuse(xid, Refusal.SYSTEM_ERROR)
        finally:
            os.close(descriptor)
        self._reply(reply)
        self._flush()

    def _begin(self, work: Awaitable[None]) -> None:
        task = asyncio.ensure_future(work)
        self._later.add(task)
        task.add_done_callback(self._later.discard)

    # --- out ---

    def _reply(self, record: bytes) -> bytes:
        return self._append(mark(record))

    def _append(self, marked: bytes) -> bytes:
        """The record with its mark goes out; it is returned."""
        self._out.append(marked)
        self._size += len(marked)
        return marked

    def _send_pieces(self, xid: int, head: bytes, *rest: bytes) -> None:
        more = sum(map(len, rest))
        self._append(marked_success(xid, head, more))
        self._out.extend(piece for piece in rest if piece)
        self._size += more

    def _keep(self, record: bytes, call: Call, head: bytes, count: int | None = None) -> None:
        """`head`: the reply with its mark, or what of it goes before `count` bytes of a file."""
        try:
            if count is None:
                self._kept.keep(record, call.procedure, self._find, head)
            else:
                self._kept.keep_read(record, self._find, head, count)
        except NfsError:
            return

    def _send_part(self, head: bytes, descriptor: int, offset: int, count: int) -> None:
        """The head and a part of a file, which the kernel copies: what the socket takes at once,
        when nothing waits; the rest waits, with a descriptor of its own."""
        sent = 0
        if not self._out:
            try:
                head = head[self._sock.send(head, socket.MSG_MORE) :]
                if not head:
                    sent = os.sendfile(self._sock.fileno(), descriptor, offset, count)
            except OSError:
                pass  # a full socket; or a broken one, which is noticed when the rest is sent
        padding = bytes(-count % 4)
        if sent == count and not padding:
            return
        if head:
            self._append(head)
        if sent < count:
            self._out.append(FileData(b"", os.dup(descriptor), offset + sent, count - sent))
            self._size += count - sent
        if padding:
            self._append(padding)

    def _write(self, wanted: bool) -> None:
        if wanted != self._writing:
            self._writing = wanted
            if wanted:
                self._loop.add_writer(self._sock, self._flush)
            else:
                self._loop.remove_writer(self._sock)

    def _flush(self) -> None:
        """Send what the socket takes now; the rest when it takes more."""
        if self._sock.fileno() < 0:
            return
        try:
            while self._out:
                if not (self._send_file() if self._file_is_next() else self._send_bytes()):
                    break
        except OSError:
            self.close()
            return
        self._write(bool(self._out))
        has_room = self._has_room
        self._read(has_room and not self._todo)
        if has_room and self._todo and self._turn is None:
            self._turn = self._loop.call_soon(self._go_on)

    def _file_is_next(self) -> bool:
        return isinstance(self._out[0], FileData)

    def _send_bytes(self) -> bool:
        """Whether everything was sent but the data of files."""
        pieces: list[bytes] = []
        more = 0
        for piece in self._out:
            if isinstance(piece, FileData):
                more = socket.MSG_MORE
                break
            if len(pieces) == _PIECES:
                break
            pieces.append(piece)
        try:
            if len(pieces) > 1 and self._size < _JOINED:
                sent = self._sock.send(b"".join(pieces), more)
            else:
                sent = self._sock.sendmsg(pieces, (), more)
        except BlockingIOError:
            return False
        self._size -= sent
        for piece in pieces:
            if sent < len(piece):
                self._out[0] = piece[sent:]
                return False
            sent -= len(piece)
            self._out.popleft()
        return True

    def _send_file(self) -> bool:
        data = self._out[0]
        assert isinstance(data, FileData)
        try:
            sent = os.sendfile(self._sock.fileno(), data.descriptor, data.offset, data.count)
        except BlockingIOError:
            return False
        self._size -= sent
        if sent == 0:  # the file is shorter now: the reply was promised this long
            self._done(self._out.popleft())
            self._out.appendleft(bytes(data.count))
            return True
        if sent < data.count:
            rest = FileData(b"", data.descriptor, data.offset + sent, data.count - sent)
            self._out[0] = rest
            return False
        self._done(self._out.popleft())
        return True

    def _done(self, piece: bytes | FileData) -> None:
        if isinstance(piece, FileData):
            os.close(piece.descriptor)
