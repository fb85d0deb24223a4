"""A boot to be judged: what it is compared with, and what cannot be known of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum

from daskel.core.history.boots import Boot, Fetch, fetches
from daskel.core.history.events import Event, Seen, Stage
from daskel.core.history.outcome import result


class Blind(Enum):
    """What the events of a boot may be without, although it happened: of captures."""

    DHCP_ASKED = "what the client asked by DHCP"
    DHCP_ANSWERS = "what DHCP servers answered"
    DHCP_OPTIONS = "what the DHCP messages say"
    TFTP = "which files were asked for by TFTP"
    HTTP = "which files were asked for by HTTP"
    NFS = "what was mounted"
    RAW = "what answered it in raw Ethernet frames"
    START = "what happened before"
    TUNNEL = "what went on in an encrypted tunnel, now or at an earlier boot"


@dataclass(frozen=True, slots=True)
class Cause:
    """What went wrong, in words, what to do next, and what shows it. `rests_on`: what would have
    been seen, had it happened; where that cannot be seen, the cause cannot be told."""

    cause: str  # stable
    problem: str
    remedy: str
    evidence: tuple[tuple[float, Event], ...] = ()
    rests_on: tuple[Blind, ...] = ()
    stops: bool = True  # it says why the boot came no further; else only what was noticed


@dataclass(frozen=True)
class Case:
    """A boot and what there is to compare it with; `now` may be infinite for one that is over.
    `blind`: what cannot be seen of it, with the reason for each."""

    boot: Boot
    now: float
    before: Sequence[Boot] = ()  # earlier boots of the same machine, the last one first
    beside: Sequence[Boot] = ()  # boots of its neighbours
    blind: Mapping[Blind, str] = field(default_factory=dict)
    captured: bool = False  # the events are from a capture

    @property
    def result(self) -> str:
        """How the boot ended, one of `Result`."""
        return result(self.boot, self.now)

    @property
    def stage(self) -> Stage:
        """How far the boot came."""
        return self.boot.stage

    @property
    def files(self) -> list[Fetch]:
        """The files that were asked for."""
        return fetches(self.boot)

    @property
    def who(self) -> str:
        """The client's name, else its MAC address."""
        return self.boot.name

    @property
    def system_came(self) -> bool:
        """A capture shows a system that asks for an address, which need not be the one that was
        loaded, nor known by the names of its files."""
        return self.captured and any(seen.system for _, seen in self.boot.of(Seen))

    def last(self, *kinds: type[Event]) -> tuple[float, Event] | None:
        """The last event of some kinds, with its time."""
        found = list(self.boot.of(*kinds))
        return found[-1] if found else None

    def after(self, at: float, *kinds: type[Event]) -> bool:
        """Whether something of some kinds happened after a time."""
        return any(when > at for when, _ in self.boot.of(*kinds))
