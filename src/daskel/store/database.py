"""What must survive, in SQLite: leases, sightings, assignments for one boot, boots.

What is written is on disk when the call returns.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from itertools import chain, count, islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Column, Engine, Table, create_engine, delete, event, func, select
from sqlalchemy.dialects.sqlite import Insert, insert
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import StaticPool

from daskel.core.boot.address import Lease, Leases
from daskel.core.boot.contact import Key
from daskel.core.history.boots import Boot, as_row
from daskel.core.history.lobby import MOST, Lobby, Sighting
from daskel.core.history.once import Once
from daskel.store.health import keep_copy, look_at
from daskel.store.reading import RESTORE, digest, lease, read_boot
from daskel.store.schema import BOOTS, KEYS, LEASES, ONCE, SIGHTINGS, prepare
from daskel.system.requirements import MissingRequirementError

if TYPE_CHECKING:  # few sites share their store, and it takes its time
    from sqlalchemy.dialects import postgresql

_MODE = 0o640
_MOST_STRANGERS = 2_000  # boots of machines that are not in the site
_COPIED, _AT_ONCE = (LEASES, BOOTS, SIGHTINGS, ONCE), 1000  # tables, rows
_ROWS = (256, 128, 64, 32, 16, 8, 4, 2, 1)  # leases that one statement writes


class Tables:
    """What is the same in SQLite and in PostgreSQL. `server`: what wrote it is called."""

    _engine: Engine
    _insert: Callable[[Table], Insert | postgresql.Insert] = staticmethod(insert)
    is_shared = False  # by several servers
    server = ""
    _strangers = 0  # boots of strangers since they were counted

    def load(self) -> Leases:
        """All leases."""
        with self._engine.connect() as connection:
            return Leases([lease(row._mapping) for row in connection.execute(select(LEASES))])  # noqa: SLF001 - SQLAlchemy's public name for it

    def once(self) -> list[Once]:
        """All assignments for one boot."""
        with self._engine.connect() as connection:
            return [Once(**row._mapping) for row in connection.execute(select(ONCE))]  # noqa: SLF001 - SQLAlchemy's public name for it

    def keep_once(self, client: str, assigned: Sequence[Once]) -> None:
        """What is assigned to one client for one boot, instead of what was."""
        with self._engine.begin() as connection:
            connection.execute(delete(ONCE).where(ONCE.c.client == client))
            if assigned:
                connection.execute(ONCE.insert(), [asdict(once) for once in assigned])

    def keys(self) -> list[Key]:
        """Those of clients with private roots."""
        with self._engine.connect() as connection:
            return [Key(**row) for row in connection.execute(select(KEYS)).mappings()]

    def keep_key(self, client: str, key: Key | None) -> None:
        """A client's key in the place of the one before; None: it has none any more."""
        with self._engine.begin() as connection:
            connection.execute(delete(KEYS).where(KEYS.c.client == client))
            if key:
                connection.execute(KEYS.insert(), [asdict(key)])

    def lobby(self) -> Lobby:
        """The machines that waited, or wait."""
        with self._engine.connect() as connection:
            return Lobby(
                [Sighting(**row._mapping) for row in connection.execute(select(SIGHTINGS))]  # noqa: SLF001 - SQLAlchemy's public name for it
            )

    def keep_sightings(self, sightings: Sequence[Sighting], gone: Collection[str] = ()) -> None:
        """Write what was seen, and forget what is gone; never more than the lobby holds."""
        upsert = self._instead(SIGHTINGS, SIGHTINGS.c.mac)
        with self._engine.begin() as connection:
            if sightings:
                connection.execute(upsert, [asdict(sighting) for sighting in sightings])
            if gone:
                connection.execute(delete(SIGHTINGS).where(SIGHTINGS.c.mac.in_(gone)))
            newest = select(SIGHTINGS.c.mac).order_by(SIGHTINGS.c.last.desc()).limit(MOST)
            connection.execute(delete(SIGHTINGS).where(SIGHTINGS.c.mac.not_in(newest)))

    def latest(self) -> float:
        """When something was seen last, in seconds since 1970; 0 when nothing was."""
        with self._engine.connect() as connection:
            found = [
                connection.scalar(select(func.max(c))) for c in (BOOTS.c.last, SIGHTINGS.c.last)
            ]
        return max(float(last or 0) for last in found)

    def keep_boots(self, boots: Sequence[Boot], before: float | None = None) -> None:
        """Write boots, each in the place of one of its number, and forget those that ended
        `before`; of machines that are not in the site, never many more than that limit."""
        rows = [{**as_row(boot), "server": self.server} for boot in boots]
        self._strangers += sum(1 for boot in boots if boot.client is None)
        with self._engine.begin() as connection:
            if rows:
                connection.execute(self._instead(BOOTS, BOOTS.c.number), rows)
            if before is not None:
                connection.execute(delete(BOOTS).where(BOOTS.c.last < before))
            if before is None and self._strangers < _MOST_STRANGERS // 4:
                return
            self._strangers = 0
            strangers = select(BOOTS.c.number).where(BOOTS.c.client.is_(None))
            older = strangers.order_by(BOOTS.c.began.desc()).offset(_MOST_STRANGERS)
            connection.execute(delete(BOOTS).where(BOOTS.c.number.in_(older)))

    def counts(self) -> dict[str, int]:
        """How many rows each table has."""
        with self._engine.connect() as connection:
            return {
                table.name: connection.scalar(select(func.count()).select_from(table)) or 0
                for table in _COPIED
            }

    def everything(self) -> dict[str, Iterable[Mapping[str, Any]]]:
        """All rows of each table, for another store."""
        return {table.name: self._all_of(table) for table in _COPIED}

    def _all_of(self, table: Table) -> Iterator[dict[str, Any]]:
        with self._engine.connect() as connection:
            for row in connection.execution_options(yield_per=_AT_ONCE).execute(select(table)):
                found = dict(row._mapping)  # noqa: SLF001 - SQLAlchemy's public name for it
                yield found | ({"digest": ""} if "digest" in found else {})

    def fill(self, rows: Mapping[str, Iterable[Mapping[str, Any]]]) -> dict[str, int]:
        """Write what another store has; how many rows of each table. All of it, or nothing."""
        counts = {}
        with self._engine.begin() as connection:
            for table in _COPIED:
                taken, given = 0, iter(rows[table.name])
                while some := [dict(row) for row in islice(given, _AT_ONCE)]:
                    connection.execute(table.insert(), some)
                    taken += len(some)
                counts[table.name] = taken
        return counts

    def _instead(self, table: Table, key: Column[Any]) -> Insert | postgresql.Insert:
        """The statement that writes rows, each in the place of the one with its key."""
        statement = self._insert(table)
        changed = {c.name: statement.excluded[c.name] for c in table.c if not c.primary_key}
        return statement.on_conflict_do_update(index_elements=[key], set_=changed)

    def close(self) -> None:
        """Close the database."""
        self._engine.dispose()


class Store(Tables):
    """The store of one server. Raises MissingRequirementError when the file cannot be used."""

    def __init__(self, path: Path) -> None:
        self._path = path
        with suppress(OSError):  # what cannot be used is said below
            _make_private(path)
        _need_whole(path)
        self._engine = create_engine(
            f"sqlite:///{path}",
            connect_args={"check_same_thread": False, "timeout": 5},
            poolclass=StaticPool,
        )
        event.listen(self._engine, "connect", _durable)
        dialect = self._engine.dialect
        self._upserts = {rows: str(_upsert(rows).compile(dialect=dialect)) for rows in _ROWS}
        try:
            with self._engine.begin() as connection:
                prepare(connection)
        except DatabaseError as error:
            remedy = "name another file with state = ... in [site], or move this one away"
            if not os.access(path if path.exists() else path.parent, os.W_OK):
                remedy = "run this as root, or as a user who may write it"
            raise MissingRequirementError(
                f"the store {path} cannot be used: {error.orig}", remedy
            ) from error

    def keep(self, leases: Sequence[Lease], now: float = 0.0) -> Sequence[Lease]:  # noqa: ARG002 - as `SharedStore.keep`, which others may have changed
        """Write all of them in one transaction; on disk when this returns. Those that another
        server's stand in the way of: none."""
        if not leases:
            return ()
        rows = list({lease.address: _row(lease) for lease in leases}.values())  # the last ones
        with self._engine.begin() as connection:
            for size in _ROWS:
                while len(rows) >= size:
                    some, rows = rows[:size], rows[size:]
                    values = tuple(chain.from_iterable(some))
                    connection.exec_driver_sql(self._upserts[size], values)
        return ()

    def numbers(self) -> Iterator[int]:
        """The numbers of the boots to come."""
        with self._engine.connect() as connection:
            return count(int(connection.scalar(select(func.max(BOOTS.c.number))) or 0) + 1)

    def last_boots(self) -> dict[str, int]:
        """The number of the last boot of every machine."""
        newest = select(BOOTS.c.mac, func.max(BOOTS.c.number)).group_by(BOOTS.c.mac)
        with self._engine.connect() as connection:
            return {row[0]: row[1] for row in connection.execute(newest)}

    def boot(self, number: int) -> Boot | None:
        """By a connection of its own: another thread may just be writing by this one."""
        with suppress(MissingRequirementError):  # nobody is refused an answer for that
            return read_boot(self._path, number)
        return None

    def copy(self) -> None:
        """Keep a copy beside it. Raises MissingRequirementError, OSError."""
        keep_copy(self._path)


def _need_whole(path: Path) -> None:
    """Raises MissingRequirementError for a damaged store: one that is silently made anew, or has
    fewer leases, gives the same address to two clients."""
    with suppress(FileNotFoundError, PermissionError):  # the latter is said by who opens it
        if path.stat().st_size and (problems := look_at(path).problems):
            raise MissingRequirementError(f"the store {path} is damaged: {problems[0]}", RESTORE)


def _make_private(path: Path) -> None:
    """Who boots what and when is for the server's user and group; what SQLite writes beside the
    file gets the same mode."""
    os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, _MODE))
    if path.stat().st_mode & 0o007:
        path.chmod(_MODE)


def _durable(connection: Any, _record: object) -> None:
    connection.execute("PRAGMA journal_mode=WAL")
    connection.execute("PRAGMA synchronous=FULL")


def _upsert(rows: int) -> Insert:
    """The statement that writes a number of leases; each takes the place of one of its address."""
    statement = insert(LEASES).values([dict.fromkeys(LEASES.c.keys())] * rows)
    changed = {c.name: statement.excluded[c.name] for c in LEASES.c if not c.primary_key}
    return statement.on_conflict_do_update(index_elements=[LEASES.c.address], set_=changed)


def _row(lease: Lease) -> tuple[object, ...]:
    """In the order of the table's columns."""
    values = (
        str(lease.address), lease.segment, lease.mac, lease.state.value, float(lease.expires),
        lease.architecture,
    )  # fmt: skip
    more = () if lease.iaid is None else (lease.iaid,)
    return (*values, digest(*values, *more), lease.iaid, "")
