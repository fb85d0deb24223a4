"""The process that serves NFS connections: it is handed them, and told who may have what.

It is told by the server through a channel, and asks it who may mount what. It ends with it.
"""

from __future__ import annotations

import asyncio
import errno
import logging
import os
import socket
import traceback
from collections.abc import Callable, Mapping
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

from daskel.core.history.events import MountRefusal, Trouble
from daskel.core.nbd.handshake import Export as BlockExport
from daskel.core.nfs import mount
from daskel.core.nfs.handle import export_of
from daskel.core.nfs.nfs3 import NfsError, Status
from daskel.core.nfs.replays import Replays
from daskel.core.nfs.rpc import Call
from daskel.core.nfs.xdr import pack_u32
from daskel.service.clock import SYSTEM, Clock
from daskel.service.loop import run
from daskel.service.nbd.stream import BlockStream, Opened
from daskel.service.nfs.channel import receive, send
from daskel.service.nfs.connection import Stream
from daskel.service.nfs.kept import Room
from daskel.service.nfs.messages import (
    AskBlock,
    AskBlocks,
    AskMount,
    AskPaths,
    Begin,
    BlockHere,
    BlockNames,
    BlockNot,
    CloseConnection,
    CloseExport,
    Connection,
    Done,
    ExportAt,
    FindFile,
    Gone,
    Grant,
    InTrouble,
    MalformedCall,
    Message,
    MountHere,
    MountNot,
    NoFolder,
    NotServed,
    OpenFile,
    OpenTree,
    Paths,
    Warned,
)
from daskel.system.nfs.export import Export
from daskel.system.nfs.openfiles import OpenFiles
from daskel.system.nfs.writable import WritableExport
from daskel.system.roots.usage import Usage

_TROUBLES = {
    Status.NOSPC: Trouble.FULL, Status.DQUOT: Trouble.FULL, Status.STALE: Trouble.STALE,
}  # fmt: skip
_SAY_AGAIN, _MOST_SAID = 60.0, 10_000  # seconds
_SWEEP = 5.0  # seconds
_COUNT_AGAIN = 2.0  # seconds between two counts of what a slate takes


class Worker:
    """Serves connections that it is handed, as the server grants."""

    def __init__(
        self, channel: socket.socket, keeper: socket.socket, clock: Clock = SYSTEM
    ) -> None:
        self._clock = clock
        self._channel, self._keeper, self._files = channel, keeper, OpenFiles()
        self._key = b""
        self._exports: dict[bytes, Export] = {}
        self._grants: dict[str, frozenset[bytes]] = {}  # by a client's address
        self._later: dict[str, frozenset[bytes]] = {}  # the same, of what cannot be had yet
        self._any_port: dict[str, frozenset[bytes]] = {}  # and of what every program may have
        self._streams: dict[int, Stream | BlockStream] = {}
        self._replays, self._room = Replays(), Room()
        self._asked: dict[int, asyncio.Future[Message]] = {}
        self._number = 0
        self._said: dict[Message, float] = {}  # when the server was told of a trouble
        self._ended: asyncio.Event | None = None

    async def run(self) -> None:
        """Until the server has gone."""
        self._ended = asyncio.Event()
        loop = asyncio.get_running_loop()
        self._channel.setblocking(False)
        loop.add_reader(self._channel, self._told)
        tasks = [asyncio.create_task(work) for work in (self._count(), self._sweep())]
        await self._ended.wait()
        for task in tasks:
            task.cancel()

    def _told(self) -> None:
        while True:
            try:
                received = receive(self._channel)
            except BlockingIOError:
                return
            if received is None:
                assert self._ended
                self._ended.set()
                asyncio.get_running_loop().remove_reader(self._channel)
                return
            (message, number), descriptors = received
            if handler := _HANDLERS.get(type(message)):
                handler(self, message, number, descriptors)
            elif (waiting := self._asked.pop(number, None)) and not waiting.done():
                waiting.set_result(message)

    # --- what the server says ---

    def begin(self, told: Begin, _: int, __: list[int]) -> None:
        """The key of all handles."""
        self._key = told.key

    def connection(self, told: Connection, _: int, descriptors: list[int]) -> None:
        """A client's connection, and what it may have."""
        peer = told.peer
        self.grant(told.grant, 0, [])
        sock = socket.socket(fileno=descriptors[0])
        if told.blocks:
            self._streams[told.number] = BlockStream(
                sock, peer, told.number, partial(self._block_names, peer),
                partial(self._block, peer, told.number), partial(self._malformed, service="nbd"),
                self._gone,
            )  # fmt: skip
            return
        stream = Stream(
            sock, peer, told.number, partial(self._find, peer, told.reserved),
            partial(self._mounting, told.reserved), self._replays,
            self._malformed, self._failed, self._refused, self._gone, self._room,
        )  # fmt: skip
        self._streams[told.number] = stream
        if self._grants.get(peer) or self._later.get(peer):
            stream.trust()

    def grant(self, told: Grant, _: int, __: list[int]) -> None:
        """The exports that a client may have from now on, and where they are."""
        for export in told.exports:
            self._open(export)
        self._grants[told.peer] = frozenset(export.number for export in told.exports)
        self._later[told.peer] = frozenset(told.later)
        self._any_port[told.peer] = frozenset(told.any_port)
        for stream in [s for s in self._streams.values() if s.peer == told.peer]:
            self._forget(stream)
            if told.exports or told.later:
                stream.trust()

    def drop(self, told: CloseConnection, _: int, __: list[int]) -> None:
        """A connection gives way to others."""
        if stream := self._streams.get(told.number):
            stream.close()

    def close(self, told: CloseExport, number: int, _: list[int]) -> None:
        """An export is about to be taken away."""
        self._close(told.number)
        self._tell(Done(), number)

    def _close(self, number: bytes) -> None:
        """Nothing that was answered of an export is answered again."""
        if export := self._exports.pop(number, None):
            export.close()
            for stream in self._streams.values():
                self._forget(stream)

    @staticmethod
    def _forget(stream: Stream | BlockStream) -> None:
        if isinstance(stream, Stream):
            stream.forget()

    def _open(self, export: ExportAt) -> None:
        """Open what is not open; anew when another folder has taken its place."""
        number, writable = export.number, export.upper is not None
        known = self._exports.get(number)
        try:
            if known and known.is_at(Path(export.folder)):
                return
            self._close(number)
            top = self._top(export.folder, writable)
            if export.upper is None:
                self._exports[number] = Export(number, top, self._key, self._files)
                return
            usage = None if export.limit is None else Usage(export.limit, Path(export.upper))
            self._exports[number] = WritableExport(
                number, top, self._key, self._files, self._help, usage
            )
        except OSError as error:
            logging.warning("%s cannot be opened: %s", export.folder, error.strerror)

    def _top(self, folder: str, writable: bool) -> int:
        """The folder as a mount of its own; just the folder where nobody may mount."""
        answer = self._ask_keeper(OpenTree(folder, writable))
        return answer[0] if answer else os.open(folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)

    def _help(self, top: int, body: bytes) -> int:
        """The keeper has the privilege to find a file anew on an overlay."""
        answer = self._ask_keeper(FindFile(body), top)
        if not answer:
            raise OSError(errno.ESTALE, "no such file any more")
        return answer[0]

    def _ask_keeper(self, question: Message, *descriptors: int) -> list[int]:
        with suppress(OSError):
            send(self._keeper, question, descriptors=descriptors)
        answer = receive(self._keeper)
        if answer is None:
            os._exit(1)  # without it, files that are there would be said to be gone
        return answer[1]

    # --- what clients ask ---

    def _find(self, peer: str, reserved: bool, handle: bytes) -> Export:
        number, later = export_of(handle), self._later.get(peer)
        if later and number in later:
            raise NfsError(Status.JUKEBOX)
        export = self._exports.get(number)
        if export is None:
            raise NfsError(Status.STALE)
        if number not in self._grants.get(peer, ()):
            raise NfsError(Status.ACCES)
        if not reserved and number not in self._any_port.get(peer, ()):
            raise NfsError(Status.ACCES)
        return export

    async def _block_names(self, peer: str) -> tuple[str, ...]:
        answer = await self._ask(AskBlocks(peer))
        return answer.names if isinstance(answer, BlockNames) else ()

    async def _block(self, peer: str, number: int, name: str) -> Opened | str:
        """A block device for a client, or the reason for refusing it."""
        answer = await self._ask(AskBlock(peer, number, name))
        if not isinstance(answer, BlockHere):
            return answer.reason if isinstance(answer, BlockNot) else "it is not there"
        found = self._ask_keeper(OpenFile(answer.path, answer.writable))
        if not found:
            return f"{name} is not there: the version has no image"
        size = os.fstat(found[0]).st_size
        return Opened(BlockExport(size, answer.writable, answer.description), found[0])

    async def _mounting(self, reserved: bool, peer: str, call: Call) -> bytes | None:
        if call.procedure == mount.Procedure.MOUNT:
            path = mount.parse_path(call.arguments)
            return self._mounted(await self._ask(AskMount(peer, path, reserved)))
        if call.procedure == mount.Procedure.EXPORT:
            answer = await self._ask(AskPaths(peer))
            return mount.exports(list(answer.paths) if isinstance(answer, Paths) else [])
        if call.procedure == mount.Procedure.DUMP:
            return pack_u32(0)
        known = call.procedure in list(mount.Procedure)
        return b"" if known else None  # NULL, UNMOUNT, UNMOUNT_ALL: nothing is kept

    def _mounted(self, answer: Message) -> bytes:
        if not isinstance(answer, MountHere):
            code = answer.status if isinstance(answer, MountNot) else mount.Status.ACCESS
            return mount.refused(mount.Status(code))
        export = self._exports.get(answer.number)
        try:
            if export is None:
                raise NfsError(Status.STALE)
            return mount.mounted(export.find(answer.below))
        except NfsError:
            self._tell(NoFolder(answer.peer, answer.root, answer.below))
            return mount.refused(mount.Status.NOT_FOUND)

    async def _ask(self, question: Message) -> Message:
        self._number += 1
        waiting = asyncio.get_running_loop().create_future()
        self._asked[self._number] = waiting
        self._tell(question, self._number)
        answer: Message = await waiting
        return answer

    def _malformed(self, reason: str, service: str = "nfs") -> None:
        self._tell(MalformedCall(reason, service))

    def _failed(self, peer: str, status: Status) -> None:
        """Errors that a person will have to look into; said once a minute."""
        if status in _TROUBLES:
            self._say(InTrouble(peer, _TROUBLES[status]))

    def _refused(self, peer: str, reason: str) -> None:
        self._say(NotServed(peer, reason, MountRefusal.VERSION))

    def _say(self, told: Message) -> None:
        """The same once a minute."""
        now = self._clock.monotonic()
        if now - self._said.get(told, float("-inf")) < _SAY_AGAIN:
            return
        if len(self._said) > _MOST_SAID:
            self._said.clear()
        self._said[told] = now
        self._tell(told)

    def _gone(self, stream: Stream | BlockStream) -> None:
        self._streams.pop(stream.number, None)
        self._tell(Gone(stream.peer, stream.number))
        if all(stream.peer != other.peer for other in self._streams.values()):
            for known in (self._grants, self._later, self._any_port):
                known.pop(stream.peer, None)

    def warn(self, text: str) -> None:
        """A line for the server's log."""
        self._tell(Warned(text))

    def _tell(self, message: Message, number: int = 0) -> None:
        with suppress(OSError):  # the server has gone, or is far behind: clients ask again
            send(self._channel, message, number)

    async def _sweep(self) -> None:
        """Close connections that only take room."""
        loop = asyncio.get_running_loop()
        while True:
            await self._clock.sleep(_SWEEP)
            for stream in list(self._streams.values()):
                stream.tick(loop.time())

    async def _count(self) -> None:
        """Count anew what slates take that were written to."""
        loop, pause = asyncio.get_running_loop(), _COUNT_AGAIN
        while True:
            await self._clock.sleep(pause)
            began = self._clock.monotonic()
            for export in list(self._exports.values()):
                usage = export.usage if isinstance(export, WritableExport) else None
                if usage and usage.changed:
                    await loop.run_in_executor(None, usage.count)
            pause = max(_COUNT_AGAIN, 10 * (self._clock.monotonic() - began))


_HANDLERS: Mapping[type[Message], Callable[[Worker, Any, int, list[int]], None]] = {
    Begin: Worker.begin,
    Connection: Worker.connection,
    Grant: Worker.grant,
    CloseExport: Worker.close,
    CloseConnection: Worker.drop,
}


def serve(channel: socket.socket, keeper: socket.socket) -> None:
    """Ends the process when the server has gone, also when a disk is still being waited for."""
    worker = Worker(channel, keeper)
    logging.basicConfig(handlers=[_Handler(worker)], level=logging.WARNING, force=True)
    run(worker.run())
    os._exit(0)


class _Handler(logging.Handler):
    """Warnings go into the server's log."""

    def __init__(self, worker: Worker) -> None:
        super().__init__()
        self._worker = worker

    def emit(self, record: logging.LogRecord) -> None:
        trace = ""
        if record.exc_info and record.exc_info[1]:
            error = record.exc_info[1]
            frame = traceback.extract_tb(error.__traceback__)[-1]
            trace = f" ({error!r} at {Path(frame.filename).name}:{frame.lineno})"
        self._worker.warn(record.getMessage() + trace)
