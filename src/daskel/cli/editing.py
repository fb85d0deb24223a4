"""What all commands that change the site file share: words to values, check, difference, write."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import Any, get_args

import tomli
from pydantic import Strict

from daskel.cli.output import ExitCode, Output, finding_json
from daskel.cli.site import change_arguments, json_argument, site_argument
from daskel.cli.site_seen import load_with_seen
from daskel.core.site.edit import EditError, add, change, has_table
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.tables import TABLES
from daskel.system.sitefile import SiteFile, write_atomically

Change = Callable[[str], str]  # a file's text to its new text; raises EditError
_BAD = (Severity.INVALID, Severity.ERROR)


def editing_arguments(parser: argparse.ArgumentParser) -> None:
    change_arguments(parser)
    site_argument(parser)
    json_argument(parser)


VALUES_HELP = (
    "keys of the site file. KEY= removes one; of a list, KEY+=ITEM adds to it and KEY-=ITEM takes "
    "away, KEY=ITEM replaces it, given again for each item (args=quiet args=debug). "
    "options.NAME=VALUE sets a DHCP option"
)


def values_of(
    kind: str, words: Sequence[str], before: Mapping[str, Any] | None = None
) -> dict[str, Any]:
    """`key=value` words as values for a table; `key=` removes the key, and a key of a list that
    is given several times has several items. `key+=item` and `key-=item` change the list that the
    table has `before`. Raises EditError."""
    values: dict[str, Any] = {}
    fields = {field.alias or name: field for name, field in TABLES[kind].model_fields.items()}
    for word in words:
        key, equals, text = word.partition("=")
        key, sign = (key[:-1], key[-1]) if key[-1:] in ("+", "-") else (key, "")
        if not equals or key.split(".")[0] not in fields:
            raise EditError(f"{word!r} is not KEY=VALUE; {did_you_mean(key, fields)}")
        if sign:
            if key not in fields or "tuple" not in str(fields[key].annotation) or not text:
                raise EditError(f"{word!r} changes a list; {key} is not one, or no item is given")
            values[key] = _changed(values, before or {}, key, sign, text)
            continue
        if key.startswith("options."):
            values.setdefault("options", {})[key.removeprefix("options.")] = _typed(text)
        elif not text:
            values[key] = None
        elif "tuple" in str(fields[key].annotation):
            values.setdefault(key, []).append(text)
        else:
            typed = _typed(text) if _is_strict(fields[key].annotation) else text
            values[key] = typed
    short = {k: v[0] for k, v in values.items() if k in ("group", "initrd") and v and len(v) == 1}
    return values | short


def _changed(
    values: Mapping[str, Any], before: Mapping[str, Any], key: str, sign: str, item: str
) -> list[str]:
    """A list with one item more, or less."""
    there = values.get(key, before.get(key)) or []
    items = [there] if isinstance(there, str) else list(there)
    if sign == "+":
        return [*items, item]
    if item not in items:
        have = ", ".join(map(str, items)) or "nothing"
        more = f"; {key}+=-{item} removes it from what weaker layers say" if key == "args" else ""
        raise EditError(f"{key} of this table has no {item} (it has {have}){more}")
    items.remove(item)
    return items


def _is_strict(annotation: Any) -> bool:
    """A number, or true or false, also one that may be left out."""
    parts = get_args(annotation) or (annotation,)
    marks = (mark for part in parts for mark in getattr(part, "__metadata__", ()))
    return annotation in (int, bool) or any(isinstance(mark, Strict) for mark in marks)


def _typed(text: str) -> Any:
    """A number, true, false or a list as TOML has them; else a text."""
    try:
        value = tomli.loads(f"v = {text}")["v"]
    except tomli.TOMLDecodeError:
        return text
    return value if isinstance(value, (bool, int, list)) else text


def owner(file: SiteFile, table: tuple[str, str]) -> Path:
    """The file of the site in which a table stands. Raises EditError."""
    for path, text in file.texts.items():
        if has_table(text, table):
            return path
    origin = file.valid.positions.of(table, key=True)
    raise EditError(f"{table[0]} {table[1]} stands in {origin}; edit it there")


def site_table(file: SiteFile) -> Path:
    """The file in which [site] stands. Raises EditError."""
    for path, text in file.texts.items():
        if has_table(text, ("site",)):
            return path
    raise EditError("[site] has no header of its own; edit the site file by hand")


def edit(
    args: argparse.Namespace,
    output: Output,
    file: SiteFile,
    changes: Sequence[tuple[Path, Change]],
    said: str,
    clients: Collection[str] | None = None,
    what_next: bool = True,
) -> ExitCode:
    """Make changes one after the other, check the result, show it, and write it.

    What the change would break is said, and nothing is written; what was wrong before does not
    hinder. `clients`: the changes concern these alone.
    """
    texts = dict(file.texts)
    for target, made in changes:
        texts[target] = made(texts[target])
    changed = {path: text for path, text in texts.items() if text != file.texts[path]}
    broken = _broken(file, changed, clients)
    if broken:
        if output.as_json:
            output.json({"written": False, "findings": [finding_json(f) for f in broken]})
        else:
            output.findings(broken, on_disk=False)
            output.error("nothing was written", "correct the command, or edit the file by hand")
        invalid = any(finding.severity is Severity.INVALID for finding in broken)
        return ExitCode.WRONG_USE if invalid else ExitCode.BAD_NEWS
    return _write(args, output, file, changed, said, what_next)


def _write(
    args: argparse.Namespace,
    output: Output,
    before: SiteFile,
    changed: Mapping[Path, str],
    said: str,
    what_next: bool,
) -> ExitCode:
    if not args.dry_run:  # before anything is printed: the reader of our output may go away
        for path, text in changed.items():
            write_atomically(path, text)
    if not output.as_json:
        for path, text in changed.items():
            output.difference(path, before.texts[path], text)
    if output.as_json:
        files = [str(path) for path in changed]
        output.json({"written": not args.dry_run and bool(files), "files": files, "said": said})
    else:
        output.print(said if changed else "Nothing to change.")
        if changed and (what_next or args.dry_run):
            output.print(_what_next(args))
    return ExitCode.GOOD


def _what_next(args: argparse.Namespace) -> str:
    if args.dry_run:
        return "Nothing was written (--dry-run)."
    return "A running server takes it over with: daskel apply"


def _broken(
    file: SiteFile, changed: Mapping[Path, str], clients: Collection[str] | None
) -> list[Finding]:
    """What is wrong after the change and was not before."""
    after = load_with_seen(file.path, changed, clients)
    bad = [finding for finding in after.findings if finding.severity in _BAD]
    if not bad:
        return []
    old = {finding.problem for finding in load_with_seen(file.path, None, clients).findings}
    return [finding for finding in bad if finding.problem not in old]


def new_table(kind: str, name: str, values: Mapping[str, object]) -> Change:
    return lambda text: add(text, (kind, name), values)


def changing(table: tuple[str, ...], values: Mapping[str, object]) -> Change:
    return lambda text: change(text, table, values)
