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

from daskel.core.history.events import Event, FileKind, FileSent, ProcessEnded, Seen, Who
from daskel.core.site.slate_rules import slate_of, stays_on
from daskel.service.nfs.channel import pair, receive
from daskel.service.nfs.messages import (
    AskSlates,
    AskVersions,
    BootBegins,
    CloseSlate,
    Failed,
    Message,
    Publish,
    Ready,
    Republished,
    SlateName,
    Slates,
    StartKeeper,
    StartWorker,
    Versions,
    WipeSlate,
)
from daskel.service.nfs.questions import Channel
from daskel.service.shared import Shared
from daskel.system.host.privileges import FOR_ACCOUNT, FOR_SERVER, NET_ADMIN, keep_only
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import hide
from daskel.system.roots.publishing import sent_of
from daskel.system.roots.slates import ELSEWHERE

_FIRST_PAUSE, _LONGEST_PAUSE, _WELL = 0.25, 30.0, 60.0  # seconds
_LOOK_AGAIN = 2.0  # seconds between two checks of whether a root's kernel or initrd has changed
_KERNELS = (FileKind.KERNEL, FileKind.UNIFIED)
_log = logging.getLogger(__name__)


def taking(how: str) -> type[CloseSlate | WipeSlate]:
    """The question that closes a slate, or wipes it."""
    return WipeSlate if how == "wipe" else CloseSlate


def _close(channel: Channel) -> None:
    if channel.sock.fileno() >= 0:
        asyncio.get_running_loop().remove_reader(channel.sock)
        channel.sock.close()
        channel.end()


def said(answer: Message) -> dict[str, object]:
    """An answer, for who asked through the control socket."""
    return {"error": answer.error} if isinstance(answer, Failed) else {}


class _Ended:
    """How often something ended lately, and how long to wait until it is started anew."""

    def __init__(self) -> None:
        self._last, self._times = float("-inf"), 0

    def pause(self, now: float) -> float:
        """Seconds; longer each time, unless it ran well before."""
        self._times = self._times + 1 if now - self._last < _WELL else 0
        self._last = now
        return float(min(_LONGEST_PAUSE, _FIRST_PAUSE * 2**self._times))


class Keeping:
    """Raises MissingRequirementError when the processes do not start. One that ends is started
    anew; its clients connect again.

    The first process (`python -m daskel.service.nfs.keeper`) does nothing but start the one that
    mounts, which starts the workers: the server itself gives up the rights that they need.
    """

    def __init__(
        self, shared: Shared, roots: Path, slates: Path, *words: str, workers: int = 0
    ) -> None:
        self._shared, self._roots, self._slates = shared, roots, slates
        ours, theirs = pair()
        command = [sys.executable, "-m", "daskel.service.nfs.keeper", *words, str(theirs.fileno())]
        try:
            self._process = subprocess.Popen(
                command, pass_fds=[theirs.fileno()], start_new_session=True,
                stdin=subprocess.DEVNULL,
            )  # fmt: skip
        except OSError as error:
            problem = f"the NFS processes did not start: {error.filename}: {error.strerror}"
            raise MissingRequirementError(problem, "let this user run that program") from None
        theirs.close()
        self._starter = Channel(ours)
        self._lost = asyncio.Event()
        self._tasks: set[asyncio.Task[Any]] = set()
        self._most, self._workers = workers, list[Channel]()
        self._ends: dict[str, _Ended] = {}
        self._looked: dict[str, float] = {}  # when, by root
        self._keeper = self._start_keeper()
        first = receive(self._keeper.sock)
        if first is None:
            raise MissingRequirementError(
                "the NFS processes did not start", "look at what they said above"
            )
        self._can_mount = isinstance(first[0].message, Ready) and first[0].message.can_mount
        for _ in range(workers):
            self._start_worker()

    def _start_keeper(self) -> Channel:
        ours, theirs = pair()
        self._starter.tell(StartKeeper(), descriptors=(theirs.fileno(),))
        theirs.close()
        return Channel(ours)

    def _start_worker(self) -> Channel:
        ours, theirs = pair()
        self._keeper.tell(StartWorker(), descriptors=(theirs.fileno(),))
        theirs.close()
        self._workers.append(Channel(ours))
        return self._workers[-1]

    def confine(self, account: str | None) -> None:
        """From now on this process cannot read roots and slates: what answers TFTP and HTTP has
        no business there; and it is the account's, where the site names one. After all sockets are
        open: who holds a port is not seen any more.

        Raises MissingRequirementError.
        """
        try:
            if self._can_mount:
                self._roots.mkdir(mode=0o700, parents=True, exist_ok=True)
                self._slates.mkdir(mode=0o700, parents=True, exist_ok=True)  # secrets are in it
                hide([self._roots, self._slates])
            if self._can_mount or account:
                kept = set(FOR_ACCOUNT if account else FOR_SERVER)
                if self._shared.tunnel:
                    kept.discard(NET_ADMIN)  # who has it reads the tunnel's key from the kernel
                keep_only(kept, account)
        except OSError as error:
            problem = f"{error.filename}: {error.strerror}"
            raise MissingRequirementError(
                problem, "name other folders with roots and slates"
            ) from None

    async def serve(self) -> None:
        """Begin to listen to the processes."""
        for channel in (self._starter, self._keeper, *self._workers):
            self._listen(channel)
        await self.look_again()
        for worker in self._workers:
            self._worker_started(worker)

    def _listen(self, channel: Channel) -> None:
        channel.sock.setblocking(False)
        asyncio.get_running_loop().add_reader(channel.sock, self._told, channel)

    async def failed(self) -> None:
        """Returns only by raising: the process that starts the others has ended, which it does not
        do by itself."""
        await self._lost.wait()
        raise RuntimeError("the process that starts the NFS processes has ended")

    async def close(self) -> None:
        """End the processes, by closing their channels; returns when they have ended."""
        for task in self._tasks:
            task.cancel()
        for channel in (*self._workers, self._keeper, self._starter):
            _close(channel)
        await asyncio.get_running_loop().run_in_executor(None, self._process.wait)

    # --- what ends is started anew ---

    def _channel_ended(self, channel: Channel) -> None:
        _close(channel)
        if channel is self._starter:
            self._lost.set()
        elif channel is self._keeper:
            for worker in list(self._workers):  # they are of no use without it
                _close(worker)
                self._workers.remove(worker)
                self._worker_ended(worker)
            self._begin(self._keeper_anew())
        elif channel in self._workers:
            self._workers.remove(channel)
            self._worker_ended(channel)
            self._begin(self._worker_anew())

    async def _keeper_anew(self) -> None:
        await self._pause("the process that mounts roots")
        self._keeper = self._start_keeper()
        self._listen(self._keeper)
        for _ in range(self._most):
            self._add_worker()
        self._keeper_started()

    async def _worker_anew(self) -> None:
        keeper = self._keeper
        await self._pause("a process that serves NFS")
        if keeper is self._keeper and len(self._workers) < self._most:
            self._add_worker()

    def _add_worker(self) -> None:
        worker = self._start_worker()
        self._listen(worker)
        self._worker_started(worker)

    async def _pause(self, what: str) -> None:
        seconds = self._ends.setdefault(what, _Ended()).pause(self._shared.clock.monotonic())
        self._shared.emit(ProcessEnded(Who(), what, seconds))
        await self._shared.clock.sleep(seconds)

    def _worker_started(self, worker: Channel) -> None:
        """Tell it what it needs to know."""

    def _worker_ended(self, worker: Channel) -> None:
        """Its connections are gone."""

    def _keeper_started(self) -> None:
        """It was started anew."""

    def _begin(self, work: Any) -> None:
        task = asyncio.ensure_future(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)

    def _ended(self, task: asyncio.Task[Any]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()):
            _log.error("NFS: %r", error, exc_info=error)

    def _name(self, root: str, client: str) -> SlateName:
        """What a client changes; of one whose kept slate another server has, beside those that are
        kept here."""
        if client in self._shared.site.elsewhere:
            return SlateName(str(self._slates / ELSEWHERE), root, client)
        return self._kept_name(root, client)

    def _kept_name(self, root: str, client: str) -> SlateName:
        return SlateName(str(self._slates), root, client)

    def _boot_of(self, event: Event) -> str | None:
        """The client of the site whose boot begins with an event."""
        kernel = isinstance(event, FileSent) and event.kind in _KERNELS
        begins = kernel or (isinstance(event, Seen) and event.firmware)
        name = event.who.name
        return name if begins and self._can_mount and name in self._shared.site.clients else None

    async def versions(self, root: str) -> Versions:
        """Those of a root, as the process says that can see roots."""
        path = self._shared.site.root_path(root)
        answer = await self._keeper.ask(AskVersions(str(self._roots), path))
        if isinstance(answer, Versions):
            return answer
        if isinstance(answer, Failed):
            _log.warning("root %s: %s", root, answer.error)
        return Versions(0, ())

    async def look_again(self) -> None:
        """What clients' slates were made on; with another site, others of them may count."""
        answer = await self._keeper.ask(AskSlates(str(self._slates))) if self._can_mount else None
        for on in answer.slates if isinstance(answer, Slates) else ():
            self._slate_is_on(on.root, on.client, on.version, frozen=on.frozen)

    def _slate_is_on(self, root: str, client: str, version: int, *, frozen: bool) -> None:
        """Its client boots with that version, unless every boot begins with a new one."""
        kept = stays_on(self._shared.site, client, root, frozen=frozen)
        self._shared.slate_is_on(root, client, version if kept else None)

    async def _publish(self) -> None:
        """Working trees that clients boot from may have got another kernel."""
        site, now = self._shared.site, self._shared.clock.monotonic()
        for root in {site.loadouts[loadout].root or "" for loadout in site.own_kernels}:
            known = site.published.get(root)
            made = known.of(None) if known else None
            looked = self._looked.get(root, float("-inf"))
            if (made and made.version) or now - looked < _LOOK_AGAIN:
                continue
            self._looked[root] = now
            folder, path = str(self._shared.published.folder), site.root_path(root)
            sent = sent_of(site, root)
            question = Publish(folder, root, str(self._roots), path, sent.images, sent.group)
            answer = await self._keeper.ask(question)
            if isinstance(answer, Republished) and answer.changed:
                self._shared.read_published()
            elif isinstance(answer, Failed):
                _log.warning("root %s: its kernel could not be published: %s", root, answer.error)

    async def _begun(self, name: str) -> None:
        """What it changed of fresh slates goes when it mounts its root, and of frozen ones."""
        await self._publish()
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
                self._channel_ended(channel)
                return
            message, number = received[0]
            if channel is self._keeper or not self._hear(channel, message, number):
                channel.answered(number, message)

    def _hear(self, channel: Channel, message: Message, number: int) -> bool:  # noqa: ARG002
        """What a worker asks or says; whether it was that, and no answer."""
        return False
