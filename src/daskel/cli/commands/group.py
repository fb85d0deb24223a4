"""`daskel group`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = (
    "daskel group list",
    "daskel group show tide",
    "daskel group add quay segment=tideroom boot=rescue",
    "daskel group set tide boot=rescue",
    "daskel group remove tide",
)
_COMMAND = Tables("group", EXAMPLE)
arguments = _COMMAND.arguments
run = None  # each verb has its own
