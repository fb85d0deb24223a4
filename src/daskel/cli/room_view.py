"""A room as it stands, for the screen at its front: a cell for each machine, at its place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from rich.box import SQUARE
from rich.table import Table
from rich.text import Text

from daskel.core.history.outcome import GOOD, Result
from daskel.core.site.key_types import row_and_number
from daskel.core.site.model import Site
from daskel.core.values import few

_STYLES = {  # words say the same, for those who see no colours
    Result.STUCK: "white on red", Result.REFUSED: "white on red", Result.LOBBY: "black on yellow",
    Result.UNDER_WAY: "black on cyan",
}  # fmt: skip
_GOOD, _ABSENT = "black on green", "dim"
_MOST_NAMES = 12
_LEAST, _MOST_WIDE, _MOST_ABOVE = 8, 24, 2  # characters of a cell, and empty lines around its words


def places(site: Site, names: Sequence[str]) -> dict[tuple[str, int], str]:
    """Clients by row and number."""
    found: dict[tuple[str, int], str] = {}
    for name in names:
        if place := site.clients[name].place:
            found.setdefault(row_and_number(place), name)
    return found


def room_of(
    site: Site,
    names: Sequence[str],
    machines: Mapping[str, Mapping[str, Any]],
    size: tuple[int, int],
) -> tuple[Table, str]:
    """The room, and a line about machines that have no place in it. `size`: columns and lines that
    there are."""
    placed = places(site, names)
    numbers = [number for _, number in placed]
    columns = range(min(numbers), max(numbers) + 1)
    table = Table(box=SQUARE, show_lines=True, header_style="dim", pad_edge=True, padding=0)
    table.add_column("", style="bold", no_wrap=True)
    rows = sorted({row for row, _ in placed}, key=lambda row: (len(row), row))
    width = max(_LEAST, min(_MOST_WIDE, (size[0] - 5) // len(columns) - 1))
    above = max(0, min(_MOST_ABOVE, ((size[1] - 5) // len(rows) - 3) // 2))
    for number in columns:
        table.add_column(str(number).center(width), width=width, no_wrap=True)
    for row in rows:
        cells = [_cell(placed.get((row, n)), machines, width, above) for n in columns]
        table.add_row("\n" * above + row, *cells)
    without = [name for name in names if name not in placed.values()]
    return table, f"without a place: {few(without, _MOST_NAMES)}" if without else ""


def _cell(
    name: str | None, machines: Mapping[str, Mapping[str, Any]], width: int, above: int
) -> Text:
    """Its name, and how far it is."""
    if name is None:
        return Text("\n")
    machine = machines.get(name)
    style = _style(machine)
    blank = [""] * above
    lines = (*blank, name[-width:], _words(machine)[:width], *blank)
    return Text("\n".join(line.center(width) for line in lines), style=style)


def _words(machine: Mapping[str, Any] | None) -> str:
    if machine is None:
        return "not seen"
    if machine["result"] == Result.UNDER_WAY:
        file = machine["file"]
        part = f" {file['done'] / file['size']:.0%}" if file and file["size"] else ""
        return f"{machine['stage']}{part}"
    stage, ended = str(machine["stage"]), str(machine["result"])
    return f"{ended}: {stage}" if ended == Result.STUCK else ended


def _style(machine: Mapping[str, Any] | None) -> str:
    if machine is None:
        return _ABSENT
    return _GOOD if machine["result"] in GOOD else _STYLES.get(machine["result"], "")
