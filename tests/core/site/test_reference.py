"""Every key of the site file has a text that is true, and editors learn the same."""

from __future__ import annotations

import inspect
import tomllib

import jsonschema
import pytest

from daskel.core.site import tables
from daskel.core.site.reference import (
    Key,
    UnknownKeyError,
    find,
    json_schema,
    reference,
    said,
)
from tests.conftest import DEMO

SOURCE = inspect.getsource(tables)
TABLES = reference(SOURCE)
KEYS = [key for table in TABLES for key in table.keys]
SCHEMA = json_schema(SOURCE)


@pytest.mark.parametrize("key", KEYS, ids=[key.path for key in KEYS])
def test_a_key(key: Key) -> None:
    """What it says of itself is so: the example is good, and the wrong value is found."""
    assert key.text.endswith(".") and key.example and key.wrong
    assert said(key.table, key.name, key.example) == ""
    assert "; " in key.said or "did you mean" in key.said, key.said
    if key.default is not None:
        assert said(key.table, key.name, key.default) == ""


def test_tables_have_texts() -> None:
    assert {table.name for table in TABLES} == {
        "",
        "site",
        *(f"site.{name}" for name in tables.PARTS),
        *tables.TABLES,
    }
    assert all(table.text for table in TABLES)


def test_a_key_without_text_shows() -> None:
    text = '    """How long the menu waits for a key.\n'
    assert text in SOURCE
    without = reference(SOURCE.replace(text, '    """\n'))
    assert [k.path for t in without for k in t.keys if not k.text] == ["choice.wait"]


@pytest.mark.parametrize(
    ("asked", "found"),
    [
        ("segment.pool", ["segment.pool"]),
        ("pool", ["segment.pool"]),
        ("segment.tideroom.pool", ["segment.pool"]),
        ("tftp_window", ["site.tftp-window"]),
        ("include", ["include"]),
        ("title", ["loadout.title", "choice.title"]),
        ("site.https.key", ["site.https.key"]),
        ("[upload.NAME]", ["upload.size", "upload.files"]),
        ("[choice.tideroom]", [key.path for key in KEYS if key.table == "choice"]),
    ],
)
def test_what_is_meant(asked: str, found: list[str]) -> None:
    assert [key.path for table in find(TABLES, asked) for key in table.keys] == found


@pytest.mark.parametrize(
    ("asked", "remedy"),
    [
        ("segment.poll", "did you mean segment.pool?"),
        ("kernl", "did you mean kernel?"),
        ("", "known here"),
        ("segment.tideroom.kernel", "segment"),
    ],
)
def test_what_is_not_known(asked: str, remedy: str) -> None:
    with pytest.raises(UnknownKeyError) as caught:
        find(TABLES, asked)
    assert remedy in caught.value.remedy


def test_the_schema_fits_what_parses() -> None:
    jsonschema.Draft7Validator.check_schema(SCHEMA)
    jsonschema.validate(tomllib.loads(str(DEMO)), SCHEMA)


@pytest.mark.parametrize("key", KEYS, ids=[key.path for key in KEYS])
def test_the_schema_knows_the_examples(key: Key) -> None:
    value = tomllib.loads(f"it = {key.example}")["it"]
    part = SCHEMA["properties"]
    for step in filter(None, key.table.split(".")):
        part = part[step]
        part = part.get("additionalProperties") or part
        part = part["properties"]
    jsonschema.validate(value, part[key.name])
    assert part[key.name]["description"] == key.text


@pytest.mark.parametrize(
    ("old", "new", "path"),
    [
        ('dhcp = "full"', 'dhcp = "on"', ["segment", "tideroom", "dhcp"]),
        ('lease = "8h"', "lease = 8", ["segment", "tideroom", "lease"]),
        ('wait = "10s"', 'wiat = "10s"', ["choice", "tideroom"]),
        ('mac = "02:61:08:00:00:01"', "", ["client", "tide-01"]),
    ],
)
def test_the_schema_marks_errors(old: str, new: str, path: list[str]) -> None:
    with pytest.raises(jsonschema.ValidationError) as caught:
        jsonschema.validate(tomllib.loads(str(DEMO.replace(old, new, 1))), SCHEMA)
    assert list(caught.value.absolute_path) == path
