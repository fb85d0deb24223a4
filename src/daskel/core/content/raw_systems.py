"""What a machine that asks in raw Ethernet frames gets: by its loadout, and by the name it says."""

from __future__ import annotations

from dataclasses import dataclass

from daskel.core.boot.identity import refusal, settings_of, waits
from daskel.core.content.computed import NOT_YOURS, may_have, own_places
from daskel.core.content.paths import PathRefusedError, clean_path
from daskel.core.history.events import Loaded, Refusal, Who
from daskel.core.site.layers import NOT_ASSIGNED, Assigned
from daskel.core.site.model import Site


@dataclass(frozen=True, slots=True)
class RawSystem:
    """`places`: where the image is, below `files`, the first that is there. `load` and `start` are
    addresses of the machine's."""

    loadout: str
    path: str
    places: tuple[str, ...]
    load: int
    start: int

    @property
    def told(self) -> Loaded:
        """As events say it."""
        return Loaded(self.loadout, self.path, (), "", None)


@dataclass(frozen=True, slots=True)
class NoRawSystem:
    """Why it gets none. `refused`: it gets nothing at all here; `waits`: in the lobby."""

    reason: str
    refused: Refusal | None = None
    waits: bool = False
    path: str = ""  # what it asked for, where that was a name


def raw_system(
    site: Site, who: Who, segment: str, name: str | None, assigned: Assigned = NOT_ASSIGNED
) -> RawSystem | NoRawSystem:
    """For a machine on `segment`. `name`: what it asks for by name, None for any system."""
    denial = refusal(site, str(who.mac), segment)
    if denial:
        return NoRawSystem(denial.words, refused=denial.why)
    if waits(site, who, segment):
        return NoRawSystem("it waits in the lobby", waits=True)
    found = settings_of(site, who, segment, assigned=assigned)
    if found is None or found.loadout is None or found.loadout_name is None:
        return NoRawSystem("it has nothing to boot")
    loadout = found.loadout
    path = loadout.raw
    if name is not None:
        wanted = name.casefold()
        path = next((p for n, p in loadout.names.items() if n.casefold() == wanted), name)
    if path is None:
        return NoRawSystem(f"its loadout {found.loadout_name} has no raw = ...")
    try:
        path = clean_path(path.encode("utf-8"))
    except PathRefusedError as error:
        return NoRawSystem(str(error), path=path)
    if not may_have(site, who, path):
        return NoRawSystem(NOT_YOURS, path=path)
    start = loadout.load if loadout.start is None else loadout.start
    places = (*own_places(site, who, path), path)
    return RawSystem(found.loadout_name, path, places, loadout.load, start)
