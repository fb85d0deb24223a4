"""The server's side of the NFS processes: who may have which export, and where it is.

Starts them, hands connections over, has views of slates made, and answers what workers ask.
"""

from __future__ import annotations

import asyncio
import logging
import os
import socket
from collections.abc import Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from daskel.core.boot.arguments import export_path
from daskel.core.history.events import (
    Event,
    FileSent,
    Mounted,
    MountRefused,
    RootTrouble,
    Seen,
    Who,
)
from daskel.core.nfs import mount
from daskel.core.nfs.handle import export_number
from daskel.core.roots.views import View, version_export, views_of
from daskel.service.nfs.processes import Keeping
from daskel.service.nfs.questions import Channel, handle_key
from daskel.service.shared import Shared
from daskel.system.channel import Message
from daskel.system.roots.roots import RootFolder

_MOST_WORKERS = 4
_TRY_AGAIN = 3.0  # seconds until a slate that could not be opened is tried again
_log = logging.getLogger(__name__)


@dataclass
class _Peer:
    """A client's address that has connections."""

    server: IPv4Address  # that it came to
    worker: Channel  # that serves it
    connections: int = 0


class Exports(Keeping):
    """Started with the server. Raises MissingRequirementError when its key cannot be kept."""

    def __init__(self, shared: Shared, roots: Path, slates: Path, state: Path) -> None:
        self._key = handle_key(state.with_suffix(".key"))
        super().__init__(shared, roots, slates, workers=min(os.cpu_count() or 1, _MOST_WORKERS))
        self._peers: dict[str, _Peer] = {}  # by a socket's address
        self._one_by_one: dict[str, asyncio.Lock] = {}  # one at a time for each slate
        self._opened: dict[str, Message] = {}  # exports of slates that are mounted, by name
        self._mounts: dict[str, dict[str, int]] = {}  # client, root: the version that it mounted

    async def serve(self) -> None:
        await super().serve()
        for worker in self._workers:
            worker.tell({"do": "begin", "key": self._key.hex()})
        self._shared.on_event |= {FileSent: self._happened, Seen: self._happened}
        site = self._shared.site
        said = [table.slate for table in site.roots.values()]
        said += [group.slate for group in site.groups.values() if group.slate]
        said += [client.slate for client in site.clients.values() if client.slate]
        if not self._can_mount and {"fresh", "keep"} & set(said):
            _log.warning("slates need root: every root is read-only")

    # --- connections ---

    def hand_over(self, server: IPv4Address, sock: socket.socket, peer: str) -> None:
        """A connection that was accepted on a server address."""
        self._begin(self._hand_over(server, sock, peer))

    async def _hand_over(self, server: IPv4Address, sock: socket.socket, peer: str) -> None:
        """All connections of one client go to one worker, which remembers what it answered."""
        with sock:
            if peer not in self._peers:
                busy = [known.worker for known in self._peers.values()]
                worker = min(self._workers, key=lambda w: sum(b is w for b in busy))
                self._peers[peer] = _Peer(server, worker)
            known = self._peers[peer]
            known.connections += 1
            try:
                known.worker.tell(await self._grant(peer))
                known.worker.tell({"do": "connection", "peer": peer}, (sock.fileno(),))
            except BaseException:
                self._disconnected(peer)
                raise

    def _disconnected(self, peer: str) -> None:
        known = self._peers[peer]
        known.connections -= 1
        if not known.connections:
            del self._peers[peer]

    def renew(self) -> None:
        """The site has changed: so may what clients may have."""
        for peer in self._peers:
            self._begin(self._renew(peer))

    async def _renew(self, peer: str, pause: float = 0) -> None:
        await asyncio.sleep(pause)
        if peer in self._peers:
            self._peers[peer].worker.tell(await self._grant(peer))

    async def _grant(self, peer: str) -> Message:
        """All that a client may have: its slates that are there, and every version of roots that
        it sees as they are (a running client stays on the version that it mounted)."""
        exports: list[Message] = []
        later: list[str] = []
        for view in self._views(peer)[1].values():
            if view.slate != "none" and self._can_mount:
                opened = await self._slate(view, only_if_there=True, booting=False)
                exports += [opened] if "number" in opened else []
                later += [export_number(view.export).hex()] if "error" in opened else []
                continue
            there = (await self._versions(view.root))["there"]
            exports += [self._plain(view.root, number) for number in there]
        if later:
            self._begin(self._renew(peer, _TRY_AGAIN))
        return {"do": "grant", "peer": peer, "exports": exports, "later": later}

    def _views(self, peer: str) -> tuple[Who, dict[str, View]]:
        server = self._peers[peer].server
        segment, who = self._shared.caller(server, peer)
        site, assigned = self._shared.site, self._shared.once.assigned
        return who, views_of(site, who, segment, assigned)

    def _root(self, root: str) -> RootFolder:
        return RootFolder(self._roots, self._shared.site.root_path(root))

    async def _versions(self, root: str) -> Message:
        """`used`, and the versions that are `there`: of the process that can see the roots."""
        path = self._shared.site.root_path(root)
        question = {"do": "versions", "roots": str(self._roots), "path": path}
        answer = await self._keeper.ask(question)
        if "error" in answer:
            _log.warning("root %s: %s", root, answer["error"])
        return {"used": 0, "there": [], **answer}

    def _plain(self, root: str, version: int) -> Message:
        folder = self._root(root).version(version)
        number = export_number(version_export(root, version)).hex()
        return {
            "number": number, "folder": str(folder), "writable": False, "limit": None,
            "version": version,
        }  # fmt: skip

    # --- slates ---

    async def _slate(self, view: View, *, only_if_there: bool, booting: bool) -> Message:
        """The export of a slate, mounted; `error` when that is not possible."""
        async with self._one_by_one.setdefault(view.export, asyncio.Lock()):
            opened = self._opened.get(view.export)
            if opened and not booting:
                return opened
            question = {
                "do": "open", "roots": str(self._roots), "own": dict(view.own), "booting": booting,
                "path": self._shared.site.root_path(view.root), "only_if_there": only_if_there,
            }  # fmt: skip
            answer = await self._keep(view.root, view.client, question)
            if answer.get("wipe"):
                await self._take_away(view.root, view.client, "renew")
                answer = await self._keep(view.root, view.client, question)
            if "folder" not in answer:
                return answer
            number = export_number(view.export).hex()
            opened = {
                "number": number, "folder": answer["folder"], "upper": answer["upper"],
                "writable": True, "limit": view.limit, "version": answer["version"],
            }  # fmt: skip
            self._opened[view.export] = opened
            return opened

    async def _take_away(self, root: str, client: str, how: str) -> Message:
        """Close a slate, and wipe it where `how` says so."""
        export = View(root, client, "keep").export
        self._opened.pop(export, None)
        for worker in self._workers:
            await worker.ask({"do": "close", "number": export_number(export).hex()})
        return await self._keep(root, client, {"do": how})

    async def take_away(self, root: str, client: str, how: str) -> Message:
        """The same, when nobody else is about to open it."""
        export = View(root, client, "keep").export
        async with self._one_by_one.setdefault(export, asyncio.Lock()):
            return await self._take_away(root, client, how)

    def connected(self) -> list[dict[str, Any]]:
        """Clients that are connected: which roots they may have, and the versions that they
        mounted, as far as this server saw it."""
        found = []
        for peer in self._peers:
            who, views = self._views(peer)
            if who.name is not None and views:
                mounted = self._mounts.get(who.name, {})
                roots = {root: mounted.get(root) for root in views}
                found.append({"client": who.name, "roots": roots})
        return found

    def _happened(self, event: Event) -> None:
        if name := self._boot_of(event):
            self._begin(self._begun(name))

    # --- what workers ask ---

    def _hear(self, channel: Channel, message: Message) -> None:
        if "malformed" in message:
            self._shared.malformed("nfs", message["malformed"])
        elif message.get("peer", "") and message["peer"] not in self._peers:
            return  # its connections ended meanwhile
        elif "missing" in message:
            who = self._views(message["peer"])[0]
            root, below = message["root"], message["missing"]
            reason = f"there is no directory /{below} in the root {root}"
            self._shared.emit(MountRefused(who, f"{export_path(root)}/{below}", reason))
        elif "trouble" in message or "refused" in message:
            self._trouble(message)
        elif "warning" in message:
            _log.warning("NFS: %s", message["warning"])
        elif "gone" in message:
            self._disconnected(message["gone"])
        elif message["ask"] == "mount":
            self._begin(self._mount(channel, message))
        elif message["ask"] == "exports":
            paths = sorted(map(export_path, self._views(message["peer"])[1]))
            channel.tell({"do": "answer", "id": message["id"], "paths": paths})

    def _trouble(self, message: Message) -> None:
        """NFS had to refuse something that a client runs into."""
        who, views = self._views(message["peer"])
        if "refused" in message:
            self._shared.emit(MountRefused(who, "", message["refused"]))
            return
        mounted = self._mounts.get(str(who)) or views
        self._shared.emit(RootTrouble(who, message["trouble"], next(iter(mounted), "")))

    async def _mount(self, channel: Channel, asked: Message) -> None:
        answer = {"do": "answer", "id": asked["id"], "peer": asked["peer"]}
        try:
            answer |= await self._mounted(channel, asked["peer"], asked["path"])
        except Exception:
            _log.exception("a root could not be mounted")
            answer["status"] = mount.Status.ACCESS
        channel.tell(answer)

    async def _mounted(self, channel: Channel, peer: str, path: str) -> Message:
        """The export to mount, and the path below it; or why not."""
        who, views = self._views(peer)
        wanted = "/" + path.strip("/") + "/"
        roots = self._shared.site.roots
        root = next((r for r in roots if wanted.startswith(export_path(r) + "/")), None)
        if root is None or root not in views:
            self._shared.emit(MountRefused(who, path, _why_not(who, views)))
            status = mount.Status.NOT_FOUND if root is None else mount.Status.ACCESS
            return {"status": status}
        view = views[root]
        export, how = await self._export(view, who)
        if export is None:
            self._shared.emit(MountRefused(who, path, how))
            return {"status": mount.Status.NOT_FOUND}
        granted = await self._grant(peer)
        channel.tell(granted)
        below = wanted.removeprefix(export_path(root)).strip("/")
        if not below:
            self._mounts.setdefault(str(who), {})[root] = export["version"]
            self._shared.emit(Mounted(who, root, how))
        return {"number": export["number"], "below": below, "root": root}

    async def _export(self, view: View, who: Who) -> tuple[Message | None, str]:
        """The export, and in words how the client has it, or why there is none."""
        versions = await self._versions(view.root)
        used = versions["used"]
        version = f"version {used}, " if used else ""
        if view.slate == "none" or not self._can_mount:
            if used not in versions["there"]:
                return None, "its folder is missing"
            return self._plain(view.root, used), f"{version}read-only"
        opened = await self._slate(view, only_if_there=False, booting=True)
        if "number" not in opened:
            return None, f"the slate of {who} cannot be opened: {opened.get('error')}"
        version = f", version {opened['version']}" if opened["version"] else ""
        return opened, f"slate {view.slate}{version}"


def _why_not(who: Who, views: Mapping[str, View]) -> str:
    if who.name is None:
        return f"{who.address} is no client of the site"
    if not views:
        return f"the loadout of {who.name} has no root"
    return f"the root of {who.name} is {', '.join(map(export_path, sorted(views)))}"
