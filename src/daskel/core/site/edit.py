"""Changes to a site file's text: one table is edited, everything else stays to the letter.

Only the table's own lines are read and written anew (by tomlkit, which keeps comments and order),
so that an edit takes as long in a site of five thousand clients as in one of five.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import tomlkit
from tomlkit.items import Table as TomlTable

from daskel.core.site.positions import Path, Positions

Values = Mapping[str, object]  # None as a value: the key goes


class EditError(ValueError):
    """A table that cannot be changed by command, and what to do."""


def has_table(text: str, table: Path) -> bool:
    """The table stands in this file under a header of its own."""
    return _span(text, table) is not None


def change(text: str, table: Path, values: Values) -> str:
    """Set keys of a table, and remove those whose value is None. Raises EditError."""
    start, end = _known_span(text, table)
    document = tomlkit.parse(text[start:end])
    inner: object = document
    for part in table:
        inner = inner[part]  # type: ignore[index]
    assert isinstance(inner, TomlTable)
    for key, value in values.items():
        if value is None:
            inner.pop(key, None)
        else:
            inner[key] = value
    return text[:start] + tomlkit.dumps(document) + text[end:]


def add(text: str, table: Path, values: Values) -> str:
    """Add a table behind the last one of its kind. Raises EditError when it is there already."""
    if table in _spans(text):
        raise EditError(f"{'.'.join(map(str, table))} is there already")
    document = tomlkit.document()
    outer = tomlkit.table(is_super_table=True)
    inner = tomlkit.table()
    for key, value in values.items():
        if value is not None:
            inner.add(key, value)
    outer.add(str(table[1]), inner)
    document.add(str(table[0]), outer)
    same = [span for path, span in _spans(text).items() if path[:1] == table[:1]]
    place = max(end for _, end in same) if same else len(text)
    before, after = text[:place].rstrip("\n"), text[place:].lstrip("\n")
    made = tomlkit.dumps(document).strip("\n")
    return f"{before}\n\n{made}\n" + (f"\n{after}" if after else "")


def remove(text: str, table: Path) -> str:
    """Remove a table with everything in it. Raises EditError."""
    start, end = _known_span(text, table)
    before, after = text[:start].rstrip("\n"), text[end:].lstrip("\n")
    return f"{before}\n\n{after}" if before and after else f"{before}{after}".rstrip("\n") + "\n"


def rename(text: str, table: Path, name: str) -> str:
    """Give a table another name, in its header and those of its inner tables. Raises EditError."""
    _known_span(text, table)
    if (table[0], name) in _spans(text):
        raise EditError(f"{table[0]}.{name} is there already")
    key = tomlkit.key(name).as_string()
    for start, end in reversed(Positions(text, "").header_keys(table)):
        text = text[:start] + key + text[end:]
    return text


def _known_span(text: str, table: Path) -> tuple[int, int]:
    span = _span(text, table)
    if span is None:
        dotted = ".".join(map(str, table))
        raise EditError(f"{dotted} has no header [{dotted}] of its own; edit it by hand")
    return span


def _span(text: str, table: Path) -> tuple[int, int] | None:
    return _spans(text).get(table)


@lru_cache(maxsize=4)
def _spans(text: str) -> dict[Path, tuple[int, int]]:
    """Where [site] and each table of the form [kind.name] stand, with their inner tables; not the
    comments that lead the next one in."""
    headers = Positions(text, "").headers
    spans: dict[Path, tuple[int, int]] = {}
    for index, (path, start) in enumerate(headers):
        following = headers[index + 1][1] if index + 1 < len(headers) else len(text)
        table = path[:2]
        if len(path) == 2 or path == ("site",):
            spans[table] = (start, _body_end(text, start, following))
        elif table in spans and spans[table][1] <= start:
            spans[table] = (spans[table][0], _body_end(text, start, following))
    return spans


def _body_end(text: str, start: int, end: int) -> int:
    """The end of the last line between the two that is neither blank nor a comment."""
    lines = text[start:end].splitlines(keepends=True)
    while len(lines) > 1 and (not lines[-1].strip() or lines[-1].lstrip().startswith("#")):
        lines.pop()
    return start + sum(map(len, lines))
