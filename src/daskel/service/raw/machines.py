"""Machines that ask in raw Ethernet frames: what each gets, and what is told of it."""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
from dataclasses import dataclass

from daskel.core.boot.identity import by_mac
from daskel.core.boot.segments import best
from daskel.core.content.computed import NOT_YOURS
from daskel.core.content.paths import nearest
from daskel.core.content.raw_systems import NoRawSystem, RawSystem, raw_system
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
from daskel.service.allowance import Allowance
from daskel.service.shared import Moving, Shared
from daskel.system.host.confined_open import why_not

MOST_LOADS = 128  # at once, of one protocol on one interface
_SAID_AGAIN = 60.0  # seconds until the same question of a machine is news again
_MOST_SAID = 1000
_ASKS, _STRANGERS = 4, 20  # requests a second of one machine, and of all strangers
_COMPARE_AGAIN = 0.5  # seconds until names are compared for another missing file


@dataclass
class Opened:
    """A system for a machine, and its file. Close it."""

    who: Who
    system: RawSystem
    descriptor: int
    size: int  # bytes
    began: float = 0.0

    def read(self, offset: int, length: int) -> bytes:
        """Raises EOFError when the file has become shorter."""
        data = os.pread(self.descriptor, length, offset) if length else b""
        if len(data) < length:
            raise EOFError("the file has become shorter")
        return data

    def moving(self, done: int) -> Moving:
        """How far it is; `done` in bytes."""
        return Moving(self.who, self.system.path, done, self.size)

    def close(self) -> None:
        """Close its file."""
        os.close(self.descriptor)


class Machines:
    """Those on the segments of one interface that ask by one protocol."""

    def __init__(self, shared: Shared, segments: Sequence[str], over: str) -> None:
        self._shared, self._segments, self._over = shared, segments, over
        self._said: dict[tuple[str, str], float] = {}  # by machine and what it asked for
        self._compared = float("-inf")
        self._recent: dict[str, tuple[float, int]] = {}  # since when, and how many requests
        self._strangers = Allowance(shared.clock, _STRANGERS)

    def opened(self, mac: str, name: str | None, asked: str, device: str) -> Opened | None:
        """What a machine that asks gets; `asked` and `device` for people. What it is, and why it
        gets nothing, is told once."""
        site = self._shared.site
        if not self._may_ask(mac):
            return None
        segment = best(site, self._segments, mac, None)[0]
        who, news = by_mac(site, mac), self._news(mac, asked)
        if news:
            what = f"{self._over}, {device}, asks for {asked}"
            self._shared.emit(Seen(who, segment, what, self._over))
        found = raw_system(site, who, segment, name, self._shared.once.assigned)
        if isinstance(found, NoRawSystem):
            if news:
                self._say_none(who, segment, found, asked)
            return None
        try:
            descriptor, size, _ = self._shared.files.find(*found.places)
        except OSError as error:
            if news:
                self._missing(who, found.path, error)
            return None
        if not size:
            os.close(descriptor)
            return None
        return Opened(who, found, descriptor, size)

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

    def full(self, who: Who) -> None:
        """There is no room for one more load."""
        self._shared.malformed(self._over.lower(), f"more than {MOST_LOADS} loads at once ({who})")

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
