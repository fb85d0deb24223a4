"""Where in a TOML text each key and value stands. The values themselves are read by `tomli`."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

Path = tuple[str | int, ...]

_SKIP = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BLANK = re.compile(r"[ \t]*")
_KEY = re.compile(r"[A-Za-z0-9_-]+|\"(?:[^\"\\]|\\.)*\"|'[^']*'")
_STRING = re.compile(
    r'"""(?:[^\\]|\\.)*?"{3,5}|' r"'''.*?'{3,5}|" r'"(?:[^"\\]|\\.)*"|' r"'[^']*'", re.DOTALL
)
_CELL = re.compile(r'((?:[ \t]*"(?:[^"]|"")*"[^,]*)|[^,]*)(?:,|$)')
_SCALAR = re.compile(r"[^,\]}#\n]+")
_LINE = re.compile(  # a key and its value alone on a line, as nearly all are
    r"([\w-]+)[ \t]*=[ \t]*(\"[^\"\\\n]*\"|[^\s\"'\[{#][^\n#\"'\[{]*?)[ \t]*(?:#[^\n]*)?\n",
    re.ASCII,
)
_TABLE = re.compile(r"\[([\w-]+)\.([\w-]+)\][ \t]*(?:#[^\n]*)?\n", re.ASCII)  # the same for headers
_BRACKET = re.compile(r"^[ \t]*\[.*", re.MULTILINE)
_PART = r"(?:[\w-]+|\"[^\"\\\n]*\")"
_HEADER = re.compile(  # begins with a letter, which no value in a list of several lines does
    rf"[ \t]*\[([A-Za-z_][\w-]*(?:\.{_PART})*)\][ \t\r]*(?:#.*)?", re.ASCII
)
_PARTS = re.compile(_PART, re.ASCII)
_FEW = 50  # parts of a text that are scanned by themselves, before all of it is
_LONG = ('"""', "'''")  # strings of several lines
_ESCAPE = re.compile(r"\\(?:u([0-9A-Fa-f]{4})|U([0-9A-Fa-f]{8})|(.))", re.DOTALL)
_ESCAPED = {"b": "\b", "t": "\t", "n": "\n", "f": "\f", "r": "\r"}


@dataclass(frozen=True, slots=True)
class Origin:
    """A place in a file, from 1, and the text that stands there."""

    file: str
    line: int
    column: int
    text: str = ""

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}"


class Positions:
    """Key paths of one valid TOML text: `of(("client", "tide-01", "mac"))` is its value's place.

    A list's items have their index as the last part; `key=True` asks for the key's own place.
    """

    def __init__(self, text: str, file: str) -> None:
        self._text, self._file = text, file
        self._starts = [0, *(m.end() for m in re.finditer("\n", text))]
        self._keys: dict[Path, tuple[int, int]] = {}
        self._values: dict[Path, tuple[int, int]] = {}
        self._at = 0
        self._spans: list[tuple[int, int]] = []
        self._tables: dict[Path, int] = {}
        self._headers: list[tuple[Path, int]] = []
        self._header_keys: list[tuple[Path, list[tuple[int, int]]]] = []
        self._scanned = False  # most sites are read without anybody asking for a place
        self._sections: dict[Path, list[tuple[int, int]]] | None = None  # by kind and name
        self._parts: set[int] = set()  # where those begin that were scanned

    @property
    def headers(self) -> list[tuple[Path, int]]:
        """Each table header's path and place."""
        self._scan()
        return self._headers

    def of(self, path: Path, *, key: bool = False) -> Origin:
        """The place of a path, or of the nearest one above it that stands in the text."""
        if not self._scanned and not self._scan_part(path):
            self._scan()
        spans = (self._keys, self._values) if key else (self._values, self._keys)
        asked = path
        while path:
            if len(path) == 1 and not self._scanned:  # it begins where the first of its kind is
                self._scan()
                return self.of(asked, key=key)
            span = spans[0].get(path) or spans[1].get(path)
            if span:
                return self._origin(*span)
            path = path[:-1]
        return Origin(self._file, 1, 1)

    def _origin(self, start: int, end: int) -> Origin:
        line = bisect_right(self._starts, start)
        text = self._text[start:end].split("\n", 1)[0].strip()
        return Origin(self._file, line, start - self._starts[line - 1] + 1, text)

    def _scan(self) -> None:
        if self._scanned:
            return
        self._scanned = True
        for found in (self._keys, self._values, self._headers, self._header_keys):
            found.clear()
        self._scan_from(0, len(self._text))

    def _scan_part(self, path: Path) -> bool:
        """Whether what stands of the table of a path, and of no other, is known now: large sites
        are asked for a few places. Only where tables can be told apart by their headers alone."""
        if self._sections is None:
            self._sections = self._index()
        table = path[:2]
        if len(table) < 2 or not self._sections or len(self._parts) > _FEW:
            return False
        above = [*self._sections.get((), ()), *self._sections.get(table[:1], ())]
        for start, end in sorted([*above, *self._sections.get(table, ())]):
            if start not in self._parts:
                self._parts.add(start)
                self._scan_from(start, end)
        return True

    def _index(self) -> dict[Path, list[tuple[int, int]]]:
        """From where to where the tables of each kind and name stand; empty where lines may look
        like headers and be none."""
        if "[[" in self._text or any(quotes in self._text for quotes in _LONG):
            return {}
        found: list[tuple[Path, int]] = [((), 0)]
        for match in _BRACKET.finditer(self._text):
            header = _HEADER.fullmatch(match.group())
            if header is None:
                return {}
            parts = tuple(_unquoted(part) for part in _PARTS.findall(header[1]))
            found.append((parts[:2], match.start()))
        ends = [start for _, start in found[1:]] + [len(self._text)]
        sections: dict[Path, list[tuple[int, int]]] = {}
        for (path, start), end in zip(found, ends, strict=True):
            sections.setdefault(path, []).append((start, end))
        return sections

    def _scan_from(self, start: int, end: int) -> None:
        """What stands there, which begins with a header or the text."""
        self._at = start
        table: Path = ()
        while True:
            self._skip(_SKIP)
            if self._at >= end:
                return
            if self._text[self._at] == "[":
                match = None if self._tables else _TABLE.match(self._text, self._at)
                table = self._plain_header(match) if match else self._header()
            elif match := _LINE.match(self._text, self._at):
                path = (*table, match[1])
                self._keys.setdefault(path, match.span(1))
                self._values[path] = match.span(2)
                self._at = match.end()
            else:
                self._pair(table)

    def _skip(self, pattern: re.Pattern[str]) -> None:
        match = pattern.match(self._text, self._at)
        self._at = match.end() if match else self._at

    def tables(self) -> list[tuple[str, int]]:
        """File and line of every table header."""
        return [(self._file, bisect_right(self._starts, start)) for _, start in self.headers]

    def header_keys(self, table: Path) -> list[tuple[int, int]]:
        """Where the name of `table` stands in its header and in those of its inner tables."""
        self._scan()
        depth = len(table)
        return [spans[depth - 1] for path, spans in self._header_keys if path[:depth] == table]

    def _plain_header(self, match: re.Match[str]) -> Path:
        path = match.groups()
        self._keys.setdefault(path[:1], match.span(1))
        self._keys.setdefault(path, match.span(2))
        self._headers.append((path, match.start()))
        self._header_keys.append((path, [match.span(1), match.span(2)]))
        self._at = match.end()
        return path

    def _header(self) -> Path:
        start, self._spans = self._at, []
        double = self._text.startswith("[[", self._at)
        self._at += 2 if double else 1
        path = self._dotted(())
        if double:
            self._tables[path] = self._tables.get(path, -1) + 1
            path = (*path, self._tables[path])
        self._skip(_BLANK)
        self._at += 2 if double else 1
        self._headers.append((path, start))
        self._header_keys.append((path, self._spans))
        return path

    def _dotted(self, table: Path) -> Path:
        """A key with its dots; each part of it is noted with its place."""
        path = table
        while True:
            self._skip(_BLANK)
            match = _KEY.match(self._text, self._at)
            assert match, "only called on text that tomli has read"
            path = (*path, _unquoted(match.group()))
            self._keys.setdefault(path, match.span())
            self._spans.append(match.span())
            self._at = match.end()
            self._skip(_BLANK)
            if not self._text.startswith(".", self._at):
                if path in self._tables and not self._text.startswith("]]", self._at):
                    path = (*path, self._tables[path])
                return path
            self._at += 1
            if path in self._tables:
                path = (*path, self._tables[path])

    def _pair(self, table: Path) -> None:
        path = self._dotted(table)
        self._at += 1  # the equals sign
        self._skip(_BLANK)
        self._value(path)

    def _value(self, path: Path) -> None:
        start = self._at
        opening = self._text[start]
        if opening == "[":
            self._list(path)
        elif opening == "{":
            self._inline(path)
        else:
            match = (_STRING if opening in "\"'" else _SCALAR).match(self._text, start)
            assert match, "only called on text that tomli has read"
            self._at = start + len(match.group().rstrip())
        self._values[path] = (start, self._at)

    def _list(self, path: Path) -> None:
        self._at += 1
        index = 0
        while True:
            self._skip(_SKIP)
            if self._text[self._at] == "]":
                self._at += 1
                return
            self._value((*path, index))
            index += 1
            self._skip(_SKIP)
            self._at += self._text[self._at] == ","

    def _inline(self, path: Path) -> None:
        self._at += 1
        while True:
            self._skip(_SKIP)
            if self._text[self._at] == "}":
                self._at += 1
                return
            self._pair(path)
            self._skip(_SKIP)
            self._at += self._text[self._at] == ","


class CsvPositions:
    """The same for the rows of a CSV file, which are clients: `("client", name, column)`."""

    def __init__(
        self, text: str, file: str, rows: Mapping[str, int], columns: Sequence[str]
    ) -> None:
        self._lines, self._file, self._rows, self._columns = text.splitlines(), file, rows, columns

    def tables(self) -> list[tuple[str, int]]:
        """File and line of every row."""
        return [(self._file, line) for line in self._rows.values()]

    def of(self, path: Path, *, key: bool = False) -> Origin:  # noqa: ARG002
        """The place of a cell, or of its row."""
        line = self._rows.get(str(path[1]), 1) if len(path) > 1 else 1
        column = str(path[2]) if len(path) > 2 else ""
        index = self._columns.index(column) if column in self._columns else 0
        cells = _cells(self._lines[line - 1]) if line <= len(self._lines) else []
        start, text = cells[index] if index < len(cells) else (1, "")
        return Origin(self._file, line, start, text)


def _cells(line: str) -> list[tuple[int, str]]:
    """Column, from 1, and text of each cell of a row of CSV. A quoted one may have commas in it,
    and quotes, which stand twice (RFC 4180 section 2); its text is as it is written."""
    found = []
    for match in _CELL.finditer(line):
        written = match[1]
        found.append((match.start(1) + 1 + len(written) - len(written.lstrip()), written.strip()))
        if match.end() == len(line):
            break
    return found


class Sources:
    """The places of all files of a site: each table is in the file that was read first."""

    def __init__(self, main: Positions) -> None:
        self._main = main
        self._owners: dict[Path, Positions | CsvPositions] = {}

    def tables(self) -> list[tuple[str, int]]:
        """File and line of every table header and CSV row."""
        others = {id(positions): positions for positions in self._owners.values()}
        return [place for one in (self._main, *others.values()) for place in one.tables()]

    def own(self, table: Path, positions: Positions | CsvPositions) -> None:
        """`table` (its kind and name) stands in another file than the main one."""
        self._owners[table] = positions

    def of(self, path: Path, *, key: bool = False) -> Origin:
        """The place of a path, in the file that its table stands in."""
        return self._owners.get(path[:2], self._main).of(path, key=key)


def _unquoted(key: str) -> str:
    if key[0] == "'":
        return key[1:-1]
    if key[0] != '"':
        return key
    return _ESCAPE.sub(
        lambda m: chr(int(m[1] or m[2], 16)) if m[1] or m[2] else _ESCAPED.get(m[3], m[3]),
        key[1:-1],
    )
