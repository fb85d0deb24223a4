"""Every value's place in a TOML text is where the value stands."""

from __future__ import annotations

import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.site.positions import Path, Positions
from tests.conftest import DEMO

ODD = '''
a = 1 # comment with [brackets] and "quotes"
"b.c".d = "x # no comment"
'e f' = """
several
lines ""
"""
g = ['one', "t,wo", [1, 2,], { x = 1, y.z = [true] }, # comment
  3.5e1, 1979-05-27 07:32:00]
[t . u]
v = \'\'\'it's\'\'\'
"w\\u00e4x" = -inf
[[list]]
n = 1
[[list]]
n = 2
[list.under]
m = 3
[[list.deep]]
o = 4
'''


def leaves(value: Any, path: Path = ()) -> list[tuple[Path, Any]]:
    if isinstance(value, dict):
        return [leaf for k, v in value.items() for leaf in leaves(v, (*path, k))]
    if isinstance(value, list):
        return [leaf for i, v in enumerate(value) for leaf in leaves(v, (*path, i))]
    return [(path, value)]


def at(text: str, line: int, column: int) -> str:
    return "\n".join([text.split("\n")[line - 1][column - 1 :], *text.split("\n")[line:]])


def value_at(rest: str) -> Any:
    """The TOML value that a text begins with: the longest beginning that is one."""
    ends = [i for i, letter in enumerate(rest) if letter in ",]}#\n"] + [len(rest)]
    values = []
    for end in ends[:60]:
        try:
            values.append(tomllib.loads("v = " + rest[:end])["v"])
        except tomllib.TOMLDecodeError:
            continue
    return values


@pytest.mark.parametrize("text", [str(DEMO), str(ODD)])
def test_every_value_stands_where_it_is_said_to(text: str) -> None:
    positions = Positions(text, "f")
    for path, value in leaves(tomllib.loads(text)):
        place = positions.of(path)
        assert value in value_at(at(text, place.line, place.column)), path
        key = positions.of(tuple(p for p in path if isinstance(p, str)), key=True)
        assert key.line <= place.line


STRINGS = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=12)


@given(st.dictionaries(STRINGS, STRINGS | st.lists(STRINGS, max_size=3), max_size=6))
def test_generated_files(table: dict[str, Any]) -> None:
    def quoted(text: str) -> str:
        return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'

    def shown(value: Any) -> str:
        if isinstance(value, list):
            return "[" + ", ".join(map(quoted, value)) + "]"
        return quoted(value)

    text = "# head\n[t]\n" + "".join(f"{quoted(k)} = {shown(v)}\n" for k, v in table.items())
    positions = Positions(text, "f")
    for path, value in leaves(tomllib.loads(text)):
        place = positions.of(path)
        assert value in value_at(at(text, place.line, place.column))


def test_what_is_not_there_is_where_its_table_is() -> None:
    positions = Positions("format = 1\n\n[client.tide-01]\ngroup = 'tide'\n", "f")
    assert str(positions.of(("client", "tide-01", "mac"))) == "f:3:9"
    assert str(positions.of(("client", "tide-01", "group"), key=True)) == "f:4:1"
    assert str(positions.of(("nothing",))) == "f:1:1"
