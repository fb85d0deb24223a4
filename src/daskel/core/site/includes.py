"""A site in several files: what the main file includes is added to its tables, with its places."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from daskel.core.site.finding import Finding, Severity
from daskel.core.site.positions import CsvPositions, Origin, Positions, Sources
from daskel.core.site.tables import TABLES
from daskel.core.site.toml import read_toml


@dataclass(frozen=True)
class Text:
    """One more file of a site: included TOML, or a CSV file of clients."""

    file: str
    text: str
    csv: bool = False


@dataclass
class Merging:
    """The tables so far, where each stands, and what is wrong with them."""

    raw: dict[str, Any]
    sources: Sources
    findings: list[Finding]

    def add(self, other: Text) -> bool:
        """Add the tables of one more file; whether all of it could be read."""
        return self._add_csv(other) if other.csv else self._add_toml(other)

    def _invalid(self, origin: Origin, problem: str, remedy: str) -> None:
        self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))

    def _add_toml(self, other: Text) -> bool:
        tables, wrong, readable, whole = read_toml(other.text, other.file)
        self.findings += wrong
        positions = Positions(readable, other.file)
        for kind, section in (tables or {}).items():
            if kind in TABLES and isinstance(section, dict):
                for name, table in section.items():
                    self._add(kind, name, table, positions)
                continue
            problem = f"{kind!r} cannot stand in an included file"
            remedy = f"move it into the main site file; here can be: {', '.join(TABLES)}"
            self._invalid(positions.of((kind,), key=True), problem, remedy)
        return whole

    def _add_csv(self, other: Text) -> bool:
        """A client for each row; the first row names the columns, empty cells say nothing."""
        reader = csv.reader(other.text.splitlines())
        columns = [cell.strip().lower() for cell in next(reader, [])]
        rows: dict[str, int] = {}
        positions = CsvPositions(other.text, other.file, rows, columns)
        if "name" not in columns:
            remedy = "name the columns in the first row: name,mac,group,address"
            self._invalid(Origin(other.file, 1, 1), "there is no column 'name'", remedy)
            return False
        for cells in self._rows(reader, other.file):
            table = _row(dict(zip(columns, cells, strict=False)))
            if table:
                name = str(table.pop("name", ""))
                rows.setdefault(name, reader.line_num)
                self._add("client", name, table, positions)
        return True

    def _rows(self, reader: Any, file: str) -> Iterator[list[str]]:
        try:
            yield from reader
        except csv.Error as error:
            origin = Origin(file, max(1, reader.line_num), 1)
            self._invalid(origin, f"not CSV: {error}", "correct this row")

    def _add(
        self, kind: str, name: str, table: object, positions: Positions | CsvPositions
    ) -> None:
        section = self.raw.setdefault(kind, {})
        if isinstance(section, dict) and name not in section:
            section[name] = table
            self.sources.own((kind, name), positions)
            return
        first = self.sources.of((kind, name), key=True)
        remedy = f"remove one ({first} is the other)"
        origin = positions.of((kind, name), key=True)
        self._invalid(origin, f"{kind} {name} is written twice", remedy)


def _row(cells: Mapping[str, str]) -> dict[str, object]:
    """What the cells that are not empty say; several arguments or groups have spaces between."""
    said = {column: cell.strip() for column, cell in cells.items() if cell.strip()}
    return {c: value.split() if c in ("args", "group") else value for c, value in said.items()}


def includes(text: str, file: str) -> tuple[list[str], list[str]]:
    """What a site file includes: patterns of TOML files, and CSV files of clients."""
    raw = read_toml(text, file)[0] or {}
    return _strings(raw.get("include", [])), _strings(raw.get("clients-from", []))


def template_files(text: str, file: str) -> list[str]:
    """The template files that the tables of one file name."""
    tables = (read_toml(text, file)[0] or {}).get("file", {})
    named = tables.values() if isinstance(tables, dict) else ()
    return _strings([table.get("template") for table in named if isinstance(table, dict)])


def _strings(value: object) -> list[str]:
    items = value if isinstance(value, list) else [value]
    return [item for item in items if isinstance(item, str)]
