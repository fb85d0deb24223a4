"""A fluid model: each client goes through phases, which share resources; what a phase needs alone
is its least time, and where a resource does not suffice, all that use it slow down alike."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum

import numpy as np
import numpy.typing as npt

_ENOUGH = 1e-9
_STEPS = 8  # of sharing: more than there are resources

Floats = npt.NDArray[np.float64]


class Resource(Enum):
    """What clients share; the value says what limits them then."""

    LINK = "the link"  # bytes
    SERVER = "the server's process"  # for DHCP, TFTP and HTTP; seconds of one processor
    PROCESSORS = "the server's processors"  # seconds of one of them
    DISK = "the server's disk"  # bytes


class Own(Enum):
    """What a phase waits for by itself, however few clients there are."""

    FIRMWARE = "the firmware itself"
    TRIPS = "round trips, block by block"
    SYSTEM = "the system itself"
    TRANSMISSION = "the transmission to all, and the wait for others"
    PEOPLE = "the menu's time limit"


Limit = Resource | Own


@dataclass(frozen=True, slots=True)
class Phase:
    """`stage`: that it ends with; `seconds`: alone; `needs`: bytes or seconds of resources."""

    stage: str
    seconds: float
    own: Own
    needs: Mapping[Resource, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Forecast:
    """Of each client, in the order given: seconds from the beginning to the end of each phase.
    `limits`: of each stage, the parts of the clients' time that each limit held them."""

    ends: list[dict[str, float]]
    limits: dict[str, dict[Limit, float]]

    @property
    def whole(self) -> list[float]:
        """Seconds until each client is through."""
        return [max(ends.values(), default=0.0) for ends in self.ends]

    def limit(self, stage: str) -> Limit | None:
        """What holds clients longest on the way to a stage."""
        found = self.limits.get(stage)
        return max(found, key=lambda limit: found[limit]) if found else None

    @property
    def slowest(self) -> tuple[str, Limit] | None:
        """The stage on the way to which clients spend most of their time, and what limits it."""
        if not self.limits:
            return None
        stage = max(self.limits, key=lambda stage: sum(self.limits[stage].values()))
        limit = self.limit(stage)
        return (stage, limit) if limit else None


def forecast(
    clients: Sequence[Sequence[Phase]], starts: Sequence[float],
    capacities: Mapping[Resource, float],
) -> Forecast:  # fmt: skip
    """`starts`: seconds; `capacities`: bytes, or seconds of a processor, each second. A resource
    without a capacity limits nothing."""
    return _Running(clients, starts, capacities).run()


class _Running:
    def __init__(
        self, clients: Sequence[Sequence[Phase]], starts: Sequence[float],
        capacities: Mapping[Resource, float],
    ) -> None:  # fmt: skip
        self._clients, self._resources = clients, list(capacities)
        self._capacity = np.array([max(capacities[r], _ENOUGH) for r in self._resources])
        self._limits: list[Limit] = [*self._resources, *Own]
        count = len(clients)
        self._phase = np.zeros(count, dtype=np.int64)
        self._left = np.ones(count)  # of the phase that a client is in
        self._starts = np.array(starts, dtype=np.float64)
        self._rate, self._own = np.zeros(count), np.zeros(count, dtype=np.int64)
        self._needs = np.zeros((count, len(self._resources)))
        self._ends: list[dict[str, float]] = [{} for _ in clients]
        self._held: dict[str, Floats] = {}
        self._over = np.array([not phases for phases in clients])
        for client in np.flatnonzero(~self._over):
            self._enter(int(client))

    def run(self) -> Forecast:
        now = 0.0
        while not self._over.all():
            active = np.flatnonzero(~self._over & (self._starts <= now + _ENOUGH))
            waiting = self._starts[~self._over & (self._starts > now + _ENOUGH)]
            until = float(waiting.min()) if waiting.size else float("inf")
            if not active.size:
                now = until
                continue
            rates, held = self._shared(active)
            step = min(float((self._left[active] / rates).min()), until - now)
            self._left[active] -= rates * step
            now += step
            self._note(active, held, step)
            for client in active[self._left[active] <= _ENOUGH]:
                self._leave(int(client), now)
        limits = {
            stage: {self._limits[i]: float(s) for i, s in enumerate(held) if s > 0}
            for stage, held in self._held.items()
        }
        return Forecast(self._ends, limits)

    def _enter(self, client: int) -> None:
        phase = self._clients[client][self._phase[client]]
        self._left[client] = 1.0
        self._rate[client] = 1.0 / max(phase.seconds, 1e-6)
        self._own[client] = self._limits.index(phase.own)
        self._needs[client] = [phase.needs.get(resource, 0.0) for resource in self._resources]

    def _leave(self, client: int, now: float) -> None:
        phases = self._clients[client]
        self._ends[client][phases[self._phase[client]].stage] = now
        self._phase[client] += 1
        if self._phase[client] == len(phases):
            self._over[client] = True
        else:
            self._enter(client)

    def _shared(self, active: npt.NDArray[np.int64]) -> tuple[Floats, npt.NDArray[np.int64]]:
        """Parts of its phase that each client does in a second, and what limits it."""
        rates, held = self._rate[active].copy(), self._own[active].copy()
        needs = self._needs[active]
        for _ in range(_STEPS):
            over = (rates @ needs) / self._capacity
            worst = int(over.argmax()) if over.size else -1
            if worst < 0 or over[worst] <= 1 + _ENOUGH:
                break
            users = needs[:, worst] > 0
            rates[users] /= over[worst]
            held[users] = worst
        return rates, held

    def _note(
        self, active: npt.NDArray[np.int64], held: npt.NDArray[np.int64], step: float
    ) -> None:  # fmt: skip
        stages: dict[str, list[int]] = {}
        for client, limit in zip(active, held, strict=True):
            stage = self._clients[client][self._phase[client]].stage
            stages.setdefault(stage, []).append(int(limit))
        for stage, limits in stages.items():
            known = self._held.setdefault(stage, np.zeros(len(self._limits)))
            known += np.bincount(limits, minlength=len(self._limits)) * step
