"""A week of boots: what is counted, what stands out, and the page that is drawn of it."""

from __future__ import annotations

from datetime import date, datetime
from pathlib import Path

import pytest

from daskel.cli.week_picture import draw
from daskel.cli.week_report import Report, Told, monday_of, report

MONDAY = date(2026, 11, 23)


def boot(client: str, day: int, seconds: float = 50.0, cause: str = "", over: bool = True) -> Told:
    began = datetime(2026, 11, day, 7, 40).timestamp()
    return Told(client, began, seconds, not cause, over, cause, f"{cause} of {day}")


def told(*boots: Told, before: tuple[Told, ...] = ()) -> Report:
    return report(MONDAY, boots, before)


@pytest.mark.parametrize("day", [23, 25, 29])
def test_a_week_begins_on_monday(day: int) -> None:
    assert monday_of(date(2026, 11, day)) == MONDAY


def test_days() -> None:
    found = told(boot("tide-01", 23), boot("tide-02", 23, 70.0), boot("tide-03", 23, cause="x"),
                 boot("tide-04", 23, over=False), boot("tide-01", 26, cause="x"))  # fmt: skip
    assert [(d.day.day, d.boots, d.good, d.median, d.slowest_client) for d in found.days] == [
        (23, 3, 2, 60.0, "tide-02"), (26, 1, 0, None, None),
    ]  # fmt: skip


def test_causes() -> None:
    found = told(boot("b", 25, cause="x"), boot("a", 24, cause="x"), boot("c", 23, cause="y"))
    assert [(f.cause, f.problem, f.times, f.clients) for f in found.failures] == [
        ("x", "x of 25", 2, ("a", "b")), ("y", "y of 23", 1, ("c",)),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("now", "before", "stands_out"),
    [
        ([60, 60], [50, 50], False),
        ([66, 66], [50, 50], True),
        ([66], [50, 50], False),  # too few to tell
        ([66, 66], [50], False),
        ([66, 66], [], False),
    ],
)
def test_machines_that_get_slower(now: list[float], before: list[float], stands_out: bool) -> None:
    found = told(*(boot("a", 23, seconds) for seconds in now),
                 before=tuple(boot("a", 16, seconds) for seconds in before))  # fmt: skip
    assert [m.client for m in found.conspicuous] == (["a"] if stands_out else [])


@pytest.mark.parametrize(
    ("failed", "good", "stands_out"), [(1, 0, False), (2, 6, True), (2, 7, False)]
)
def test_machines_that_fail_often(failed: int, good: int, stands_out: bool) -> None:
    boots = [boot("a", 24, cause="x")] * failed + [boot("a", 25)] * good
    assert bool(told(*boots).conspicuous) is stands_out


def test_nothing() -> None:
    assert told() == Report(MONDAY, (), (), ())


@pytest.mark.parametrize("count", [1, 200])
def test_a_page(tmp_path: Path, count: int) -> None:
    boots = [boot(f"a-client-with-a-long-name-{n:03}", 23 + n % 5, 50.0 + n) for n in range(count)]
    boots += [boot(f"tide-{n}", 24, cause=f"cause {n}") for n in range(count // 10)]
    draw(tmp_path / "week.png", told(*boots), "Skerry Point")
    assert (tmp_path / "week.png").read_bytes()[:4] == b"\x89PNG"
