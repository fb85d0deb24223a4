"""What the live view asks the running server: every machine's boot, and one boot whole."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from daskel.core.history.boots import Boot, History, as_row
from daskel.core.history.case import Case
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.events import Address
from daskel.core.history.outcome import Result, in_trouble, result, waits_for
from daskel.service.clock import SYSTEM, Clock
from daskel.service.shared import Moving

_MOST = 1000  # machines
Elsewhere = Mapping[str, tuple[str, Boot]]  # by MAC address: the server of a boot, and the boot
_NOBODY: Elsewhere = {}


@dataclass(frozen=True, slots=True)
class _Told:
    """What is worked out from a boot's events. `state`: how many these are, and its result."""

    state: tuple[int, str]
    firmware: str
    address: Address | None
    segment: str
    why: str
    waits: str


class Watching:
    """`since`: boots in which nothing happened since then are left out."""

    def __init__(self, history: History, clock: Clock = SYSTEM) -> None:
        self._history, self._clock = history, clock
        self._before: dict[str, tuple[float, int]] = {}  # by machine: when, and how far its file
        self._told: dict[int, _Told] = {}  # by boot; worked out anew when something happened

    def rows(
        self, moving: Iterable[Moving], since: float, elsewhere: Elsewhere = _NOBODY
    ) -> list[dict[str, Any]]:
        """A row for each machine that something happened to since then (seconds since 1970), here
        or at another server."""
        now = self._clock.now()
        files = {move.who.mac: move for move in moving if move.who.mac}
        found = {boot.mac: boot for boot in self._history.since(since)}
        sending = self._history.current.keys() & files.keys()
        found |= {mac: self._history.current[mac] for mac in sending}
        there = {
            mac: boot for mac, (_, boot) in elsewhere.items()
            if boot.last >= since and self._is_newest(boot)
        }  # fmt: skip
        found = {mac: boot for mac, boot in found.items() if mac not in there} | there
        boots = sorted(found.values(), key=lambda boot: (boot.began, boot.number))[-_MOST:]
        self._told = {boot.number: self._tell(boot, now) for boot in boots}
        rows = [
            self._row(boot, None if boot.mac in there else files.get(boot.mac), now)
            | {"server": elsewhere[boot.mac][0] if boot.mac in there else None}
            for boot in boots
        ]
        self._before = {mac: (now, move.done) for mac, move in files.items() if mac}
        return rows

    def _is_newest(self, boot: Boot) -> bool:
        own = self._history.current.get(boot.mac)
        return own is None or own.began < boot.began

    def boot(self, name: str, elsewhere: Elsewhere = _NOBODY) -> dict[str, Any]:
        """The current boot of a client, by name or MAC address, as it is kept; and the one before,
        when its firmware went on from there at once."""
        for _, boot in elsewhere.values():
            if name in (boot.client, boot.mac) and self._is_newest(boot):
                return {"boot": as_row(boot), "before": []}
        for boot in self._history.current.values():
            if name in (boot.client, boot.mac):
                return {
                    "boot": as_row(boot),
                    "before": list(map(as_row, self._history.before(boot))),
                }
        return {"boot": None, "before": []}

    def _tell(self, boot: Boot, now: float) -> _Told:
        ended = result(boot, now)
        state = len(boot.events), ended
        told = self._told.get(boot.number)
        if told and told.state == state:
            return told
        troubled = ended == Result.UNDER_WAY and in_trouble(boot)
        why = ""
        if troubled or ended in (Result.STUCK, Result.REFUSED):
            causes = diagnose(Case(boot, now, self._history.before(boot)))
            nothing = "nothing happens any more" if ended == Result.STUCK else ""
            why = causes[0].problem if causes else nothing
        waits = waits_for(boot) if ended in (Result.UNDER_WAY, Result.LOBBY) else ""
        return _Told(state, boot.firmware, boot.address, boot.segment, why, waits)

    def _row(self, boot: Boot, move: Moving | None, now: float) -> dict[str, Any]:
        told = self._told[boot.number]
        return {
            "client": boot.client,
            "mac": boot.mac,
            "number": boot.number,
            "segment": told.segment,
            "firmware": told.firmware,
            "address": str(told.address) if told.address else None,
            "stage": boot.stage.value,
            "result": told.state[1],
            "began": boot.began,
            "last": boot.last,
            "reached": boot.stages[-1][1] if boot.stages else boot.began,
            "file": self._file(boot.mac, move, now) if move else None,
            "private": bool(boot.private),
            "waits_for": told.waits,
            "why": told.why,
        }

    def _file(self, mac: str, move: Moving, now: float) -> dict[str, Any]:
        before, done = self._before.get(mac, (now, move.done))
        speed = (move.done - done) / (now - before) if now > before and move.done > done else None
        return {"path": move.path, "done": move.done, "size": move.size, "speed": speed}
