"""What each client has fetched since its boot began, and whether that is all of a loadout."""

from __future__ import annotations

from collections.abc import Sequence

from daskel.core.history.events import Addressed, Event, FileKind, FileSent
from daskel.core.site.published import of_any_version
from daskel.core.site.tables import Loadout


class Fetched:
    """The paths that each client has fetched since its boot began."""

    def __init__(self) -> None:
        self._paths: dict[str, set[str]] = {}  # by client

    def all_of(self, loadouts: Sequence[Loadout], event: Event) -> bool:
        """With `event` its client has all of one of the loadouts: kernel and initrds, or, from its
        own disk, what its firmware is told when it gets its address."""
        client = event.who.name or ""
        if isinstance(event, Addressed):
            return event.firmware and any(loadout.boot == "local" for loadout in loadouts)
        if not isinstance(event, FileSent):
            return False
        if event.kind is FileKind.UNIFIED:  # of what it boots, and nothing to choose
            return any(loadout.kernel for loadout in loadouts)
        if event.kind is FileKind.CONFIGURATION:
            self._paths[client] = set()
        fetched = self._paths.setdefault(client, set())
        fetched.add(of_any_version(event.path))
        return any(
            lo.kernel and set(map(of_any_version, (lo.kernel, *lo.initrd))) <= fetched
            for lo in loadouts
        )

    def forget(self, client: str) -> None:
        """A client begins anew."""
        self._paths.pop(client, None)
