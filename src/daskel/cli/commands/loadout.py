"""`daskel loadout`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = ("daskel loadout list", "daskel loadout copy notebook notebook-try args+=debug")
_COMMAND = Tables("loadout", example=EXAMPLE[1])
arguments = _COMMAND.arguments
run = None  # each verb has its own
