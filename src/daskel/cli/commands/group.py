"""`daskel group`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = ("daskel group list", "daskel group set tide boot=rescue")
_COMMAND = Tables("group", example=EXAMPLE[1])
arguments = _COMMAND.arguments
run = None  # each verb has its own
