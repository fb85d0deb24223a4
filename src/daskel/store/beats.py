"""What several servers tell each other by way of the store that they share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from daskel.core.boot.address import Lease
from daskel.core.history.once import Once
from daskel.core.site.several import Roots
from daskel.system.requirements import MissingRequirementError

DEAD_AFTER = 3.0  # seconds without a beat: others answer its machines


class StoreAwayError(MissingRequirementError):
    """The database does not answer, or cannot write; `why`, without a password."""

    def __init__(self, why: str) -> None:
        remedy = "see that PostgreSQL runs, and can be reached from here"
        super().__init__(f"the store does not answer: {why}", remedy)
        self.why = why


class Home(NamedTuple):
    """The server that has a client's slates; `target`: to which they are being moved."""

    server: str
    target: str = ""


class NameTakenError(Exception):
    """Another process has this server's name now."""


@dataclass(frozen=True, slots=True)
class ServerRow:
    """One server, as the database knows it. Times are seconds since 1970."""

    name: str
    age: float  # seconds since it was heard of
    began: float
    version: str
    host: str
    digest: str
    written: float
    texts: Mapping[str, str]
    roots: Roots
    site: str  # the path of its site file
    clients: int
    lag: float  # seconds

    @property
    def alive(self) -> bool:
        """It was heard of just now."""
        return self.age < DEAD_AFTER


@dataclass(frozen=True, slots=True)
class Applied:
    """Which site file was taken over last, by which server."""

    digest: str
    server: str
    at: float


@dataclass(frozen=True, slots=True)
class Beat:
    """What one exchange brought: how it is now, and what others changed since the one before."""

    now: float  # by the database's clock
    took: float  # seconds
    leases: Sequence[Lease]
    once: Sequence[Once]
    servers: Sequence[ServerRow]
    applied: Applied | None
    homes: Mapping[str, Home]  # of clients that keep slates
    held: Mapping[str, int]  # addresses that machines have, by the server that gave them last


@dataclass(frozen=True, slots=True)
class Told:
    """What a server tells the others of itself."""

    digest: str
    written: float
    texts: Mapping[str, str]
    roots: Roots
    site: str  # the path of its site file
    clients: int
