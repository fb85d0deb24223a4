"""The phases of real machines: what was measured of the server, what earlier boots of such machines
show, and a table of firmware for the rest."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from daskel.core.dhcp.client_messages import FACES, LOADER
from daskel.core.forecast.model import Own, Phase, Resource
from daskel.core.history.boots import Boot
from daskel.core.history.events import Stage
from daskel.core.history.outcome import GOOD, result
from daskel.core.multicast.transmission import least_time
from daskel.core.site.key_types import Fetch
from daskel.core.values import counted, show_duration, show_size

LINK = 125e6  # bytes a second: 1 Gbit/s
_ON_WIRE = 1.06  # bytes on the wire for each byte of a file: heads of frames, IP, UDP or TCP
_DISK = 150e6  # bytes a second, read in one go
_TRIP = 0.0004  # seconds: there and back on a wire of a room, with what the client does itself
_MISSED = 0.02  # of what is sent to many, that comes once more
_GRUB_HTTP = 8192  # bytes that GRUB takes over HTTP before it acknowledges
_LOADER_STARTS, _SYSTEM_STARTS, _MOUNTS = 1.5, 8.0, 0.3  # seconds
_FASTEST = 0.1  # of the boots that are kept: the part that was disturbed least
_FEWEST = 2  # boots, before anything is taken from them


@dataclass(frozen=True, slots=True)
class Pace:
    """Of one kind of firmware, in seconds: from power-on to its first message, and from there to
    its address; `block`: bytes of a file for each round trip."""

    power_on: float
    addressing: float
    block: int
    loader: int = LOADER.block_size or 512  # the same of what it loads then, over TFTP
    grub: bool = True  # it loads by GRUB, which knows HTTP, too


_PACES = {  # addressing and blocks were measured (tests/vm); power-on differs most between machines
    "bios": Pace(15.0, 0.5, 1432),
    "uefi-x64": Pace(20.0, 4.5, 1468 * 4),
    "uefi-x64-http": Pace(20.0, 4.5, 65535),
    "uboot": Pace(5.0, 1.5, 1468, 1468, grub=False),
    "board": Pace(5.0, 1.0, 512, 512, grub=False),
}


def pace(firmware: str) -> Pace:
    """Of a firmware by its name; of others, that of UEFI."""
    usual = _PACES["uefi-x64-http" if firmware.endswith("-http") else "uefi-x64"]
    return _PACES.get(firmware, usual)


@dataclass(frozen=True, slots=True)
class Load:
    """What a stage costs the server: bytes of files, seconds of its first process, and of all of
    its processes."""

    stage: str
    size: int
    server: float
    processors: float
    once: bool = False  # it is sent once to all that come at about the same time


@dataclass(frozen=True)
class Kind:
    """Clients that boot alike."""

    firmware: str  # one of `FACES`
    loadout: str
    loads: Sequence[Load]
    waits: float = 0.0  # seconds that a menu shows before its default boots
    fetch: Fetch = "http"  # what its boot loader fetches the kernel over

    @property
    def files(self) -> int:
        """Bytes that a client fetches."""
        return sum(load.size for load in self.loads)


_Alike = tuple[int | None, str]


@dataclass
class Experience:
    """Seconds from each stage to the next, as earlier boots took when little disturbed them; by
    architecture type and loadout."""

    seconds: dict[_Alike, dict[Stage, float]] = field(default_factory=dict)
    boots: dict[_Alike, int] = field(default_factory=dict)

    @classmethod
    def of(cls, boots: Iterable[Boot]) -> Experience:
        """From boots that came to their root."""
        found: dict[_Alike, list[Mapping[Stage, float]]] = {}
        for boot in boots:
            if boot.loaded and result(boot, float("inf")) in GOOD and boot.architecture is not None:
                key: _Alike = boot.architecture, boot.loaded.loadout
                found.setdefault(key, []).append(boot.durations)
        made = cls()
        for key, durations in found.items():
            if len(durations) < _FEWEST:
                continue
            made.boots[key] = len(durations)
            made.seconds[key] = {
                stage: sorted(d[stage] for d in durations if stage in d)[
                    int(_FASTEST * (sum(stage in d for d in durations) - 1))
                ]
                for stage in {stage for d in durations for stage in d}
            }
        return made

    def like(self, kind: Kind) -> dict[Stage, float]:
        """Of machines of this kind; empty when too few were seen."""
        return self.seconds.get(_key(kind), {})


def _key(kind: Kind) -> _Alike:
    return FACES[kind.firmware].architecture, kind.loadout


_FROM = {  # the stage that a phase begins with
    "addressed": Stage.SEEN, "loader": Stage.ADDRESSED, "menu": Stage.LOADER,
    "kernel": Stage.MENU, "initrd": Stage.KERNEL, "running kernel": Stage.INITRD,
    "root": Stage.RUNNING,
}  # fmt: skip


def leaders(kinds: Sequence[Kind], starts: Sequence[float], link: float) -> list[bool]:
    """Of clients that begin in this order, those for which a transmission begins, where files are
    sent to many: the others come while it is under way. Times are seconds."""
    until: dict[str, float] = {}  # by loadout
    found = []
    for kind, start in zip(kinds, starts, strict=True):
        found.append(start > until.get(kind.loadout, float("-inf")))
        if found[-1]:
            size = sum(load.size for load in kind.loads if load.once)
            until[kind.loadout] = start + least_time(size, link)
    return found


def phases(
    kind: Kind, experience: Experience, *, first: bool, leads: bool = True, link: float = LINK
) -> list[Phase]:
    """Of one client, from power-on to its root; `first`: it is the one for which the files are
    read from the disk; `leads`: what is sent to many is sent for it, and others hear it."""
    known, own = experience.like(kind), pace(kind.firmware)
    found = [Phase("seen", own.power_on, Own.FIRMWARE)]
    for load in kind.loads:
        needs = {Resource.SERVER: load.server, Resource.PROCESSORS: load.processors}
        if load.size:
            again = _MISSED if load.once and not leads else 1.0
            needs[Resource.LINK] = load.size * _ON_WIRE * again
            needs |= {Resource.DISK: float(load.size)} if first else {}
        seconds, limit = _alone(load, own, kind.fetch)
        if load.once:
            seconds, limit = seconds + least_time(load.size, link), Own.TRANSMISSION
        before = _FROM.get(load.stage)
        if before in known and load.stage != "menu":
            seconds = max(known[before], 1e-3)
        if load.stage == "kernel" and before not in known:
            seconds += kind.waits
            limit = Own.PEOPLE if kind.waits > seconds / 2 else limit
        found.append(Phase(load.stage, seconds, limit, needs))
    return found


def _alone(load: Load, own: Pace, fetch: Fetch) -> tuple[float, Own]:
    """Seconds that a phase takes when nobody else boots, and what it waits for."""
    match load.stage:
        case "addressed":
            return own.addressing, Own.FIRMWARE
        case "loader":
            return load.size / own.block * _TRIP, Own.TRIPS
        case "menu":
            return _LOADER_STARTS, Own.FIRMWARE
        case "kernel" | "initrd":
            block = max(own.loader, _GRUB_HTTP) if own.grub and fetch == "http" else own.loader
            return load.size / block * _TRIP, Own.TRIPS
        case "running kernel":
            return _SYSTEM_STARTS, Own.SYSTEM
        case _:
            return _MOUNTS + load.processors, Own.SYSTEM


def assumptions(kinds: Sequence[Kind], experience: Experience, link: float) -> list[str]:
    """What a forecast rests on, each in a sentence."""
    said = [f"the link carries {link * 8 / 1e9:g} Gbit/s, and nothing else uses it"]
    for kind in dict.fromkeys((k.firmware, k.loadout) for k in kinds):
        one = next(k for k in kinds if (k.firmware, k.loadout) == kind)
        own, boots = pace(kind[0]), experience.boots.get(_key(one), 0)
        on = f"{kind[0]} needs {show_duration(own.power_on)} from power-on to its first message"
        said.append(f"{on} (a table: nobody hears that time)")
        if boots:
            said.append(
                f"{kind[0]} with {kind[1]}: as the least disturbed of the "
                f"{counted(boots, 'good boot')} that are kept"
            )
        else:
            said.append(
                f"{kind[0]} with {kind[1]}: by a table of firmware, {_TRIP * 1e3:g} ms for each "
                f"round trip, {_SYSTEM_STARTS:g} s for its kernel and initrd to start: fewer than "
                f"{_FEWEST} good boots are kept"
            )
    if many := [load for kind in kinds for load in kind.loads if load.once]:
        size = max(load.size for load in many)
        said.append(
            f"{show_size(size)} of a root are sent once to all that come at about the same time, "
            f"and {_MISSED:.0%} of it again to each"
        )
    size = max((kind.files for kind in kinds), default=0)
    said.append(
        f"each file is read from the disk once, at {_DISK / 1e6:g} MB/s, and is in memory then"
        if size
        else "no files are fetched"
    )
    said.append("what a system reads after it has mounted its root is not counted")
    return said


def capacities(link: float, processors: float) -> dict[Resource, float]:
    """What a server of its own offers to a room."""
    return {
        Resource.LINK: link, Resource.SERVER: 1.0, Resource.PROCESSORS: processors,
        Resource.DISK: _DISK,
    }  # fmt: skip
