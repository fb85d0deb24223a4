"""`daskel help`: what a key or a table of the site file means."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from textwrap import wrap

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument
from daskel.cli.site_reference import schema_text, site_reference
from daskel.cli.usage import UsageProblem
from daskel.core.site.reference import Key, TableText, UnknownKeyError, find

EXAMPLE = (
    "daskel help segment.pool",
    "daskel help segment",
    "daskel help --schema > daskel.schema.json",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    key = parser.add_argument(
        "key", nargs="?", metavar="KEY",
        help="a key of the site file, a table of it, or a command; all of them when not given",
    )  # fmt: skip
    key.completer = _complete  # type: ignore[attr-defined]
    parser.add_argument(
        "--schema", action="store_true",
        help="the JSON Schema of the site file, by which an editor completes and marks errors",
    )  # fmt: skip
    json_argument(parser)


def _complete(prefix: str, **_: object) -> list[str]:
    named = site_reference()
    names = [key.path for table in named for key in table.keys] + [table.name for table in named]
    return [name for name in names if name.startswith(prefix)]


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    if args.schema:
        output.out.write(schema_text())
        return ExitCode.GOOD
    everything = site_reference()
    try:
        found = find(everything, args.key) if args.key else everything
    except UnknownKeyError as error:
        if not _show_command(args.key, output):
            raise UsageProblem(error.problem, error.remedy) from None
        return ExitCode.GOOD
    if output.as_json:
        output.json(
            [
                asdict(key) | {"said": key.said, "path": key.path}
                for table in found
                for key in table.keys
            ]
        )
    elif not args.key:
        _list(found, output)
    else:
        for table in found:
            _show(table, output)
        _point_at_command(args.key, output)
    return ExitCode.GOOD


def _show_command(word: str, output: Output) -> bool:
    """The help of a command of that name, where there is one."""
    from daskel.cli.main import COMMANDS, parser  # which imports this module

    if word not in COMMANDS:
        return False
    commands = parser(word)._subparsers  # noqa: SLF001 - argparse has no other name for it
    assert commands is not None
    choices = commands._group_actions[0].choices  # noqa: SLF001
    assert isinstance(choices, dict)
    output.out.write(choices[word].format_help())
    return True


def _point_at_command(word: str, output: Output) -> None:
    from daskel.cli.main import COMMANDS

    if word in COMMANDS:
        output.print(f"The command of that name: daskel {word} --help")


def _list(found: list[TableText], output: Output) -> None:
    grid = Grid.grid(padding=(0, 2, 0, 0))
    for table in found:
        names = ", ".join(key.name for key in table.keys)
        grid.add_row(Text(table.header or "at the top", style="bold"), names)
    output.console.print(grid)
    output.print("\ndaskel help KEY says what one means, like: daskel help segment.pool")


def _show(table: TableText, output: Output) -> None:
    alone = len(table.keys) == 1
    if not alone:
        output.print(Text(table.header or "at the top of the file", style="bold"))
        output.print(f"{table.text}\n")
    for key in table.keys:
        _show_key(key, output)


def _show_key(key: Key, output: Output) -> None:
    output.print(Text(key.path, style="bold"))
    output.print(_folded(key.text, "  ", output))
    for name, value in rows(key):
        head = f"  {name:10}  "
        rest = _folded(value, " " * len(head), output).lstrip()
        output.print(Text.assemble((head, "dim"), rest))
    output.print()


def _folded(text: str, margin: str, output: Output) -> str:
    """Lines of the terminal's width; one line where nobody looks."""
    width = output.console.width if output.console.is_terminal else len(margin) + len(text) + 1
    lines = wrap(text, width - len(margin), break_on_hyphens=False)
    return "\n".join(margin + line for line in lines)


def rows(key: Key) -> list[tuple[str, str]]:
    """What is to be said of a key beside its text: name and words."""
    return [
        ("value", key.kind + (f" ({key.unit})" if key.unit else "")),
        ("default", "it must be given" if key.required else key.default or "nothing"),
        ("example", f"{key.name} = {key.example}"),
        ("wrong", f"{key.name} = {key.wrong}"),
        ("check says", key.said),
        (
            "since",
            key.since + ("; taken over when the server starts again" if key.at_start else ""),
        ),
    ]
