"""What every table and key of the site file means, made from the tables themselves: their types,
defaults and texts, and what `check` says of a wrong value. The JSON Schema, too."""

from __future__ import annotations

import ast
import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from pydantic.fields import FieldInfo

from daskel.core.site.check import check
from daskel.core.site.finding import did_you_mean
from daskel.core.site.parse import parse, place
from daskel.core.site.tables import PARTS, TABLES, AtStart, Beginning, LayerTable, SiteTable, Table
from daskel.core.values import show_duration, show_limit

FIRST = "0.1.0"  # the version that brought a key whose text names none
_LINES = ("Example", "Wrong", "Unit", "Since")  # at the end of a key's text
_UNITS = {
    "duration": "with its unit: s, min, h, d, w",
    "size": "with its unit: KiB, MiB, GiB, kB, MB, GB",
    "rate": "a size per second: KiB/s, MiB/s",
}
_NAMED: Mapping[str, str] = {  # an example of each kind of table
    "segment": "tideroom", "option": "desk-broker", "firmware": "desk-terminal",
    "root": "notebook", "loadout": "notebook", "choice": "tideroom",
    "file": '"boards/{{ client.mac_dashed }}/*"', "upload": '"logs/{{ client.name }}/*"',
    "server": "north", "group": "tide", "client": "tide-01",
}  # fmt: skip
_AROUND: Mapping[str, Mapping[str, str]] = {  # the site in which examples are read
    "": {"format": "1"},
    "site": {},
    "segment.tideroom": {"network": '"10.61.8.0/24"', "server": '"10.61.8.1"', "dhcp": '"full"',
                         "pool": '["10.61.8.100 - 10.61.8.199"]',
                         "network6": '"fd61:8::/64"', "server6": '"fd61:8::1"'},
    "segment.quay": {"network": '"10.61.11.0/24"', "server": '"10.61.11.1"', "dhcp": '"full"'},
    "option.desk-broker": {"code": "224", "type": '"text"'},
    "root.notebook": {},
    "loadout.notebook": {"kernel": '"notebook/vmlinuz"', "root": '"notebook"'},
    "loadout.disk": {"boot": '"local"'},
    "choice.tideroom": {"entries": '["notebook", "disk"]'},
    "server.north": {"addresses": '{ tideroom = "10.61.8.1", quay = "10.61.11.1" }'},
    "group.tide": {"segment": '"tideroom"', "boot": '"tideroom"'},
    "client.tide-01": {"mac": '"02:61:08:00:00:01"', "group": '"tide"'},
}  # fmt: skip
_ALONE = {("loadout", "boot"), ("file", "text"), ("file", "template"), ("file", "folder")}


@dataclass(frozen=True)
class Key:
    """One key of a table. Values are as they are written in the file."""

    table: str  # "segment"; "" for the top of the file
    name: str
    text: str
    kind: str  # what its value is, in words
    unit: str  # "" where there is none
    default: str | None  # None: there is no value without it
    required: bool
    example: str
    wrong: str
    since: str
    at_start: bool  # a running server takes it over only when it starts again

    @property
    def path(self) -> str:
        """`segment.pool`; `include` at the top of the file."""
        return f"{self.table}.{self.name}" if self.table else self.name

    @property
    def said(self) -> str:
        """What `check` says of the wrong value."""
        return said(self.table, self.name, self.wrong)


@dataclass(frozen=True)
class TableText:
    """One kind of table, with its own keys first."""

    name: str
    header: str  # "[segment.NAME]"; "" for the top of the file
    text: str
    keys: tuple[Key, ...]


class UnknownKeyError(Exception):
    """There is no such table or key; the remedy is what was perhaps meant."""

    def __init__(self, asked: str, known: list[str]) -> None:
        super().__init__(asked)
        self.problem, self.remedy = f"there is no key {asked!r}", did_you_mean(asked, known)


def reference(source: str) -> list[TableText]:
    """All tables of the site file. `source` is the text of the module `tables`."""
    texts = _texts(source)
    kinds: dict[str, type[Table]] = {
        "": Beginning,
        "site": SiteTable,
        **{f"site.{name}": kind for name, kind in PARTS.items()},
        **TABLES,
    }
    return [_table(name, kind, texts) for name, kind in kinds.items()]


def find(tables: list[TableText], asked: str) -> list[TableText]:
    """What is meant by `segment`, `[segment.tideroom]`, `segment.pool`, `segment.tideroom.pool` or
    `pool`: tables, with the keys that fit alone where it is a key. Raises UnknownKeyError."""
    word = asked.strip().strip("[]").replace("_", "-").lower()
    names = {table.name: table for table in tables if table.name}
    first = word.partition(".")[0]
    if word in names:
        return [names[word]]
    if first in names and (asked.strip().startswith("[") or word == f"{first}.name"):
        return [names[first]]
    inside = word.rpartition(".")[2] if first in TABLES and word.count(".") > 1 else None
    found = [
        replace(table, keys=(key,))
        for table in tables
        for key in table.keys
        if word in (key.path, key.name) or (table.name == first and key.name == inside)
    ]
    if not found:
        known = {name for t in tables for k in t.keys for name in (k.path, k.name, t.name)}
        raise UnknownKeyError(asked, sorted(known - {""}))
    return found


def _table(name: str, kind: type[Table], texts: Mapping[tuple[str, str], str]) -> TableText:
    schema = kind.model_json_schema()
    own = [n for n in kind.model_fields if n not in LayerTable.model_fields]
    names = [*own, *(n for n in kind.model_fields if n not in own)]
    keys = []
    for attribute in names:
        places = ((c.__name__, attribute) for c in kind.__mro__)
        text = next((texts[place] for place in places if place in texts), "")
        alias = attribute.replace("_", "-")
        told = schema["properties"][alias]
        keys.append(_key(name, alias, kind.model_fields[attribute], told, text))
    header = f"[{name}.NAME]" if name in TABLES else f"[{name}]" if name else ""
    return TableText(name, header, texts[kind.__name__, ""], tuple(keys))


def _key(table: str, name: str, field: FieldInfo, schema: Mapping[str, Any], text: str) -> Key:
    words, lines = _split(text)
    plain = _without_null(schema)
    title = str(plain.get("title", ""))
    required = field.is_required()
    return Key(
        table=table,
        name=name,
        text=words,
        kind=_kind(plain),
        unit=lines.get("Unit") or _UNITS.get(title, ""),
        default=None if required else _default(field.get_default(call_default_factory=True), title),
        required=required,
        example=lines.get("Example", ""),
        wrong=lines.get("Wrong", ""),
        since=lines.get("Since", FIRST),
        at_start=AtStart in field.metadata,
    )


def _texts(source: str) -> dict[tuple[str, str], str]:
    """The texts by class and attribute; a class's own has no attribute."""
    found = {}
    for node in ast.parse(source).body:
        if not isinstance(node, ast.ClassDef):
            continue
        found[node.name, ""] = ast.get_docstring(node) or ""
        for one, below in zip(node.body, node.body[1:], strict=False):
            if isinstance(one, ast.AnnAssign) and isinstance(below, ast.Expr):
                value, target = below.value, one.target
                if isinstance(value, ast.Constant) and isinstance(target, ast.Name):
                    lines = str(value.value).split("\n")
                    found[node.name, target.id] = "\n".join(line.strip() for line in lines)
    return found


def _split(text: str) -> tuple[str, dict[str, str]]:
    """The words, as one paragraph, and the lines at their end."""
    words, lines = [], {}
    for line in text.strip().split("\n"):
        name, colon, value = line.partition(": ")
        if colon and name in _LINES:
            lines[name] = value.strip()
        else:
            words.append(line)
    return " ".join(" ".join(words).split()), lines


# --- types and values, in words ---


def _without_null(schema: Mapping[str, Any]) -> Mapping[str, Any]:
    ways = [way for way in schema.get("anyOf", ()) if way.get("type") != "null"]
    return ways[0] if len(ways) == 1 else schema


def _kind(schema: Mapping[str, Any]) -> str:
    """What a value is, in words."""
    title = str(schema.get("title", ""))
    kind = schema.get("type")
    if title and not title.istitle():  # pydantic's own titles are the key's name
        return title
    if "$ref" in schema:
        return "table"
    if "const" in schema:
        return json.dumps(schema["const"])
    if "enum" in schema:
        return "one of " + ", ".join(map(json.dumps, schema["enum"]))
    if "anyOf" in schema:
        return ", or ".join(_kind(way) for way in schema["anyOf"])
    if kind == "array":
        item = _kind(schema["items"])
        return f"list, each {item}" if item.startswith("one of") else f"list of {_many(item)}"
    if kind == "object":
        return f"table of names, each with {_kind(schema['additionalProperties'])}"
    if kind == "integer":
        return "whole number" + _limits(schema)
    return {"boolean": "true or false", "string": "text"}[str(kind)]


def _limits(schema: Mapping[str, Any]) -> str:
    least, most = schema.get("minimum"), schema.get("maximum")
    if most is None:
        return "" if least is None else f", {least} at least"
    return f" from {least} to {most}"


def _many(what: str) -> str:
    first, of, rest = what.partition(" of ")
    return first + ("es" if first.endswith(("s", "x")) else "s") + of + rest


def _default(value: object, title: str) -> str | None:
    nothing = value is None or (isinstance(value, (tuple, Mapping)) and not value)
    return None if nothing else _written(value, title)


def _written(value: object, title: str) -> str:
    """A default as one would write it."""
    if isinstance(value, bool):
        return str(value).lower()
    if title == "duration":
        assert isinstance(value, int)
        return f'"{show_duration(value).replace(" s", "s")}"'
    if title == "size":
        assert isinstance(value, int)
        return f'"{show_limit(value)}"'
    if isinstance(value, tuple):
        return "[" + ", ".join(_written(item, "") for item in value) + "]"
    if isinstance(value, Mapping):
        pairs = (f"{json.dumps(k)} = {_written(v, '')}" for k, v in value.items())
        return "{ " + ", ".join(pairs) + " }"
    return json.dumps(value if isinstance(value, (str, int, float)) else str(value))


# --- what `check` says ---


def said(table: str, key: str, value: str) -> str:
    """What `check` says of a value in a small site that is good otherwise; "" when it is good."""
    text, line = _site_with(table, key, value)
    parsed = parse(text, "daskel.toml", templates={"cmdline.template": ""})
    findings = [*parsed.findings, *(check(parsed.site) if parsed.site else ())]
    here = [finding for finding in sorted(findings, key=place) if finding.origin.line == line]
    return f"{here[0].problem}; {here[0].remedy}" if here else ""


def _site_with(table: str, key: str, value: str) -> tuple[str, int]:
    """The text of that site, and the line of the key."""
    named = f"{table}.{_NAMED[table]}" if table in _NAMED else table
    around = {**_AROUND}
    kept = {k: v for k, v in around.get(named, {}).items() if (table, key) not in _ALONE}
    if "certificate" in PARTS.get(table.removeprefix("site."), SiteTable).model_fields:
        kept = {"certificate": '"boot.pem"', "key": '"boot.key"'}
    around[named] = kept | {key: value}
    lines: list[str] = []
    at = 0
    for header, pairs in around.items():
        lines += [f"[{header}]"] if header else []
        for name, written in pairs.items():
            lines.append(f"{name} = {written}")
            at = len(lines) if (header, name) == (named, key) else at
    return "\n".join(lines) + "\n", at


# --- for editors ---


def json_schema(source: str) -> dict[str, object]:
    """The JSON Schema of a whole site file, with the texts of its keys."""
    tables = {table.name: table for table in reference(source)}
    kinds = {name: _schema(kind, tables[name]) for name, kind in TABLES.items()}
    site = _schema(SiteTable, tables["site"])
    for name, kind in PARTS.items():
        about = site["properties"][name]["description"]
        site["properties"][name] = _schema(kind, tables[f"site.{name}"]) | {"description": about}
    whole = _schema(Beginning, tables[""])
    whole["properties"] |= {"site": site} | {
        name: {"type": "object", "description": tables[name].text, "additionalProperties": kind}
        for name, kind in kinds.items()
    }
    return {"$schema": "http://json-schema.org/draft-07/schema#", **whole,
            "title": "Daskel's site file"}  # fmt: skip


def _schema(kind: type[Table], table: TableText) -> dict[str, Any]:
    found = kind.model_json_schema()
    found.pop("$defs", None)
    found["description"] = table.text
    for key in table.keys:
        told = dict(_without_null(found["properties"][key.name]))
        told.pop("title", None)
        told["description"] = key.text
        if key.default is not None and isinstance(told.get("default"), (bool, int)):
            written = key.default.strip('"') if told.get("type") == "string" else told["default"]
            told["default"] = written
        found["properties"][key.name] = told
    return found
