"""What the store holds, for commands: read from its file. Where it is a database, the server that
runs here is asked: a driver takes longer to import than a command may take."""

from __future__ import annotations

import sys
from collections.abc import Collection
from pathlib import Path
from typing import Any

from daskel.cli.site import question
from daskel.core.boot.address import Leases
from daskel.core.history.boots import Boot, from_row
from daskel.core.history.lobby import Sighting
from daskel.core.history.once import Once
from daskel.store import reading
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile

NONE_RUNS = "no server of this site runs here, through which the database is asked"
_said: list[str] = []


def leases(file: SiteFile) -> Leases:
    """All leases; none, and a line that says so, where they cannot be known. Raises
    MissingRequirementError."""
    if file.database is None:
        return reading.read_leases(file.state)
    return Leases([reading.lease(row) for row in _rows(file, "leases", needed=False)])


def once(file: SiteFile) -> list[Once]:
    """Assignments for one boot. Raises MissingRequirementError."""
    if file.database is None:
        return reading.read_once(file.state)
    return [Once(**row) for row in _rows(file, "once", needed=False)]


def lobby(file: SiteFile) -> list[Sighting]:
    """The machines in the lobby, newest first. Raises MissingRequirementError."""
    if file.database is None:
        return reading.read_lobby(file.state)
    return [Sighting(**row) for row in _rows(file, "sightings")]


def boots(
    file: SiteFile, *, clients: Collection[str] | None = None, since: float = 0.0,
    until: float = float("inf"), most: int = 100_000, needed: bool = True,
) -> list[Boot]:  # fmt: skip
    """As `reading.read_boots`. Without a server to ask, raises MissingRequirementError where they
    are `needed`, and returns an empty list otherwise."""
    if file.database is None:
        return reading.read_boots(file.state, clients=clients, since=since, until=until, most=most)
    end = None if until == float("inf") else until
    names = None if clients is None else list(clients)
    rows = _rows(file, "boots", needed=needed, clients=names, began=since, until=end, most=most)
    return [from_row(row) for row in rows]


def boot(file: SiteFile, number: int) -> Boot | None:
    """The boot with this number. Raises MissingRequirementError."""
    if file.database is None:
        return reading.read_boot(file.state, number)
    found = _rows(file, "boots", number=number)
    return from_row(found[0]) if found else None


def copy_into(file: SiteFile, target: Path) -> None:
    """A store that is a file, with the leases and assignments as they are now. Raises
    MissingRequirementError."""
    if file.database is None:
        reading.copy_state(file.state, target)
        return
    from daskel.store.database import Store

    for end in ("", "-wal", "-shm"):
        target.with_name(target.name + end).unlink(missing_ok=True)
    store = Store(target)
    store.keep(leases(file).all())
    for one in once(file):
        store.keep_once(one.client, [one])
    store.close()


def _rows(
    file: SiteFile, table: str, *, needed: bool = True, **which: object
) -> list[dict[str, Any]]:
    answer = question(file, "rows", table=table, **which)
    if answer is None:
        if needed:
            raise MissingRequirementError(NONE_RUNS, "start it with: daskel serve")
        if not _said:
            _said.append(f"daskel: {NONE_RUNS}: nothing is known of leases and past boots\n")
            sys.stderr.write(_said[0])
        return []
    if "error" in answer:
        raise MissingRequirementError(answer["error"], "daskel servers says how it is")
    rows: list[dict[str, Any]] = answer["rows"]
    return rows
