"""The process that mounts views, and others beside it: started, asked, and ended with the server.

What answers TFTP and HTTP cannot see roots and slates; this process can.
"""

from __future__ import annotations

import asyncio
import logging
import subprocess
import sys
from pathlib import Path
from typing import Any

from daskel.core.boot.arguments import slate_of
from daskel.core.history.events import Event, FileKind, FileSent, Seen
from daskel.service.nfs.channel import pair, receive
from daskel.service.nfs.messages import (
    BootBegins,
    CloseSlate,
    Failed,
    Message,
    Ready,
    SlateName,
    WipeSlate,
)
from daskel.service.nfs.questions import Channel
from daskel.service.shared import Shared
from daskel.system.host.privileges import FOR_ACCOUNT, FOR_SERVER, keep_only
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import hide

_log = logging.getLogger(__name__)


def taking(how: str) -> type[CloseSlate | WipeSlate]:
    """The question that closes a slate, or wipes it."""
    return WipeSlate if how == "wipe" else CloseSlate


def said(answer: Message) -> dict[str, object]:
    """An answer, for who asked through the control socket."""
    return {"error": answer.error} if isinstance(answer, Failed) else {}


class Keeping:
    """Raises MissingRequirementError when the processes do not start."""

    def __init__(
        self, shared: Shared, roots: Path, slates: Path, *words: str, workers: int = 0
    ) -> None:
        self._shared, self._roots, self._slates = shared, roots, slates
        ends = [pair() for _ in range(workers + 1)]
        theirs = [end.fileno() for _, end in ends]
        command = [sys.executable, "-m", "daskel.service.nfs.keeper", *words, *map(str, theirs)]
        try:
            self._process = subprocess.Popen(
                command, pass_fds=theirs, start_new_session=True, stdin=subprocess.DEVNULL
            )
        except OSError as error:
            problem = f"the NFS processes did not start: {error.filename}: {error.strerror}"
            raise MissingRequirementError(problem, "let this user run that program") from None
        for _, end in ends:
            end.close()
        first = receive(ends[0][0])
        if first is None:
            raise MissingRequirementError(
                "the NFS processes did not start", "look at what they said above"
            )
        self._can_mount = isinstance(first[0].message, Ready) and first[0].message.can_mount
        self._lost = asyncio.Event()
        self._keeper, *self._workers = [Channel(end) for end, _ in ends]
        self._tasks: set[asyncio.Task[Any]] = set()

    def confine(self, account: str | None) -> None:
        """From now on this process cannot read roots and slates: what answers TFTP and HTTP has
        no business there; and it is the account's, where the site names one. After all sockets are
        open: who holds a port is not seen any more.

        Raises MissingRequirementError.
        """
        try:
            if self._can_mount:
                self._roots.mkdir(parents=True, exist_ok=True)
                self._slates.mkdir(mode=0o700, parents=True, exist_ok=True)  # secrets are in it
                hide([self._roots, self._slates])
            if self._can_mount or account:
                keep_only(FOR_ACCOUNT if account else FOR_SERVER, account)
        except OSError as error:
            problem = f"{error.filename}: {error.strerror}"
            raise MissingRequirementError(
                problem, "name other folders with roots and slates"
            ) from None

    async def serve(self) -> None:
        """Begin to listen to the processes."""
        loop = asyncio.get_running_loop()
        for channel in (self._keeper, *self._workers):
            channel.sock.setblocking(False)
            loop.add_reader(channel.sock, self._told, channel)

    async def failed(self) -> None:
        """Returns only by raising: one of the processes has ended, which none does by itself."""
        await self._lost.wait()
        raise RuntimeError("an NFS process has ended")

    async def close(self) -> None:
        """End the processes, by closing their channels; returns when they have ended."""
        loop = asyncio.get_running_loop()
        for task in self._tasks:
            task.cancel()
        for channel in (self._keeper, *self._workers):
            loop.remove_reader(channel.sock)
            channel.sock.close()
        await loop.run_in_executor(None, self._process.wait)

    def _begin(self, work: Any) -> None:
        task = asyncio.ensure_future(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)

    def _ended(self, task: asyncio.Task[Any]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()):
            _log.error("NFS: %r", error, exc_info=error)

    def _name(self, root: str, client: str) -> SlateName:
        return SlateName(str(self._slates), root, client)

    def _boot_of(self, event: Event) -> str | None:
        """The client of the site whose boot begins with an event."""
        kernel = isinstance(event, FileSent) and event.kind is FileKind.KERNEL
        begins = kernel or (isinstance(event, Seen) and event.firmware)
        name = event.who.name
        return name if begins and self._can_mount and name in self._shared.site.clients else None

    async def _begun(self, name: str) -> None:
        """What it changed of fresh slates goes when it mounts its root, and of frozen ones."""
        site = self._shared.site
        for root in site.roots:
            kind = slate_of(site, site.clients[name], root)
            if kind != "none":
                await self._keeper.ask(BootBegins(self._name(root, name), kind == "fresh"))

    def _told(self, channel: Channel) -> None:
        while True:
            try:
                received = receive(channel.sock)
            except BlockingIOError:
                return
            if received is None:
                asyncio.get_running_loop().remove_reader(channel.sock)
                self._lost.set()
                return
            message, number = received[0]
            if channel is self._keeper or not self._hear(channel, message, number):
                channel.answered(number, message)

    def _hear(self, channel: Channel, message: Message, number: int) -> bool:  # noqa: ARG002
        """What a worker asks or says; whether it was that, and no answer."""
        return False
