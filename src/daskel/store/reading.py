"""What other processes read of a SQLite store, without the server and without changing anything.

Plain `sqlite3`: the libraries of the server's store take longer to import than a command may take.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from contextlib import closing, contextmanager
from hashlib import blake2s
from ipaddress import IPv4Address, ip_address
from pathlib import Path
from typing import Any, cast
from urllib.parse import quote

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.history.boots import Boot, from_row
from daskel.core.history.lobby import Sighting
from daskel.core.history.once import Once
from daskel.system.requirements import MissingRequirementError

RESTORE = "daskel store check says what is damaged, daskel store restore goes back to a copy"


def read_lobby(path: Path) -> list[Sighting]:
    """The machines in the lobby, newest first."""
    return [Sighting(**row) for row in _rows(path, "SELECT * FROM sightings ORDER BY last DESC")]


def read_once(path: Path) -> list[Once]:
    """Assignments for one boot."""
    rows = _rows(path, "SELECT * FROM once")
    return [Once(row["client"], row["boot"], bool(row["running"])) for row in rows]


def read_leases(path: Path) -> Leases:
    """All leases of a store; none where there is no store. Raises MissingRequirementError."""
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
    return [_boot(row) for row in rows]


def read_boot(path: Path, number: int) -> Boot | None:
    """The boot with this number. Raises MissingRequirementError."""
    rows = _rows(path, "SELECT * FROM boots WHERE number = ?", [number])
    return _boot(rows[0]) if rows else None


def _boot(row: dict[str, Any]) -> Boot:
    try:
        return from_row({**row, "events": json.loads(row["events"])})
    except (TypeError, ValueError, KeyError) as error:
        problem = f"the store is damaged: boot {row.get('number')}: {error}"
        raise MissingRequirementError(problem, RESTORE) from None


def copy_state(source: Path, target: Path) -> None:
    """A copy of a store as it is now, also of one that is in use; none where there is none. What
    was there before is gone. Raises MissingRequirementError."""
    for end in ("", "-wal", "-shm"):
        target.with_name(target.name + end).unlink(missing_ok=True)
    with _opened(source) as store:
        if store is None:
            return
        try:
            with closing(sqlite3.connect(target)) as copy:
                store.backup(copy)
        except sqlite3.Error as error:
            problem = f"the store {source} cannot be copied to {target}: {error}"
            raise MissingRequirementError(
                problem, "is there room, and may this user write there?"
            ) from None


def digest(*values: object) -> str:
    """Of a lease's columns: a disk that returns something else than was written is noticed."""
    return blake2s(repr(values).encode(), digest_size=8).hexdigest()


def lease(row: Any) -> Lease:
    """A lease from its row, by column name. Raises MissingRequirementError when it is damaged."""
    columns = ("address", "segment", "mac", "state", "expires", "architecture")
    address: object = "?"
    try:
        address, segment, mac, state, expires, architecture = (row[name] for name in columns)
        later = ("digest", "iaid")  # than the first version of the table
        kept, iaid = (row[name] if name in row.keys() else None for name in later)  # noqa: SIM118 - of no mapping
        more = () if iaid is None else (iaid,)
        if kept and kept != digest(address, segment, mac, state, expires, architecture, *more):
            raise ValueError("it is not what was written")
        found, held = ip_address(str(address)), LeaseState(state)
        return Lease(
            cast(IPv4Address, found), segment, mac, held, float(expires), architecture, iaid
        )
    except (TypeError, ValueError, LookupError) as error:
        raise MissingRequirementError(
            f"the store is damaged: the lease of {str(address)[:40]!r}: {error}", RESTORE
        ) from None


def _rows(path: Path, query: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
    """Nothing where there is no store, and where an older version made it.

    Raises MissingRequirementError.
    """
    with _opened(path) as store:
        if store is None:
            return []
        store.row_factory = sqlite3.Row
        try:
            return [dict(row) for row in store.execute(query, values)]
        except sqlite3.OperationalError as error:
            if "no such" in str(error):
                return []
            raise


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection | None]:
    """A store that is read and never written; None where there is none.

    Raises MissingRequirementError.
    """
    try:
        path.stat()
        with closing(_connection(path)) as store:
            yield store
    except FileNotFoundError:
        yield None
    except (OSError, sqlite3.Error) as error:
        why = error.strerror if isinstance(error, OSError) else error
        remedy = RESTORE
        if isinstance(error, (OSError, sqlite3.OperationalError)):
            remedy = "run this as root, or as a user who may read it"
        raise MissingRequirementError(f"the store {path} cannot be read: {why}", remedy) from None


def _connection(path: Path) -> sqlite3.Connection:
    """Who may not write beside it, can read a store that nobody has open: all is in one file."""
    name = f"file:{quote(str(path))}?mode=ro"
    store = sqlite3.connect(name, uri=True, timeout=5)
    try:
        store.execute("PRAGMA schema_version")
    except sqlite3.OperationalError:
        store.close()
        if path.with_name(path.name + "-wal").exists():
            raise
        store = sqlite3.connect(f"{name}&immutable=1", uri=True)
    return store
