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
class RawImage:
    """An image for the machine's memory from `load` on. `places`: where it is below `files`, the
    first that is there."""

    path: str
    places: tuple[str, ...]
    load: int


@dataclass(frozen=True, slots=True)
class RawSystem:
    """`images` are sent in this order, and begun at the address `start`; the first is the one that
    was asked for."""

    loadout: str
    images: tuple[RawImage, ...]
    start: int

    @property
    def path(self) -> str:
        """Of what was asked for."""
        return self.images[0].path

    @property
    def told(self) -> Loaded:
        """As events say it."""
        return Loaded(self.loadout, self.path, tuple(i.path for i in self.images[1:]), "", None)


@dataclass(frozen=True, slots=True)
class NoRawSystem:
    """Why it gets none. `refused`: it gets nothing at all here; `waits`: in the lobby."""

    reason: str
    refused: Refusal | None = None
    waits: bool = False
    path: str = ""  # what it asked for, where that was a name


@dataclass(frozen=True, slots=True)
class Asked:
    """What a machine asks for. `itself`: `name` is what it calls itself, which only counts where
    it stands in `names`."""

    name: str | None = None  # None: any system
    itself: bool = False


ANY = Asked()


def raw_system(
    site: Site, who: Who, segment: str, asked: Asked = ANY, assigned: Assigned = NOT_ASSIGNED
) -> RawSystem | NoRawSystem:
    """For a machine on `segment`."""
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
    if asked.name is not None:
        wanted, other = asked.name.casefold(), path if asked.itself else asked.name
        path = next((p for n, p in loadout.names.items() if n.casefold() == wanted), other)
    if path is None:
        return NoRawSystem(f"its loadout {found.loadout_name} has no raw = ...")
    images = []
    for one, load in ((path, loadout.load), *loadout.parts.items()):
        try:
            clean = clean_path(one.encode("utf-8"))
        except PathRefusedError as error:
            return NoRawSystem(str(error), path=one)
        if not may_have(site, who, clean):
            return NoRawSystem(NOT_YOURS, path=clean)
        images.append(RawImage(clean, (*own_places(site, who, clean), clean), load))
    start = loadout.load if loadout.start is None else loadout.start
    return RawSystem(found.loadout_name, tuple(images), start)
