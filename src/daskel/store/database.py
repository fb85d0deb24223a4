"""What must survive, in SQLite: leases, sightings, assignments for one boot.

What is written is on disk when the call returns.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import asdict
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from sqlalchemy import Connection, create_engine, delete, event, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import StaticPool

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.lobby import MOST, Lobby, Sighting
from daskel.core.boot.once import Once
from daskel.store.schema import LEASES, ONCE, SIGHTINGS, prepare
from daskel.system.lacking import LackingError

Kept = TypeVar("Kept")


class Store:
    """The store of one server. Raises LackingError when the file cannot be used."""

    def __init__(self, path: Path) -> None:
        self._engine = create_engine(
            f"sqlite:///{path}",
            connect_args={"check_same_thread": False, "timeout": 5},
            poolclass=StaticPool,
        )
        event.listen(self._engine, "connect", _durable)
        try:
            with self._engine.begin() as connection:
                prepare(connection)
        except DatabaseError as error:
            remedy = "name another file with state = ... in [site], or move this one away"
            raise LackingError(f"the store {path} cannot be used: {error.orig}", remedy) from error

    def load(self) -> Leases:
        with self._engine.connect() as connection:
            return Leases(_leases(connection))

    def keep(self, leases: Sequence[Lease]) -> None:
        """Write all of them in one transaction; on disk when this returns."""
        if not leases:
            return
        rows = {lease.address: _row(lease) for lease in leases}  # the last one of an address wins
        statement = insert(LEASES)
        changed = {c.name: statement.excluded[c.name] for c in LEASES.c if not c.primary_key}
        upsert = statement.on_conflict_do_update(index_elements=[LEASES.c.address], set_=changed)
        with self._engine.begin() as connection:
            connection.execute(upsert, list(rows.values()))

    def once(self) -> list[Once]:
        with self._engine.connect() as connection:
            return _once(connection)

    def keep_once(self, client: str, assigned: Sequence[Once]) -> None:
        """What is assigned to one client for one boot, instead of what was."""
        with self._engine.begin() as connection:
            connection.execute(delete(ONCE).where(ONCE.c.client == client))
            if assigned:
                connection.execute(ONCE.insert(), [asdict(once) for once in assigned])

    def lobby(self) -> Lobby:
        with self._engine.connect() as connection:
            return Lobby(_sightings(connection))

    def keep_sightings(self, sightings: Sequence[Sighting], gone: Collection[str] = ()) -> None:
        """Write what was seen, and forget what is gone; never more than the lobby holds."""
        statement = insert(SIGHTINGS)
        changed = {c.name: statement.excluded[c.name] for c in SIGHTINGS.c if not c.primary_key}
        upsert = statement.on_conflict_do_update(index_elements=[SIGHTINGS.c.mac], set_=changed)
        with self._engine.begin() as connection:
            if sightings:
                connection.execute(upsert, [asdict(sighting) for sighting in sightings])
            if gone:
                connection.execute(delete(SIGHTINGS).where(SIGHTINGS.c.mac.in_(gone)))
            newest = select(SIGHTINGS.c.mac).order_by(SIGHTINGS.c.last.desc()).limit(MOST)
            connection.execute(delete(SIGHTINGS).where(SIGHTINGS.c.mac.not_in(newest)))

    def close(self) -> None:
        self._engine.dispose()


def _sightings(connection: Connection) -> list[Sighting]:
    rows = connection.execute(select(SIGHTINGS).order_by(SIGHTINGS.c.last.desc()))
    return [Sighting(**row._mapping) for row in rows]


def _once(connection: Connection) -> list[Once]:
    return [Once(**row._mapping) for row in connection.execute(select(ONCE))]


def _leases(connection: Connection) -> list[Lease]:
    return [_lease(row) for row in connection.execute(select(LEASES))]


def read_lobby(path: Path) -> list[Sighting]:
    """The machines in the lobby, newest first, without the server."""
    return _read(path, _sightings)


def read_once(path: Path) -> list[Once]:
    """Assignments for one boot, without the server."""
    return _read(path, _once)


def read_leases(path: Path) -> Leases:
    """The leases, without the server."""
    return Leases(_read(path, _leases))


def _read(path: Path, what: Callable[[Connection], list[Kept]]) -> list[Kept]:
    """Read a store that another process may be using; nothing where there is none, where this
    user may not read it, and where another version made it."""
    if not path.exists():
        return []
    engine = create_engine(f"sqlite:///file:{quote(str(path))}?mode=ro&uri=true")
    try:
        with engine.connect() as connection:
            return what(connection)
    except DatabaseError:
        return []
    finally:
        engine.dispose()


def _durable(connection: Any, _record: object) -> None:
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")


def _row(lease: Lease) -> dict[str, object]:
    return {
        "address": str(lease.address),
        "segment": lease.segment,
        "mac": lease.mac,
        "state": lease.state.value,
        "expires": lease.expires,
        "architecture": lease.architecture,
    }


def _lease(row: Any) -> Lease:
    return Lease(
        IPv4Address(row.address),
        row.segment,
        row.mac,
        LeaseState(row.state),
        row.expires,
        row.architecture,
    )
