"""What `--json` prints of boots: tried, past, diagnosed, foreseen. The comments behind the keys are
their reference."""

from __future__ import annotations

from typing import Any, NotRequired

from typing_extensions import TypedDict

from daskel.core.formats.shared import CauseFormat, FetchFormat


class FetchedFile(TypedDict):
    """A file that a simulated client fetched, or read from its root."""

    what: str
    path: str
    bytes: int
    sha256: str


class RehearsedClient(TypedDict):
    """How far a simulated client came."""

    client: str
    mac: str
    firmware: str
    address: str | None
    stage: str
    good: bool
    problem: str | None
    finding: CauseFormat | None
    seconds: float
    asked_again: int
    command_line: str
    note: str | None
    loadout: str
    warnings: list[str]
    files: list[FetchedFile]


class Rehearsal(TypedDict):
    """Boots of simulated clients."""

    good: bool
    clients: list[RehearsedClient]


class Busy(TypedDict):
    """Shares of one processor that were used, and of the disk's time."""

    server: float
    nfs: float
    clients: float
    machine: float
    disk: float


class Spread(TypedDict):
    """Seconds."""

    median: float
    p95: float
    longest: float


class Storm(TypedDict):
    """Many clients at once (`--storm`)."""

    good: bool
    clients: int
    up: int
    within: int
    seconds: float
    bytes: int
    shared: int  # of these, that came to several clients at the same time
    asked_again: int
    limit: str
    busy: Busy
    stages: dict[str, Spread]
    failed: list[RehearsedClient]


class Machine(TypedDict):
    """A virtual machine (`--machine`)."""

    client: str
    firmware: str
    good: bool
    result: str
    stage: str | None
    seconds: float | None
    files: list[FetchFormat]
    findings: list[CauseFormat]
    kept: list[str]  # files


class DemoClient(TypedDict):
    """A client of the demo site."""

    client: str
    mac: str
    firmware: str
    loadout: str
    address: str | None
    stage: str
    problem: str | None
    seconds: float
    command_line: str
    files: list[FetchedFile]


class Demo(TypedDict):
    """All of the demo."""

    good: bool
    clients: list[DemoClient]


class BootRow(TypedDict):
    """A past boot."""

    number: int
    client: str | None
    mac: str
    began: float
    segment: str
    firmware: str
    address: str | None
    loadout: str | None
    root: str | None
    private: bool  # which came through the tunnel
    files: int  # that were sent to their end
    bytes: int
    resent: int  # packets
    seconds: float
    stage: str
    result: str
    kernel: str | None  # the release that it told when it was up


class BootShown(TypedDict):
    """A past boot, whole; its events are described in [events](events.md)."""

    number: int
    mac: str
    client: str | None
    began: float
    last: float
    stage: str
    events: list[tuple[float, dict[str, Any]]]
    result: str
    firmware: str
    address: str | None
    root: str | None
    private: bool  # which came through the tunnel
    durations: dict[str, float]  # seconds in each stage
    files: list[FetchFormat]
    findings: list[CauseFormat]


class BootsPlotted(TypedDict):
    """A picture that was drawn."""

    file: str
    boots: int


class ReportDay(TypedDict):
    """A day on which something booted."""

    day: str
    boots: int  # that are over
    good: int
    median: float | None
    slowest: float | None
    slowest_client: str | None


class ReportFailure(TypedDict):
    """Why boots failed."""

    cause: str
    problem: str  # of the newest
    times: int
    clients: list[str]


class ReportMachine(TypedDict):
    """A client's week."""

    client: str
    boots: int
    failed: int
    median: float | None
    before: float | None  # the week before, where there are enough boots of both
    slower: bool  # 1.3 times and more
    fails_often: bool  # twice and more, and a quarter of its boots


class WeekReport(TypedDict):
    """A week of boots."""

    monday: str
    days: list[ReportDay]
    failures: list[ReportFailure]
    machines: list[ReportMachine]


class Diagnosed(TypedDict):
    """A boot, and why it came no further."""

    client: str | None
    mac: str
    result: str | None
    findings: list[CauseFormat]
    boot: NotRequired[int]
    began: NotRequired[float]
    stage: NotRequired[str]
    firmware: NotRequired[str | None]
    address: NotRequired[str | None]
    cannot_see: NotRequired[list[str]]  # what a capture does not show


class ForecastClient(TypedDict):
    """When one client has its root."""

    client: str
    firmware: str
    loadout: str
    bytes: int
    seconds: float
    stages: dict[str, float]  # when each ends, from power-on


class ForecastFormat(TypedDict):
    """How long clients take."""

    clients: list[ForecastClient]
    within: int
    link: float  # bytes per second
    limits: dict[str, str]  # by stage
    assumed: list[str]


class WokenClient(TypedDict):
    """A machine that was asked to come."""

    client: str
    mac: str
    to: str  # the address that its magic packet went to
    asked: list[float]
    came: float | None  # seconds from the first packet until it was heard


class Woken(TypedDict):
    """Who came."""

    good: bool
    seen: bool  # a server runs, which sees who comes
    pause: float  # seconds between two machines
    clients: list[WokenClient]


class StoreHealth(TypedDict):
    """A store, or a copy of it."""

    file: str
    rows: dict[str, int]  # by table
    problems: list[str]


class StoreCopied(TypedDict):
    """What was copied from one store to another."""

    written: bool
    rows: dict[str, int]  # by table


class StoreChecked(TypedDict):
    """The store and its copies."""

    whole: bool
    stores: list[StoreHealth]


_Restored = TypedDict("_Restored", {"from": NotRequired[str]})


class StoreRestored(_Restored):
    """What was put in the place of a damaged store, and `from` which copy."""

    restored: str | None  # null: it is whole
    damaged: NotRequired[str]  # where the damaged one is kept
