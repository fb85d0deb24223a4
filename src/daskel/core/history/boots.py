"""Boots, put together from events: one at a time for each machine.

A boot is the list of its events with their times; everything that is shown of it follows from that.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from itertools import count, islice, takewhile
from typing import Any

from daskel.core.history.encoding import as_json, from_json
from daskel.core.history.events import (
    Address,
    Addressed,
    Event,
    FileAborted,
    FileAsked,
    FileMissing,
    FileSent,
    FileSized,
    FileUntold,
    ImageStep,
    ImageTold,
    Loaded,
    Mounted,
    Seen,
    Stage,
    Told,
    Up,
)
from daskel.core.history.stages import stage_after

_MOST_EVENTS, _MOST_ASKED = 400, 40  # of one boot; and of DHCP among them
_RECENT = 300  # events of all machines, for those who look
_MOST_STRANGERS = 500  # machines that are not in the site, whose boots are followed
_STILL, _LONG = 1.0, 10.0  # seconds
_SAME_TRY = 60.0  # seconds in which firmware that got nowhere asks again
AT_ONCE = 5.0  # seconds from a boot's end, in which firmware goes on to its next way to boot
_BEGINNINGS = (Stage.SEEN, Stage.REFUSED, Stage.LOBBY)


def plain(path: str) -> str:
    """A path as the site file has it, for one as it was on the wire."""
    return path.replace("\\", "/").lstrip("/")


@dataclass
class Boot:
    """`stages`: when it came to each, in that order. Times are seconds since 1970."""

    number: int
    mac: str
    client: str | None
    began: float
    events: list[tuple[float, Event]] = field(default_factory=list)
    stage: Stage = Stage.SEEN
    stages: list[tuple[Stage, float]] = field(default_factory=list)
    asked: int = 0  # DHCP messages among the events

    @property
    def name(self) -> str:
        """The client's name, else its MAC address."""
        return self.client or self.mac

    @property
    def last(self) -> float:
        """When something happened last, in seconds since 1970."""
        return self.events[-1][0] if self.events else self.began

    def add(self, now: float, event: Event) -> bool:
        """False for what tells nothing more: one more of many that are alike."""
        before = self.stages[-1][0] if self.stages else None
        stage = stage_after(before, event)
        if stage is not None and stage is not before:
            self.stage = stage
            self.stages.append((stage, now))
        elif self._full(event):
            return False
        self.events.append((now, event))
        self.asked += isinstance(event, (Seen, Addressed))
        return True

    def _full(self, event: Event) -> bool:
        if isinstance(event, (Seen, Addressed)):  # it renews its lease again and again
            return self.asked >= _MOST_ASKED
        return len(self.events) >= _MOST_EVENTS and not isinstance(event, Up)

    def of(self, *kinds: type[Event]) -> Iterator[tuple[float, Any]]:
        """Times and events of some kinds, in their order."""
        return ((at, event) for at, event in self.events if isinstance(event, kinds))

    def newest(self, kind: type[Event]) -> Any | None:
        """The last event of a kind."""
        return next((e for _, e in reversed(self.events) if isinstance(e, kind)), None)

    @property
    def firmware(self) -> str:
        """The firmware in words; empty when none was seen."""
        return next((event.firmware for _, event in self.of(Seen) if event.firmware), "")

    @property
    def architecture(self) -> int | None:
        """The architecture type that its firmware told (RFC 4578 2.1); None when none was seen."""
        way = self.way
        return way[0] if way else None

    @property
    def way(self) -> tuple[int, bool] | None:
        """The way in which its firmware tries to boot: its architecture type, and whether over
        IPv6; None when none was seen."""
        told = ((e.architecture, e.ipv6) for _, e in self.of(Seen) if e.architecture is not None)
        return next(told, None)

    @property
    def address(self) -> Address | None:
        """The address that it had last."""
        found = self.newest(Addressed)
        return found.address if found else None

    @property
    def segment(self) -> str:
        """The segment that it was seen on last; empty when none was."""
        return next((event.segment for _, event in self.of(Seen, Addressed)), "")

    @property
    def loaded(self) -> Loaded | None:
        """The loadout that it was told and whose kernel it fetched; before that, the one that
        boots by itself."""
        told: Told | None = self.newest(Told)
        if told is None or not told.loadouts:
            return None
        fetched = {plain(event.path) for _, event in self.of(FileSent, FileAsked)}
        took = (o for o in told.loadouts if o.kernel in fetched)
        return next(took, told.loadouts[0])

    @property
    def root(self) -> str:
        """The root that it mounted, and how."""
        found: Mounted | None = self.newest(Mounted)
        return f"{found.root}, {found.how}" if found else ""

    @property
    def private(self) -> str:
        """Where the key is by which its root came through the tunnel; empty when it did not."""
        steps = (told for _, told in self.of(ImageTold) if told.step is ImageStep.TUNNEL)
        return next((told.text for told in steps), "")

    @property
    def durations(self) -> dict[Stage, float]:
        """Seconds that each stage took until the next one; the last one is not over."""
        ends = [at for _, at in self.stages[1:]]
        return {stage: end - at for (stage, at), end in zip(self.stages, ends, strict=False)}


class End(Enum):
    """What became of a file that was asked for."""

    SENT = "sent"
    UNDER_WAY = "under way"
    SIZED = "size only"
    MISSING = "not there"
    ABORTED = "broke off"
    UNTOLD = "end not heard"


@dataclass(frozen=True, slots=True)
class Fetch:
    """One file that a client asked for, and what became of it."""

    at: float
    path: str
    kind: str
    size: int | None  # bytes
    seconds: float | None
    over: str
    resent: int  # packets
    end: End
    reason: str = ""  # why not, for people

    @property
    def is_whole(self) -> bool:
        """It stands for itself, and not only for a look at how large a file is."""
        untold = self.size is None and self.end in (End.SENT, End.UNTOLD)
        return self.end is not End.SIZED and not untold

    @property
    def how(self) -> str:
        """What became of it, in words."""
        return f"{self.end.value}: {self.reason}" if self.reason else self.end.value


def fetches(boot: Boot) -> list[Fetch]:
    """The files of a boot in the order in which they were asked for."""
    found: list[Fetch] = []
    open_at: dict[tuple[str, str], int] = {}
    for at, event in boot.of(FileAsked, FileSized, FileSent, FileMissing, FileAborted, FileUntold):
        key = event.path, event.over
        if isinstance(event, FileAsked):
            open_at[key] = len(found)
            asked = Fetch(
                at, event.path, event.kind.value, event.size, None, event.over, 0, End.UNDER_WAY
            )
            found.append(asked)
            continue
        begun = open_at.pop(key, None)
        before = found[begun] if begun is not None else None
        if isinstance(event, FileSent):
            began = before.at if before else at - event.seconds
            line = Fetch(
                began, event.path, event.kind.value, event.size, event.seconds, event.over,
                event.resent, End.SENT,
            )  # fmt: skip
        elif isinstance(event, FileSized):
            if before:
                found[begun or 0] = replace(before, end=End.SIZED)
            continue
        elif isinstance(event, FileUntold):
            if before:
                end = End.SENT if event.proved else End.UNTOLD
                found[begun or 0] = replace(before, end=end, size=before.size or None)
            continue
        else:
            missing = isinstance(event, FileMissing)
            kind = before.kind if before else ""
            size = before.size if before else None
            seconds = at - before.at if before else None
            end = End.MISSING if missing else End.ABORTED
            line = Fetch(before.at if before else at, event.path, kind, size, seconds, event.over,
                         0, end, event.reason)  # fmt: skip
        if begun is not None:
            found[begun] = line
        else:
            found.append(line)
    paths = [fetch.path for fetch in found]
    return [  # what was asked for its size, or looked at, and then fetched, is one
        f for at, f in enumerate(found) if f.is_whole or f.path not in paths[at + 1 :]
    ]


def under_way(boot: Boot) -> FileAsked | None:
    """The file that was asked for last, when it is still being sent."""
    ended: set[tuple[str, str]] = set()
    for _, event in reversed(boot.events):
        if isinstance(event, FileAsked):
            return None if (event.path, event.over) in ended else event
        if isinstance(event, (FileSized, FileSent, FileMissing, FileAborted, FileUntold)):
            ended.add((event.path, event.over))
    return None


def as_row(boot: Boot) -> dict[str, Any]:
    """What is kept of a boot."""
    return {
        "number": boot.number,
        "mac": boot.mac,
        "client": boot.client,
        "began": round(boot.began, 3),
        "last": boot.last,
        "stage": boot.stage.value,
        "events": [[round(at, 3), as_json(event)] for at, event in boot.events],
    }


def from_row(row: Mapping[str, Any]) -> Boot:
    """The boot that `as_row` made a row of."""
    boot = Boot(row["number"], row["mac"], row["client"], row["began"])
    for at, told in row["events"]:
        event = from_json(told)
        if event is not None:
            boot.add(at, event)
    return boot


class History:
    """The current boot of every machine. `numbers`: those of the boots to come."""

    def __init__(self, numbers: Iterator[int] | None = None) -> None:
        self.current: dict[str, Boot] = {}  # by MAC address; what happened last is at the end
        self._left: dict[str, Boot] = {}  # the boot before, of firmware that went on at once
        self._numbers = count(1) if numbers is None else numbers
        self.recent: deque[tuple[float, Event]] = deque(maxlen=_RECENT)
        self._changed: dict[int, tuple[Boot, float]] = {}  # and when it was last not kept
        self._strangers: dict[str, None] = {}  # those that are not in the site, oldest first

    def happened(self, now: float, event: Event) -> Boot | None:
        """The boot that an event belongs to; None when it is of no machine that is known."""
        mac = event.who.mac
        self.recent.append((now, event))
        if mac is None:
            return None
        boot = self.current.get(mac)
        if boot is None or self._begins(boot, now, event):
            boot = self._begin(mac, event.who.name, now)
        boot.client = event.who.name or boot.client
        if boot.add(now, event):
            self.current[mac] = self.current.pop(mac)
            self._changed.setdefault(boot.number, (boot, now))
        return boot

    def since(self, at: float) -> Iterator[Boot]:
        """The boots to which something happened since then (seconds since 1970), the last first."""
        return takewhile(lambda boot: boot.last >= at, reversed(self.current.values()))

    def before(self, boot: Boot) -> list[Boot]:
        """The boot of the same machine that ended when this one began: its firmware went on to its
        next way to boot. What was longer ago is in the store."""
        last = self._left.get(boot.mac)
        return [last] if last and self.current.get(boot.mac) is boot else []

    def go_on(self, boot: Boot) -> None:
        """A boot from before this server's start."""
        self.current[boot.mac] = boot

    def changed(self, now: float = float("inf"), most: int = 1_000_000) -> list[Boot]:
        """Copies of boots to which something happened since this was last asked: those to which
        nothing happens just now, and those that have waited for long."""
        waiting = (
            boot for boot, since in self._changed.values()
            if now - boot.last >= _STILL or now - since >= _LONG
        )  # fmt: skip
        found = list(islice(waiting, most))
        for boot in found:
            del self._changed[boot.number]
        return [replace(boot, events=list(boot.events)) for boot in found]

    def _begins(self, boot: Boot, now: float, event: Event) -> bool:
        """Firmware's DISCOVER begins a boot, unless it repeats one that got no further."""
        if not (isinstance(event, Seen) and event.firmware):
            return False
        return boot.stage not in _BEGINNINGS or now - boot.last > _SAME_TRY

    def _begin(self, mac: str, client: str | None, now: float) -> Boot:
        boot = Boot(next(self._numbers), mac, client, now)
        if client is None:
            self._strangers.pop(mac, None)
            self._strangers[mac] = None
            if len(self._strangers) > _MOST_STRANGERS:
                oldest = next(iter(self._strangers))
                del self._strangers[oldest]
                if (other := self.current.get(oldest)) and other.client is None:
                    del self.current[oldest]
                    self._left.pop(oldest, None)
        last = self.current.get(mac)
        self._left.pop(mac, None)
        if last and now - last.last <= AT_ONCE:
            self._left[mac] = last
        self.current[mac] = boot
        return boot
