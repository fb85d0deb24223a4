"""The lobby: machines that wanted to boot and are not in the site, a bounded number of them."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from daskel.core.history.events import Seen

MOST = 500  # machines remembered; a flood of made-up ones pushes out those seen once


@dataclass(frozen=True, slots=True)
class Sighting:
    """One machine in the lobby. Times in seconds since 1970."""

    mac: str
    segment: str
    architecture: int | None
    vendor_class: str
    machine_id: str  # hexadecimal
    first: float
    last: float
    times: int = 1
    relay: str = ""  # the relay agent that it came through


class Lobby:
    """What was seen, and which of it is not yet kept."""

    def __init__(self, sightings: Collection[Sighting] = ()) -> None:
        self._by_mac = {sighting.mac: sighting for sighting in sightings}
        self._changed: set[str] = set()

    def __iter__(self) -> Iterator[Sighting]:
        return iter(self._by_mac.values())

    def see(self, event: Seen, now: float) -> None:
        """Remember a machine that is not in the site and wants to boot."""
        mac = event.who.mac
        if mac is None or event.who.name is not None or event.firmware is None:
            return
        before = self._by_mac.get(mac)
        if before is None and len(self._by_mac) >= MOST:
            self._push_out()
        first, times = (before.first, before.times + 1) if before else (now, 1)
        self._by_mac[mac] = Sighting(
            mac, event.segment, event.architecture, event.vendor_class[:100], event.machine_id,
            first, now, times, event.relay[:100],
        )  # fmt: skip
        self._changed.add(mac)

    def forget(self, macs: Collection[str]) -> None:
        """Machines that need not be remembered."""
        for mac in macs:
            self._by_mac.pop(mac, None)
            self._changed.discard(mac)

    def unkept(self) -> list[Sighting]:
        """What changed since the last call."""
        changed = [self._by_mac[mac] for mac in self._changed if mac in self._by_mac]
        self._changed.clear()
        return changed

    def _push_out(self) -> None:
        """Make room: the one seen least often, of those the one seen longest ago."""
        gone = min(self._by_mac.values(), key=lambda sighting: (sighting.times, sighting.last))
        self.forget([gone.mac])
