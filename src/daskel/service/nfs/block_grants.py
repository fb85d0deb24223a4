"""The server's side of block devices: who may have which image, and what one client keeps."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from daskel.core.boot import images
from daskel.core.boot.identity import roots_of
from daskel.core.history.events import Mounted, MountRefusal, MountRefused, Who
from daskel.core.site.slate_rules import slate_of
from daskel.service.nfs.grants import Exports
from daskel.service.nfs.messages import (
    AskBlock,
    AskBlocks,
    BlockHere,
    BlockNames,
    BlockNot,
    CloseSlate,
    DiskAt,
    Failed,
    Message,
    OpenDisk,
    RenewSlate,
    WipeSlate,
)
from daskel.service.nfs.questions import Channel
from daskel.service.shared import Shared

_DISK = 8 << 30  # bytes that a client may keep as blocks, where the site does not say; it is sparse
_log = logging.getLogger(__name__)


class AllExports(Exports):
    """What NFS serves, and block devices beside it, by the same processes."""

    def __init__(self, shared: Shared, roots: Path, slates: Path, state: Path) -> None:
        self._disks: dict[str, int] = {}  # of what clients keep as blocks: the connection
        super().__init__(shared, roots, slates, state)

    def _disconnected(self, number: int) -> None:
        for disk in [disk for disk, its in self._disks.items() if its == number]:
            del self._disks[disk]
        super()._disconnected(number)

    async def _take_away(self, question: CloseSlate | WipeSlate | RenewSlate) -> Message:
        mine = (question.slate.root, question.slate.client)
        for disk, number in list(self._disks.items()):
            if (wanted := images.asked_for(disk)) and (wanted[0], wanted[2]) == mine:
                self._let_go(number)
        return await super()._take_away(question)

    def _may_have(self, peer: str) -> frozenset[str]:
        return super()._may_have(peer) | self._blocks(peer)[1]

    def _hear(self, channel: Channel, message: Message, number: int) -> bool:
        if handle := HEARD_OF_BLOCKS.get(type(message)):
            handle(self, channel, message, number)
            return True
        return super()._hear(channel, message, number)

    def asks_for_blocks(self, channel: Channel, asked: AskBlocks, number: int) -> None:
        """Answer with the images that a client may have: of every version that is there."""
        self._begin(self._block_names(channel, asked.peer, number))

    async def _block_names(self, channel: Channel, peer: str, number: int) -> None:
        names: list[str] = []
        for root in sorted(self._blocks(peer)[1]):
            versions = await self.versions(root)
            names += [images.image_name(root, n) for n in versions.there if n]
        channel.tell(BlockNames(tuple(names)), number)

    def asks_for_block(self, channel: Channel, asked: AskBlock, number: int) -> None:
        """Answer with the file of a block device, or the reason for refusing it."""
        self._begin(self._answer_block(channel, asked, number))

    async def _answer_block(self, channel: Channel, asked: AskBlock, number: int) -> None:
        answer: BlockHere | BlockNot = BlockNot("the server failed; its log says why")
        try:
            answer = await self._block(asked)
        except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("a block device could not be opened")
        channel.tell(answer, number)

    def _blocks(self, peer: str) -> tuple[Who, frozenset[str]]:
        """A machine, and the roots that it may have as blocks."""
        known = self._peers.get(peer)
        if known is None:
            return Who(), frozenset()
        who = self._views(peer)[0]
        site, assigned = self._shared.site_of(who), self._shared.once.assigned
        return who, roots_of(site, who, known.segment, assigned, "blocks")

    async def _block(self, asked: AskBlock) -> BlockHere | BlockNot:
        who, roots = self._blocks(asked.peer)
        wanted = images.asked_for(asked.name)
        if wanted is None or wanted[0] not in roots:
            may = ", ".join(sorted(roots)) or "no root"
            said = f"{asked.name[:100]} is not for {who}, which may have {may} as blocks"
            return self._block_refused(who, asked.name, said, MountRefusal.NOT_ALLOWED)
        root, version, client = wanted
        if version == 0 or version not in (await self.versions(root)).there:
            gone = f"version {version} of {root} is gone"
            return self._block_refused(who, asked.name, gone, MountRefusal.ABSENT)
        if client:
            return await self._disk(who, asked, root, version, client)
        before = self._mounts.setdefault(str(who), {}).get(root)
        self._mounts[str(who)][root] = version
        if before != version:  # not again when a connection was lost
            self._shared.emit(Mounted(who, root, f"blocks, version {version}"))
        path = self._root(root).image(version)
        return BlockHere(str(path), False, f"version {version} of the root {root}")

    async def _disk(
        self, who: Who, asked: AskBlock, root: str, version: int, client: str
    ) -> BlockHere | BlockNot:
        """What one client keeps; the connection that it had before is over."""
        site = self._shared.site
        kept = client == who.name and slate_of(site, site.clients[client], root) == "keep"
        if not kept:
            said = f"{asked.name[:100]} is not for {who}"
            return self._block_refused(who, asked.name, said, MountRefusal.NOT_ALLOWED)
        question = OpenDisk(self._name(root, client), version, site.roots[root].size or _DISK)
        answer = await self._keeper.ask(question)
        if not isinstance(answer, DiskAt):
            why = answer.error if isinstance(answer, Failed) else "it is not there"
            said = f"what {client} keeps cannot be opened: {why}"
            return self._block_refused(who, asked.name, said, MountRefusal.SLATE)
        self._slate_is_on(root, client, version, frozen=answer.frozen)
        before = self._disks.get(asked.name)
        if before is not None and before != asked.number:
            self._let_go(before)
        self._disks[asked.name] = asked.number
        return BlockHere(answer.path, True, f"what {client} keeps on {root}")

    def _block_refused(self, who: Who, name: str, reason: str, why: MountRefusal) -> BlockNot:
        self._shared.emit(MountRefused(who, name[:200], reason, why))
        return BlockNot(reason)


HEARD_OF_BLOCKS: Mapping[type[Message], Callable[[AllExports, Channel, Any, int], None]] = {
    AskBlock: AllExports.asks_for_block,
    AskBlocks: AllExports.asks_for_blocks,
}
