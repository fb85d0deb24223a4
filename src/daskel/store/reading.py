"""What other processes read of a SQLite store, without the server and without changing anything.

Plain `sqlite3`: the libraries of the server's store take longer to import than a command may take.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Sequence
from contextlib import closing, suppress
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any
from urllib.parse import quote

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.history import Boot, from_row
from daskel.core.boot.lobby import Sighting
from daskel.core.boot.once import Once


def read_lobby(path: Path) -> list[Sighting]:
    """The machines in the lobby, newest first."""
    return [Sighting(**row) for row in _rows(path, "SELECT * FROM sightings ORDER BY last DESC")]


def read_once(path: Path) -> list[Once]:
    """Assignments for one boot."""
    rows = _rows(path, "SELECT * FROM once")
    return [Once(row["client"], row["boot"], bool(row["running"])) for row in rows]


def read_leases(path: Path) -> Leases:
    return Leases([lease(row) for row in _rows(path, "SELECT * FROM leases")])


def read_boots(
    path: Path, *, clients: Collection[str] | None = None, since: float = 0.0,
    until: float = float("inf"), most: int = 100_000,
) -> list[Boot]:  # fmt: skip
    """Boots that began in that time, of these clients (names or MAC addresses), newest first."""
    query = "SELECT * FROM boots WHERE began >= ? AND began < ?"
    values: list[object] = [since, until]
    if clients is not None:
        marks = ", ".join("?" * len(clients))
        query += f" AND (client IN ({marks}) OR mac IN ({marks}))"
        values += [*clients, *clients]
    rows = _rows(path, f"{query} ORDER BY number DESC LIMIT ?", [*values, most])
    return [from_row({**row, "events": json.loads(row["events"])}) for row in rows]


def read_boot(path: Path, number: int) -> Boot | None:
    rows = _rows(path, "SELECT * FROM boots WHERE number = ?", [number])
    return from_row({**rows[0], "events": json.loads(rows[0]["events"])}) if rows else None


def copy_state(source: Path, target: Path) -> None:
    """A copy of a store as it is now, also of one that is in use; none where there is none, or
    where this user may not read it."""
    with (
        suppress(sqlite3.Error),
        closing(sqlite3.connect(f"file:{quote(str(source))}?mode=ro", uri=True)) as store,
        closing(sqlite3.connect(target)) as copy,
    ):
        store.backup(copy)


def lease(row: Any) -> Lease:
    """A lease from its row, by column name."""
    return Lease(
        IPv4Address(row["address"]),
        row["segment"],
        row["mac"],
        LeaseState(row["state"]),
        row["expires"],
        row["architecture"],
    )


def _rows(path: Path, query: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
    """Nothing where there is no store, where this user may not read it, and where another
    version made it."""
    if not path.exists():
        return []
    try:
        connection = sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, timeout=5)
    except sqlite3.Error:
        return []
    try:
        connection.row_factory = sqlite3.Row
        return [dict(row) for row in connection.execute(query, values)]
    except sqlite3.Error:
        return []
    finally:
        connection.close()
