"""Machines that ask in raw Ethernet frames: what each gets, and what is told of it."""

from __future__ import annotations

import asyncio
import errno
import os
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Generic, TypeVar

from daskel.core.boot.identity import by_mac
from daskel.core.boot.segments import best
from daskel.core.content.computed import NOT_YOURS
from daskel.core.content.paths import nearest
from daskel.core.content.raw_systems import Asked, NoRawSystem, RawSystem, raw_system
from daskel.core.history.events import (
    Abort,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    Missed,
    Refused,
    Seen,
    Told,
    Waits,
    Who,
)
from daskel.core.memory_image import MEMORY_END, Block, MemoryImage
from daskel.core.reader import MalformedError
from daskel.service.allowance import Allowance
from daskel.service.raw.links import Link, Listens
from daskel.service.shared import Moving, Shared
from daskel.system.host.confined_open import why_not

_MOST_LOADS = 128  # at once, of one protocol on one interface
_BATCH = 16  # frames in one turn: others wait for no more than that
_SWEEP, _IDLE = 0.1, 1.0  # seconds between two looks at the clock
_SAID_AGAIN = 60.0  # seconds until the same question of a machine is news again
_MOST_SAID = 1000
_ASKS, _STRANGERS = 4, 20  # requests a second of one machine, and of all strangers
_COMPARE_AGAIN = 0.5  # seconds until names are compared for another missing file


@dataclass
class Opened:
    """A system for a machine, and the files of its images. Close it."""

    who: Who
    system: RawSystem
    descriptors: Sequence[int]
    sizes: Sequence[int]  # bytes
    began: float = 0.0

    @property
    def size(self) -> int:
        """Bytes of all images."""
        return sum(self.sizes)

    @property
    def problem(self) -> str:
        """Why it cannot be sent; empty when it can."""
        for image, size in zip(self.system.images, self.sizes, strict=True):
            if not size:
                return f"{image.path} is empty"
            if image.load + size > MEMORY_END:
                return f"{image.path} ends behind {MEMORY_END - 1:#x}"
        return ""

    def memory(self, block: int) -> MemoryImage:
        """What goes into the machine's memory, `block` bytes at a time."""
        loads = (image.load for image in self.system.images)
        return MemoryImage(tuple(zip(self.sizes, loads, strict=True)), block)

    def read(self, block: Block) -> bytes:
        """Raises EOFError when the file has become shorter."""
        data = os.pread(self.descriptors[block.image], block.length, block.offset)
        if len(data) < block.length:
            raise EOFError("the file has become shorter")
        return data

    def moving(self, done: int) -> Moving:
        """How far it is; `done` in bytes."""
        return Moving(self.who, self.system.path, done, self.size)

    def close(self) -> None:
        """Close its files."""
        for descriptor in self.descriptors:
            os.close(descriptor)


class Machines:
    """Those on the segments of one interface that ask by one protocol."""

    def __init__(self, shared: Shared, segments: Sequence[str], over: str) -> None:
        self._shared, self._segments, self._over = shared, segments, over
        self._said: dict[tuple[str, str], float] = {}  # by machine and what it asked for
        self._compared = float("-inf")
        self._recent: dict[str, tuple[float, int]] = {}  # since when, and how many requests
        self._strangers = Allowance(shared.clock, _STRANGERS)

    def may_answer(self, mac: str) -> bool:
        """Whether this server answers a machine that asks all, of several."""
        peers = self._shared.peers
        return peers is None or peers.is_mine_raw(mac, self._over)

    def opened(self, mac: str, asked: Asked, words: str, device: str) -> Opened | None:
        """What a machine that asks gets; `words` and `device` for people. What it is, and why it
        gets nothing, is told once."""
        site = self._shared.site
        if not self._may_ask(mac):
            return None
        segment = best(site, self._segments, mac, None)[0]
        who, news = by_mac(site, mac), self._news(mac, words)
        if news:
            what = f"{self._over}, {device}"
            told = Seen(who, segment, what, self._over, over=self._over, asks=words)
            self._shared.emit(told)
        found = raw_system(site, who, segment, asked, self._shared.once.assigned)
        if isinstance(found, NoRawSystem):
            if news:
                self._say_none(who, segment, found, words)
            return None
        opened = self._open(who, found, news)
        if opened and (problem := opened.problem):
            if news:
                self._say_none(who, segment, NoRawSystem(problem, path=found.path), words)
            opened.close()
            return None
        return opened

    def _open(self, who: Who, system: RawSystem, news: bool) -> Opened | None:
        """All of its images, or none."""
        found: list[tuple[int, int]] = []
        for image in system.images:
            try:
                found.append(self._shared.files.find(*image.places)[:2])
            except OSError as error:
                for descriptor, _ in found:
                    os.close(descriptor)
                if news:
                    self._missing(who, image.path, error)
                return None
        return Opened(who, system, [one for one, _ in found], [size for _, size in found])

    def begins(self, opened: Opened) -> None:
        """Its first block leaves."""
        opened.began = self._shared.clock.monotonic()
        who, path = opened.who, opened.system.path
        self._shared.emit(Told(who, (opened.system.told,)))
        self._shared.emit(FileAsked(who, path, FileKind.KERNEL, opened.size, self._over))

    def done(self, opened: Opened, resent: int) -> None:
        """It has all of it."""
        seconds, who = self._shared.clock.monotonic() - opened.began, opened.who
        path, size = opened.system.path, opened.size
        told = FileSent(who, path, FileKind.KERNEL, size, seconds, self._over, resent)
        self._shared.emit(told)
        self._said = {key: at for key, at in self._said.items() if key[0] != who.mac}

    def aborted(self, opened: Opened, reason: str, why: Abort) -> None:
        """It got no further."""
        told = FileAborted(opened.who, opened.system.path, self._over, reason, why)
        self._shared.emit(told)

    def _may_ask(self, mac: str) -> bool:
        """A flood of requests costs little: of one machine, and of all that are strangers."""
        now = self._shared.clock.monotonic()
        since, count = self._recent.get(mac, (now, 0))
        since, count = (since, count + 1) if now - since < 1 else (now, 1)
        if len(self._recent) >= _MOST_SAID:
            self._recent.clear()
        self._recent[mac] = since, count
        known = mac in self._shared.site.by_mac
        if count > _ASKS or (not known and not self._strangers.take()):
            self._shared.malformed(self._over.lower(), "more requests in a second than are taken")
            return False
        return True

    def _news(self, mac: str, asked: str) -> bool:
        """A machine asks for the same every few seconds, in one framing and the other."""
        now, key = self._shared.clock.monotonic(), (mac, asked)
        if now - self._said.get(key, float("-inf")) < _SAID_AGAIN:
            return False
        if len(self._said) >= _MOST_SAID:
            self._said.clear()
        self._said[key] = now
        return True

    def _say_none(self, who: Who, segment: str, found: NoRawSystem, asked: str) -> None:
        if found.refused:
            self._shared.emit(Refused(who, segment, found.reason, found.refused))
        elif found.waits:
            self._shared.emit(Waits(who, segment))
        else:
            why = Missed.NOT_YOURS if found.reason == NOT_YOURS else Missed.NOT_ALLOWED
            self._shared.emit(
                FileMissing(who, found.path or asked, self._over, found.reason, why=why)
            )

    def _missing(self, who: Who, path: str, error: OSError) -> None:
        now = self._shared.clock.monotonic()
        near: list[str] = []
        if error.errno == errno.ENOENT and now - self._compared > _COMPARE_AGAIN:
            self._compared = now
            names = self._shared.files.names()
            near = nearest(path, names) or nearest(path.lower(), names)
        told = FileMissing(
            who, path, self._over, why_not(error), why=Missed.ABSENT, near=tuple(near)
        )
        self._shared.emit(told)


@dataclass
class Loading:
    """A load, and its file."""

    opened: Opened

    @property
    def done(self) -> int:
        """Bytes that it has."""
        raise NotImplementedError


L = TypeVar("L", bound=Loading)


class RawService(ABC, Generic[L]):
    """One protocol on one interface: frames come in, and loads are looked at now and then."""

    over: ClassVar[str]  # the protocol's name
    listens: ClassVar[Listens]

    def __init__(self, shared: Shared, link: Link, segments: Sequence[str]) -> None:
        self._shared, self._link = shared, link
        self._machines = Machines(shared, segments, self.over)
        self._own = link.own
        self._loads: dict[bytes, L] = {}  # by the machine's address

    @abstractmethod
    def _heard(self, data: bytes) -> None:
        """A frame from the network. Raises MalformedError."""

    @abstractmethod
    def _tick(self, source: bytes, loading: L, now: float) -> None:
        """Look at one load; `now` is monotonic."""

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        asyncio.get_running_loop().add_reader(self._link.fileno(), self._receive)
        while True:
            await self._shared.clock.sleep(_SWEEP if self._loads else _IDLE)
            now = self._shared.clock.monotonic()
            for source, loading in list(self._loads.items()):
                self._tick(source, loading, now)

    def close(self) -> None:
        """End all loads."""
        asyncio.get_running_loop().remove_reader(self._link.fileno())
        self._link.close()
        for source in list(self._loads):
            self._end(source)

    @property
    def under_way(self) -> list[Moving]:
        """Loads now."""
        return [loading.opened.moving(loading.done) for loading in self._loads.values()]

    def _receive(self) -> None:
        for _ in range(_BATCH):
            try:
                data = self._link.receive()
            except OSError:
                return
            try:
                self._heard(data)
            except MalformedError as error:
                self._shared.malformed(self.over.lower(), str(error))

    def _begins(self, source: bytes, loading: L) -> bool:
        """False when there is no room for one more. A machine that asks again begins anew."""
        self._end(source)
        if len(self._loads) >= _MOST_LOADS:
            reason = f"more than {_MOST_LOADS} loads at once ({loading.opened.who})"
            self._shared.malformed(self.over.lower(), reason)
            loading.opened.close()
            return False
        self._loads[source] = loading
        self._machines.begins(loading.opened)
        return True

    def _over_for(self, source: bytes, resent: int) -> None:
        """It has all of it."""
        self._machines.done(self._loads[source].opened, resent)
        self._end(source)

    def _broken_off(self, source: bytes, reason: str, why: Abort) -> None:
        self._machines.aborted(self._loads[source].opened, reason, why)
        self._end(source)

    def _end(self, source: bytes) -> None:
        if loading := self._loads.pop(source, None):
            loading.opened.close()
