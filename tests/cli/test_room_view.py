"""A room as it is drawn: each machine at its place, with its stage in words."""

from __future__ import annotations

import io

import pytest
from rich.console import Console

from daskel.cli.room_view import places, room_of
from daskel.core.history.outcome import Result
from daskel.core.site.model import Site
from daskel.core.site.parse import parse
from tests.conftest import DEMO, replaced, site_from

TIDE = [f"tide-{n:02}" for n in range(1, 13)]


def machine(stage: str, result: str, done: int | None = None) -> dict[str, object]:
    file = {"path": "x", "done": done, "size": 100, "speed": None} if done is not None else None
    return {"stage": stage, "result": result, "file": file}


def drawn(
    site: Site, names: list[str], machines: dict[str, dict[str, object]], columns: int
) -> str:
    table, without = room_of(site, names, machines, (columns, 24))
    out = io.StringIO()
    console = Console(file=out, width=columns)
    console.print(table)
    console.print(without)
    return out.getvalue()


@pytest.mark.parametrize("columns", [80, 200])
def test_the_room(demo_site: Site, columns: int) -> None:
    machines = {
        "tide-01": machine("root", Result.ROOT),
        "tide-02": machine("kernel", Result.UNDER_WAY, 40),
        "tide-08": machine("menu", Result.STUCK),
    }
    text = drawn(demo_site, [*TIDE, "lib-01"], machines, columns)
    lines = text.splitlines()
    assert max(map(len, lines)) <= columns and len(lines) <= 24
    above = next(line for line in lines if "tide-01" in line)
    assert above.index("tide-02") > above.index("tide-01") and "tide-07" not in above
    for said in ("root", "kernel 40%", "stuck: menu", "not seen", "without a place: lib-01"):
        assert said in text


def test_places(demo_site: Site) -> None:
    assert places(demo_site, TIDE)["B", 6] == "tide-12" and places(demo_site, ["lib-01"]) == {}
    scattered = replaced(DEMO, 'place = "A1" ', 'place = "AB 03" ', 'place = "A2"', 'place = "c-9"')
    site = site_from(scattered)
    assert {site.clients[name].place for name in ("tide-01", "tide-02")} == {"AB3", "C9"}
    text = drawn(site, TIDE, {}, 120)
    assert [line[1:3].strip() for line in text.splitlines() if line[1:3].strip(" │─┼┴┬")] == [
        "A", "B", "C", "AB",
    ]  # fmt: skip


@pytest.mark.parametrize("place", ["third", "3A", "A0", "A", "ABC1", ""])
def test_what_is_no_place(place: str) -> None:
    parsed = parse(str(replaced(DEMO, 'place = "A2"', f'place = "{place}"')), "daskel.toml")
    assert [f.problem for f in parsed.findings] == [
        f'place = "{place}" is not a place'
    ] and "write its row and number" in parsed.findings[0].remedy
