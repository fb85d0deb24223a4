"""The server's side of the NFS processes: who may have which export, and where it is.

Starts them, hands connections over, has views of slates made, and answers what workers ask.
"""

from __future__ import annotations

import asyncio
import itertools
import logging
import os
import socket
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from daskel.core.boot.arguments import asked_for, export_path
from daskel.core.history.events import (
    Event,
    FileSent,
    Mounted,
    MountRefusal,
    MountRefused,
    RootTrouble,
    Seen,
    Who,
)
from daskel.core.nfs import mount
from daskel.core.nfs.handle import export_number
from daskel.core.places import Places
from daskel.core.roots.views import View, version_export, views_of
from daskel.service.nfs.messages import (
    AskMount,
    AskPaths,
    Begin,
    CloseConnection,
    CloseExport,
    CloseSlate,
    Connection,
    ExportAt,
    Failed,
    Gone,
    Grant,
    InTrouble,
    MalformedCall,
    Message,
    MountHere,
    MountNot,
    MustBeWiped,
    NoFolder,
    NotServed,
    NotThere,
    Opened,
    OpenSlate,
    Paths,
    RenewSlate,
    SlateName,
    Warned,
    WipeSlate,
)
from daskel.service.nfs.processes import Keeping, said, taking
from daskel.service.nfs.questions import Channel, handle_key
from daskel.service.shared import Shared, seat
from daskel.system.roots.roots import RootFolder

_MOST_WORKERS = 4
_MOST, _MOST_EACH = 4096, 32  # connections, of all and of one address
_NO_WORKER = "its processes are being started anew"
_RESERVED = 1024  # ports below are for programs with the right to them
_TRY_AGAIN = 3.0  # seconds until a slate that could not be opened is tried again
_log = logging.getLogger(__name__)


@dataclass
class _Peer:
    """A machine that has connections. It stays the same one for as long as it has: an address
    that becomes another machine's changes nothing for what is mounted."""

    segment: str
    who: Who
    worker: Channel  # that serves it
    connections: set[int] = field(default_factory=set)  # by number


class Exports(Keeping):
    """Started with the server. Raises MissingRequirementError when its key cannot be kept."""

    def __init__(self, shared: Shared, roots: Path, slates: Path, state: Path) -> None:
        self._key = handle_key(state.with_suffix(".key"))
        super().__init__(shared, roots, slates, workers=min(os.cpu_count() or 1, _MOST_WORKERS))
        self._numbers = itertools.count(1)  # of connections
        self._by_number: dict[int, str] = {}  # the peer of each
        segments = len(shared.site.served)
        self._places: Places[int] = Places(_MOST, _MOST_EACH, segments)
        self._peers: dict[str, _Peer] = {}  # by a socket's address and the machine
        self._one_by_one: dict[str, asyncio.Lock] = {}  # one at a time for each slate
        self._opened: dict[str, ExportAt] = {}  # exports of slates that are mounted, by name
        self._shown_from: dict[str, SlateName] = {}  # by the same
        self._mounts: dict[str, dict[str, int]] = {}  # client, root: the version that it mounted

    async def serve(self) -> None:
        """Begin to listen to the processes and to events."""
        await super().serve()
        self._shared.bus.listen(FileSent, self._happened)
        self._shared.bus.listen(Seen, self._happened)
        site = self._shared.site
        said = [table.slate for table in site.roots.values()]
        said += [group.slate for group in site.groups.values() if group.slate]
        said += [client.slate for client in site.clients.values() if client.slate]
        if not self._can_mount and {"fresh", "keep"} & set(said):
            _log.warning("slates need root: every root is read-only")

    # --- connections ---

    def hand_over(
        self, server: IPv4Address, sock: socket.socket, peer: tuple[str, int], *, blocks: bool
    ) -> None:
        """A connection that was accepted on a server address, from an address and port; `blocks`:
        for NBD, not NFS."""
        segment, who = self._shared.caller(server, peer[0])
        number, of_site = next(self._numbers), who.name is not None
        place = seat(who, peer[0])
        let_in, gives_way = self._places.enter(number, place, segment, known=of_site)
        if gives_way is not None:
            self._let_go(gives_way)
        if not let_in or not self._workers:
            self._places.leave(number)
            self.full(_NO_WORKER if let_in else f"too many connections at once ({who})")
            sock.close()
            return
        name = f"{peer[0]} {who.mac or ''}"
        if name not in self._peers:
            busy = [known.worker for known in self._peers.values()]
            worker = min(self._workers, key=lambda w: sum(b is w for b in busy))
            self._peers[name] = _Peer(segment, who, worker)
        self._peers[name].connections.add(number)
        self._by_number[number] = name
        self._begin(self._hand_over(name, number, sock, peer[1], blocks=blocks))

    async def _hand_over(
        self, peer: str, number: int, sock: socket.socket, port: int, *, blocks: bool
    ) -> None:
        """All connections of one client go to one worker, which remembers what it answered."""
        with sock:
            try:
                grant = await self._grant(peer)
                if number not in self._by_number:
                    return  # it had to give way, or its worker has ended
                reserved = port < _RESERVED or self._shared.wire.loopback
                told = Connection(peer, reserved, number, grant, blocks)
                self._peers[peer].worker.tell(told, descriptors=(sock.fileno(),))
            except BaseException:
                self._disconnected(number)
                raise

    def make_room(self) -> bool:
        """Close a connection of somebody who has the least use for it."""
        number = self._places.resting()
        if number is not None:
            self._let_go(number)
        return number is not None

    def full(self, reason: str) -> None:
        """A connection was not accepted."""
        self._shared.malformed("nfs", reason)

    def _let_go(self, number: int) -> None:
        peer = self._peers.get(self._by_number.get(number, ""))
        if peer:
            peer.worker.tell(CloseConnection(number))
        self._disconnected(number)

    def _disconnected(self, number: int) -> None:
        self._places.leave(number)
        name = self._by_number.pop(number, None)
        known = self._peers.get(name or "")
        if known:
            known.connections.discard(number)
            if not known.connections:
                del self._peers[name or ""]

    def _worker_started(self, worker: Channel) -> None:
        worker.tell(Begin(self._key))

    def _worker_ended(self, worker: Channel) -> None:
        """Its clients connect again, to another or to the one that is started in its place."""
        for peer in [peer for peer in self._peers.values() if peer.worker is worker]:
            for number in list(peer.connections):
                self._disconnected(number)

    def renew(self) -> None:
        """The site has changed: so may what clients may have."""
        self._begin(self.look_again())
        for peer in list(self._peers):
            self._begin(self._renew(peer))

    async def _renew(self, peer: str, pause: float = 0) -> None:
        await self._shared.clock.sleep(pause)
        if peer in self._peers:
            self._peers[peer].worker.tell(await self._grant(peer))

    async def _grant(self, peer: str) -> Grant:
        """All that a client may have: its slates that are there, and every version of roots that
        it sees as they are (a running client stays on the version that it mounted)."""
        exports: list[ExportAt] = []
        later: list[bytes] = []
        any_port: list[bytes] = []
        for view in self._views(peer)[1].values():
            found: list[ExportAt] = []
            if view.slate != "none" and self._can_mount:
                opened = await self._slate(view, only_if_there=True, booting=False)
                found += [opened] if isinstance(opened, ExportAt) else []
                later += [export_number(view.export)] if isinstance(opened, Failed) else []
            else:
                there = (await self.versions(view.root)).there
                found += [self._plain(view.root, number) for number in there]
            exports += found
            if view.any_port:
                any_port += [export.number for export in found]
        if later:
            self._begin(self._renew(peer, _TRY_AGAIN))
        return Grant(peer, tuple(exports), tuple(later), tuple(any_port))

    def _views(self, peer: str) -> tuple[Who, dict[str, View]]:
        known = self._peers[peer]
        site, assigned = self._shared.site_of(known.who), self._shared.once.assigned
        named = site.by_mac.get(known.who.mac or "") if known.who.name else None
        who = replace(known.who, name=named)  # the site may have changed
        return who, views_of(site, who, known.segment, assigned)

    def _root(self, root: str) -> RootFolder:
        return RootFolder(self._roots, self._shared.site.root_path(root))

    def _plain(self, root: str, version: int) -> ExportAt:
        folder = self._root(root).version(version)
        return ExportAt(export_number(version_export(root, version)), str(folder), version)

    # --- slates ---

    async def _slate(
        self, view: View, *, only_if_there: bool, booting: bool, wanted: int | None = None
    ) -> ExportAt | NotThere | Failed:
        """The export of a slate, mounted; or the reason for refusing it."""
        async with self._one_by_one.setdefault(view.export, asyncio.Lock()):
            opened = self._opened.get(view.export)
            if opened and not booting:
                return opened
            name, path = self._name(view.root, view.client), self._shared.site.root_path(view.root)
            if opened and self._shown_from.get(view.export, name) != name:
                await self._take_away(CloseSlate(self._shown_from[view.export]))
            self._shown_from[view.export] = name
            question = OpenSlate(
                name, str(self._roots), path, dict(view.own), booting, only_if_there, wanted
            )
            answer = await self._keeper.ask(question)
            if isinstance(answer, MustBeWiped):
                await self._take_away(RenewSlate(name))
                answer = await self._keeper.ask(question)
            if not isinstance(answer, Opened):
                assert isinstance(answer, (NotThere, Failed))
                return answer
            number = export_number(view.export)
            made = ExportAt(number, answer.folder, answer.version, answer.upper, view.limit)
            self._opened[view.export] = made
            self._slate_is_on(view.root, view.client, answer.version, frozen=answer.frozen)
            return made

    async def _take_away(self, question: CloseSlate | WipeSlate | RenewSlate) -> Message:
        """Close a slate everywhere, and do with it what the question says."""
        export = View(question.slate.root, question.slate.client, "keep").export
        self._opened.pop(export, None)
        for worker in self._workers:
            await worker.ask(CloseExport(export_number(export)))
        return await self._keeper.ask(question)

    async def take_away(self, root: str, client: str, how: str) -> dict[str, object]:
        """Close a slate, or wipe it, when nobody else is about to open it."""
        export = View(root, client, "keep").export
        async with self._one_by_one.setdefault(export, asyncio.Lock()):
            answer = await self._take_away(taking(how)(self._kept_name(root, client)))
            if how == "wipe":
                self._shared.slate_is_on(root, client, None)
            return said(answer)

    def _may_have(self, peer: str) -> frozenset[str]:
        """The roots that a machine may have."""
        return frozenset(self._views(peer)[1])

    def connected(self) -> list[dict[str, Any]]:
        """Clients that are connected: which roots they may have, and the versions that they
        mounted, as far as this server saw it."""
        found = []
        for peer in self._peers:
            who, have = self._views(peer)[0], self._may_have(peer)
            if who.name is not None and have:
                mounted = self._mounts.get(who.name, {})
                roots = {root: mounted.get(root) for root in sorted(have)}
                found.append({"client": who.name, "roots": roots})
        return found

    def _happened(self, event: Event) -> None:
        if name := self._boot_of(event):
            self._mounts.pop(name, None)
            self._begin(self._begun(name))

    # --- what workers ask ---

    def _hear(self, channel: Channel, message: Message, number: int) -> bool:
        handle = HEARD.get(type(message))
        if handle:
            handle(self, channel, message, number)
        return handle is not None

    def malformed(self, _: Channel, told: MalformedCall, __: int) -> None:
        """A call could not be read."""
        self._shared.malformed(told.service, told.reason)

    def warned(self, _: Channel, told: Warned, __: int) -> None:
        """A worker's warning goes into the log."""
        _log.warning("NFS: %s", told.text)

    def gone(self, _: Channel, told: Gone, __: int) -> None:
        """A connection has ended."""
        self._disconnected(told.number)

    def no_folder(self, _: Channel, told: NoFolder, __: int) -> None:
        """A client wanted a folder that its root does not have."""
        if told.peer in self._peers:
            who, path = self._views(told.peer)[0], f"{export_path(told.root)}/{told.below}"
            reason = f"there is no directory /{told.below} in the root {told.root}"
            self._shared.emit(MountRefused(who, path, reason, MountRefusal.ABSENT))

    def trouble(self, _: Channel, told: InTrouble, __: int) -> None:
        """A client's programs see an error."""
        if told.peer in self._peers:
            who, views = self._views(told.peer)
            mounted = self._mounts.get(str(who)) or views
            self._shared.emit(RootTrouble(who, told.what, next(iter(mounted), "")))

    def not_served(self, _: Channel, told: NotServed, __: int) -> None:
        """A client asked for a version that is not served."""
        if told.peer in self._peers:
            who = self._views(told.peer)[0]
            self._shared.emit(MountRefused(who, "", told.reason, told.why))

    def asks_for_paths(self, channel: Channel, asked: AskPaths, number: int) -> None:
        """Answer with all that a client may mount."""
        known = asked.peer in self._peers  # else its connections ended meanwhile
        paths = sorted(map(export_path, self._views(asked.peer)[1])) if known else []
        channel.tell(Paths(tuple(paths)), number)

    def asks_to_mount(self, channel: Channel, asked: AskMount, number: int) -> None:
        """Answer with the export, or the reason for refusing it; a slate is mounted first."""
        if asked.peer in self._peers:
            self._begin(self._mount(channel, asked, number))
        else:
            channel.tell(MountNot(mount.Status.ACCESS), number)

    async def _mount(self, channel: Channel, asked: AskMount, number: int) -> None:
        answer: MountHere | MountNot = MountNot(mount.Status.ACCESS)
        try:
            answer = await self._mounted(channel, asked)
        except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("a root could not be mounted")
        channel.tell(answer, number)

    async def _mounted(self, channel: Channel, asked: AskMount) -> MountHere | MountNot:
        """The export to mount, and the path below it; or why not."""
        peer, path = asked.peer, asked.path
        who, views = self._views(peer)
        wanted = asked_for(path, self._shared.site.roots)
        root = wanted[0] if wanted else ""
        if wanted is None or root not in views:
            absent = wanted is None
            why = MountRefusal.ABSENT if absent else MountRefusal.NOT_ALLOWED
            self._shared.emit(MountRefused(who, path, _why_not(who, views), why))
            return MountNot(mount.Status.NOT_FOUND if absent else mount.Status.ACCESS)
        if not asked.reserved and not views[root].any_port:
            reason = "the call came from a port that any program may use (1024 or above)"
            self._shared.emit(MountRefused(who, path, reason, MountRefusal.PORT))
            return MountNot(mount.Status.ACCESS)
        _, version, below = wanted
        export, how, why = await self._export(views[root], who, version)
        if export is None:
            self._shared.emit(MountRefused(who, path, how, why))
            return MountNot(mount.Status.NOT_FOUND)
        granted = await self._grant(peer)
        channel.tell(granted)
        if not below:
            self._mounts.setdefault(str(who), {})[root] = export.version
            self._shared.emit(Mounted(who, root, how))
        return MountHere(peer, export.number, root, below)

    async def _export(
        self, view: View, who: Who, wanted: int | None
    ) -> tuple[ExportAt | None, str, MountRefusal]:
        """The export, of the version that is `wanted` or in use, and in words how the client has
        it; or the reason for refusing it."""
        versions = await self.versions(view.root)
        number = versions.used if wanted is None else wanted
        version = f"version {number}, " if number else ""
        if number not in versions.there and (wanted is not None or view.slate == "none"):
            why = f"version {number} is gone" if wanted else "its folder is missing"
            return None, why, MountRefusal.ABSENT
        if view.slate == "none" or not self._can_mount:
            plain = self._plain(view.root, number)
            return plain, f"{version}read-only", MountRefusal.UNTOLD
        opened = await self._slate(view, only_if_there=False, booting=True, wanted=wanted)
        if not isinstance(opened, ExportAt):
            why = opened.error if isinstance(opened, Failed) else "it is not there"
            return None, f"the slate of {who} cannot be opened: {why}", MountRefusal.SLATE
        version = f", version {opened.version}" if opened.version else ""
        return opened, f"slate {view.slate}{version}", MountRefusal.UNTOLD


HEARD: Mapping[type[Message], Callable[[Exports, Channel, Any, int], None]] = {
    AskMount: Exports.asks_to_mount,
    AskPaths: Exports.asks_for_paths,
    MalformedCall: Exports.malformed,
    NoFolder: Exports.no_folder,
    InTrouble: Exports.trouble,
    NotServed: Exports.not_served,
    Warned: Exports.warned,
    Gone: Exports.gone,
}


def _why_not(who: Who, views: Mapping[str, View]) -> str:
    if who.name is None:
        return f"{who.address} is not a client of the site"
    if not views:
        return f"the loadout of {who.name} has no root"
    return f"the root of {who.name} is {', '.join(map(export_path, sorted(views)))}"
