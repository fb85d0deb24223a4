"""A batch of clients that are to boot once: who of them has fetched all that it boots from."""

from __future__ import annotations

from collections.abc import Collection

from daskel.core.history.events import Event
from daskel.core.history.fetched import Fetched
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.tables import Loadout


class Batch:
    """`left` are those that have not got there yet, in the order of the site file."""

    def __init__(self, site: Site, clients: Collection[str]) -> None:
        self._site = site
        self.clients = tuple(clients)
        self.left = list(clients)
        self._fetched = Fetched()

    def use(self, site: Site) -> None:
        """What they boot has changed; who is not in the site any more is not waited for."""
        self._site = site
        self.clients = tuple(name for name in self.clients if name in site.clients)
        self.left = [name for name in self.left if name in site.clients]

    def happened(self, event: Event) -> None:
        """Take note of an event of one of the clients."""
        name = event.who.name
        if name in self.left and self._fetched.all_of(self._loadouts(name), event):
            self.left.remove(name)

    def _loadouts(self, name: str) -> list[Loadout]:
        """What it boots, or can choose in its menu. Whether it started from its own disk is only
        known when there is no choice."""
        entries = effective(self._site, name).entries
        named = [self._site.loadouts[entry] for entry in entries]
        return [lo for lo in named if lo.boot != "local" or len(named) == 1]

    def rooted(self) -> list[str]:
        """Clients whose root is on this server: what they run ends with it."""
        own = self._site.settings.nfs == "daskel"
        return [n for n in self.clients if own and any(lo.root for lo in self._loadouts(n))]
