"""How long clients will take: what one boot of each kind costs this server, measured with simulated
clients, and a model of all of them together."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from statistics import median

from daskel.cli import records
from daskel.cli.output import Output
from daskel.cli.practice_server import Practice, Practised, begin, free_base, serving
from daskel.cli.rehearsals import jobs_of
from daskel.cli.usage import UsageProblem
from daskel.core.boot.segments import multicast_group
from daskel.core.forecast.model import Forecast, forecast
from daskel.core.forecast.room import (
    LINK,
    Experience,
    Kind,
    Load,
    assumptions,
    capacities,
    leaders,
    phases,
)
from daskel.core.site.key_types import Fetch
from daskel.core.site.layers import effective
from daskel.core.site.private import private_clients
from daskel.core.values import counted
from daskel.rehearse.costs import Cost, measured
from daskel.rehearse.storm import Job
from daskel.system.sitefile import SiteFile

_MOST_BOOTS = 3000


@dataclass(frozen=True)
class Room:
    """How many are switched on, over how many seconds, behind which link (bytes per second)."""

    machines: int | None = None  # as many as are named
    within: float = 0.0
    link: float = LINK


@dataclass(frozen=True)
class Foreseen:
    """A forecast, and what it rests on."""

    names: Sequence[str]
    kinds: Mapping[str, Kind]  # by client
    found: Forecast
    assumed: Sequence[str]


def foresee(file: SiteFile, names: Sequence[str], room: Room, output: Output) -> Foreseen:
    """Raises BootError when a simulated client does not come up, and UsageProblem when none of
    them can be simulated."""
    able = [name for name in names if not effective(file.valid, name).in_raw_frames]
    if not able:
        raise UsageProblem("all of them ask in raw Ethernet frames", "no forecast is made of these")
    found = foreseen_of(kinds_of(file, able, output), file, able, room)
    if left := len(names) - len(able):
        said = f"{counted(left, 'client')} of the site left out: they ask in raw Ethernet frames"
        return replace(found, assumed=[*found.assumed, said])
    return found


def foreseen_of(
    kinds: Mapping[str, Kind], file: SiteFile, names: Sequence[str], room: Room
) -> Foreseen:
    """The same, when it is measured already what a boot of each costs."""
    count = room.machines or len(names)
    everybody = [_called(names, number) for number in range(count)]
    of = {name: kinds[names[number % len(names)]] for number, name in enumerate(everybody)}
    experience = Experience.of(records.boots(file, most=_MOST_BOOTS, needed=False))
    fetched: set[str] = set()
    clients = []
    starts = [room.within * number / max(count - 1, 1) for number in range(count)]
    leading = leaders([of[name] for name in everybody], starts, room.link)
    for name, leads in zip(everybody, leading, strict=True):
        first = of[name].loadout not in fetched
        clients.append(phases(of[name], experience, first=first, leads=leads, link=room.link))
        fetched.add(of[name].loadout)
    found = forecast(clients, starts, capacities(room.link, os.cpu_count() or 1))
    assumed = assumptions(list(of.values()), experience, room.link)
    busy = median(sum(load.processors for load in kind.loads) for kind in of.values())
    assumed.append(
        f"a boot costs this server {busy * 1e3:.0f} ms of a processor (it has {os.cpu_count()}): "
        "measured just now, with simulated clients"
    )
    if private := private_clients(file.valid) & set(names):
        assumed.append(
            f"{counted(len(private), 'client')} with a private root: what comes through the tunnel "
            f"is not counted; its cipher alone takes {_seconds_to_encrypt():.1f} s of a processor "
            "for 1 GB here (measured just now)"
        )
    return Foreseen(everybody, of, found, assumed)


def _seconds_to_encrypt() -> float:
    """A gigabyte, as the tunnel does it (ChaCha20-Poly1305)."""
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    cipher, packet, count = ChaCha20Poly1305(bytes(32)), bytes(1 << 20), 64
    began = time.process_time()
    for number in range(count):
        cipher.encrypt(number.to_bytes(12, "little"), packet, None)
    return (time.process_time() - began) / (count * len(packet)) * 1e9


def _called(names: Sequence[str], number: int) -> str:
    name, copy = names[number % len(names)], number // len(names)
    return f"{name} ({copy + 1})" if copy else name


def kinds_of(file: SiteFile, names: Sequence[str], output: Output) -> dict[str, Kind]:
    """What each client's boots are like; one of each kind is simulated, and measured."""
    with tempfile.TemporaryDirectory(prefix="daskel-forecast-") as folder:
        practised = begin(Practice(str(file.path.absolute()), folder, free_base()), file)
        jobs = jobs_of(practised, file, names, None)
        alike: dict[tuple[str, str, str, Fetch, bool], list[Job]] = {}
        for job in jobs:
            whole = effective(practised.site, job.name)
            segment = practised.site.segments[whole.segment.value] if whole.segment else None
            many = whole.way == "memory" and segment is not None and bool(multicast_group(segment))
            loadout = whole.loadout_name or ""
            key = (job.firmware, loadout, whole.way, whole.fetches, many)
            alike.setdefault(key, []).append(job)
        found: dict[str, Kind] = {}
        with (
            serving(practised.practice) as server,
            output.errors.status("measuring this server", spinner="line"),
        ):
            for (firmware, loadout, _, fetch, many), same in alike.items():
                loads = [_load(cost, many=many) for cost in measured(same[0], server)]
                kind = Kind(firmware, loadout, loads, _menu(practised, same[0]), fetch)
                found |= dict.fromkeys((job.name for job in same), kind)
    return found


def _load(cost: Cost, *, many: bool) -> Load:
    once = many and cost.stage == "root"
    return Load(cost.stage, cost.size, cost.server, cost.server + cost.below, once)


def _menu(practised: Practised, job: Job) -> float:
    """Seconds that its menu waits."""
    choice = effective(practised.site, job.name).choice
    return float(choice.wait) if choice else 0.0
