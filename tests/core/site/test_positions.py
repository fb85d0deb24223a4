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


PLAIN = """format = 1
[client.a]
mac = "1"
options = { x = 1, y.z = [1,
  2] } # [client.c]
[site]
args = [
  "[client.b]", 'x'
]
client.name = "not a table of its own"
[client."b.c"]
"mac" = "2"   # [client.d]
[client.a.boot-file]
bios = "x"
[client]
e = { mac = "3" }
f.mac = "4"
[file."x/{{ y }}"]
text = "a\\n[client.g]"
"""
SECTIONS = ["[" + part for part in ("\n" + str(DEMO)).split("\n[")[1:]]


def same_as_the_whole(text: str) -> None:
    """Whatever is asked first, the place is that which a look at the whole text finds."""
    whole = Positions(text, "f")
    whole._scan()
    paths = [path[:n] for path, _ in leaves(tomllib.loads(text)) for n in range(1, len(path) + 1)]
    for path in [*paths, ("client", "nobody", "mac"), ("site", "nothing"), ("nothing", "at-all")]:
        for key in (False, True):
            assert Positions(text, "f").of(path, key=key) == whole.of(path, key=key), path
    asked = Positions(text, "f")
    assert [asked.of(path) for path in paths] == [whole.of(path) for path in paths]
    assert asked.tables() == whole.tables()


def test_a_few_places_without_a_look_at_the_whole() -> None:
    same_as_the_whole(PLAIN)
    same_as_the_whole(PLAIN.replace('[client."b.c"]', '[ client . "b.c" ]'))
    same_as_the_whole(ODD)
    some = Positions(PLAIN, "f")
    assert some.of(("client", "a", "mac")) and not some._scanned
    odd = Positions(ODD, "f")
    assert odd.of(("t", "u")) and odd._scanned


@given(st.lists(st.sampled_from(SECTIONS), min_size=1, max_size=6, unique=True))
def test_tables_in_any_order(sections: list[str]) -> None:
    same_as_the_whole("\n".join(sections) + "\n")


def test_what_is_not_there_is_where_its_table_is() -> None:
    positions = Positions("format = 1\n\n[client.tide-01]\ngroup = 'tide'\n", "f")
    assert str(positions.of(("client", "tide-01", "mac"))) == "f:3:9"
    assert str(positions.of(("client", "tide-01", "group"), key=True)) == "f:4:1"
    assert str(positions.of(("nothing",))) == "f:1:1"
