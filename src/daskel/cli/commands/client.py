"""`daskel client`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = (
    "daskel client list",
    "daskel client show tide-01",
    "daskel client add tide-13 mac=02:61:08:00:00:0d group=tide",
    "daskel client set tide-01 boot=rescue",
    "daskel client rename tide-01 tide-21",
    "daskel client remove tide-12",
    "daskel client export > room.csv",
    "daskel client import room.csv",
)
_COMMAND = Tables("client", EXAMPLE)
arguments = _COMMAND.arguments
run = None  # each verb has its own
