"""What other processes read of a SQLite store, without the server and without changing anything.

Plain `sqlite3`: the libraries of the server's store take longer to import than a command may take.
"""

from __future__ import annotations

import sqlite3
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any
from urllib.parse import quote

from daskel.core.boot.address import Lease, Leases, LeaseState
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


def _rows(path: Path, query: str) -> list[dict[str, Any]]:
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
        return [dict(row) for row in connection.execute(query)]
    except sqlite3.Error:
        return []
    finally:
        connection.close()
