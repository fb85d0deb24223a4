"""A week of boots: how many came up and how fast, why others did not, and which machines get slower
or fail often."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import pandas as pd

_OFTEN, _FEW = 0.25, 2  # of its boots failed, and at least this many
_SLOWER, _ENOUGH = 1.3, 2  # times as long as the week before, with at least this many boots each


@dataclass(frozen=True, slots=True)
class Told:
    """One boot, as much as the report needs. `cause`: "" where it came up, or nothing tells."""

    client: str
    began: float
    seconds: float
    good: bool
    over: bool  # it is not under way
    cause: str = ""
    problem: str = ""


@dataclass(frozen=True)
class Day:
    """One day of the week; seconds are None where nothing came up."""

    day: date
    boots: int
    good: int
    median: float | None
    slowest: float | None
    slowest_client: str | None


@dataclass(frozen=True)
class Failure:
    """A cause, how often it was, and whose."""

    cause: str
    problem: str  # of the newest
    times: int
    clients: tuple[str, ...]


@dataclass(frozen=True)
class Machine:
    """One client's week."""

    client: str
    boots: int
    failed: int
    median: float | None
    before: float | None  # the week before

    @property
    def slower(self) -> bool:
        """Much slower than the week before."""
        return bool(self.median and self.before and self.median >= self.before * _SLOWER)

    @property
    def fails_often(self) -> bool:
        """More than now and then."""
        return self.failed >= _FEW and self.failed >= self.boots * _OFTEN


@dataclass(frozen=True)
class Report:
    """A week, from Monday on."""

    monday: date
    days: tuple[Day, ...]
    failures: tuple[Failure, ...]
    machines: tuple[Machine, ...]

    @property
    def conspicuous(self) -> list[Machine]:
        """The machines to look at, the worst first."""
        found = [m for m in self.machines if m.slower or m.fails_often]
        return sorted(found, key=lambda m: (-m.failed, -(m.median or 0) / (m.before or 1)))


def monday_of(day: date) -> date:
    """The first day of its week."""
    return day - timedelta(days=day.weekday())


def report(monday: date, boots: Sequence[Told], before: Sequence[Told]) -> Report:
    """`boots` of the week, `before` of the week before it. Those under way are left out."""
    week, earlier = _frame(boots), _frame(before)
    usual = earlier[earlier.good].groupby("client").seconds.agg(["median", "count"])
    return Report(monday, _days(monday, week), _failures(week), _machines(week, usual))


def _frame(boots: Sequence[Told]) -> pd.DataFrame:
    rows = [(b.client, datetime.fromtimestamp(b.began).date(), b.began, b.seconds, b.good, b.cause,
             b.problem) for b in boots if b.over]  # fmt: skip
    columns = ["client", "day", "began", "seconds", "good", "cause", "problem"]
    return pd.DataFrame(rows, columns=columns).astype({"good": bool, "seconds": float})


def _days(monday: date, week: pd.DataFrame) -> tuple[Day, ...]:
    days = []
    for number in range(7):
        day = monday + timedelta(days=number)
        here = week[week.day == day]
        good = here[here.good]
        if here.empty:
            continue
        slowest = None if good.empty else good.loc[good.seconds.idxmax()]
        days.append(Day(
            day, len(here), len(good), _median(good),
            None if slowest is None else float(slowest.seconds),
            None if slowest is None else str(slowest.client),
        ))  # fmt: skip
    return tuple(days)


def _median(good: pd.DataFrame) -> float | None:
    return None if good.empty else float(good.seconds.median())


def _failures(week: pd.DataFrame) -> tuple[Failure, ...]:
    failed = week[~week.good].sort_values("began")
    found = [
        Failure(str(cause), str(rows.iloc[-1].problem), len(rows), tuple(sorted(set(rows.client))))
        for cause, rows in failed.groupby("cause")
    ]
    return tuple(sorted(found, key=lambda failure: (-failure.times, failure.cause)))


def _machines(week: pd.DataFrame, usual: pd.DataFrame) -> tuple[Machine, ...]:
    found = []
    for client, rows in week.groupby("client"):
        good = rows[rows.good]
        known = client in usual.index and usual.loc[client, "count"] >= _ENOUGH <= len(good)
        before = float(usual.loc[client, "median"]) if known else None
        found.append(Machine(str(client), len(rows), len(rows) - len(good), _median(good), before))
    return tuple(found)
