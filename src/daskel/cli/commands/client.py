"""`daskel client`: see `tables`."""

from __future__ import annotations

from daskel.cli.table_commands import Tables

EXAMPLE = ("daskel client list", "daskel client add tide-13 mac=02:61:08:00:00:0d group=tide")
_COMMAND = Tables("client", example=EXAMPLE[1])
arguments = _COMMAND.arguments
run = None  # each verb has its own
