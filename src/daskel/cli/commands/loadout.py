"""`daskel loadout`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = (
    "daskel loadout list",
    "daskel loadout show notebook",
    "daskel loadout add try kernel=rescue/vmlinuz",
    "daskel loadout copy notebook notebook-try args+=debug",
    "daskel loadout set notebook args+=debug",
    "daskel loadout remove rescue",
)
_COMMAND = Tables("loadout", EXAMPLE)
arguments = _COMMAND.arguments
run = None  # each verb has its own
