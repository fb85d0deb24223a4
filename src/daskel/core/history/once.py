"""Assignments for one boot: used up when the client has fetched all that it boots from."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from daskel.core.history.events import Event, Seen
from daskel.core.history.fetched import Fetched
from daskel.core.site.layers import Assigned
from daskel.core.site.model import Site


@dataclass(frozen=True, slots=True)
class Once:
    """One assignment: waiting for its boot, or running since it was used up."""

    client: str
    boot: str  # a loadout
    running: bool = False


class Assignments:
    """All assignments for one boot; `assigned` is what the layers look at."""

    def __init__(self, site: Site, assigned: Collection[Once] = ()) -> None:
        self._site = site
        self._fetched = Fetched()
        self._running = {once.client: once.boot for once in assigned if once.running}
        self._waiting = {once.client: once.boot for once in assigned if not once.running}
        self._slates: dict[tuple[str, str], int] = {}
        self.assigned = Assigned(self._waiting, self._running, self._slates)

    def use(self, site: Site) -> None:
        """Go on with another site."""
        self._site = site

    def set(self, client: str, boot: str | None) -> None:
        """What a client boots next, once; None for what it always boots."""
        self._fetched.forget(client)
        self._waiting.pop(client, None)
        if boot is not None:
            self._waiting[client] = boot

    def learn(self, assigned: Collection[Once]) -> None:
        """What the store has, where other servers write it, too."""
        waiting = {once.client: once.boot for once in assigned if not once.running}
        running = {once.client: once.boot for once in assigned if once.running}
        for client in self._waiting.keys() | waiting.keys():
            if self._waiting.get(client) != waiting.get(client):
                self.set(client, waiting.get(client))
        self._running.clear()
        self._running.update(running)

    def slate(self, root: str, client: str, version: int | None) -> bool:
        """The version that a client's slate stays on, None when it stays on none; whether that is
        another one than before."""
        before = self._slates.pop((root, client), None)
        if version is not None:
            self._slates[root, client] = version
        return before != version

    def happened(self, event: Event) -> list[Once] | None:
        """What is to be kept for the event's client from now on; None when nothing changed."""
        client = event.who.name
        if client is None or not (self._waiting or self._running):
            return None
        if isinstance(event, Seen) and event.firmware and self._running.pop(client, None):
            waiting = self._waiting.get(client)
            return [Once(client, waiting)] if waiting else []
        boot = self._waiting.get(client)
        loadout = self._site.loadouts.get(boot or "")
        if boot is None or loadout is None or not self._fetched.all_of([loadout], event):
            return None
        self.set(client, None)
        self._running[client] = boot
        return [Once(client, boot, running=True)]
