"""Leases in SQLite, durable before `keep` returns."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import create_engine, event, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import StaticPool

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.store.schema import LEASES, prepare
from daskel.system.lacking import LackingError


class LeaseStore:
    """The leases of one server. Raises LackingError when the file cannot be used."""

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
            return Leases([_lease(row) for row in connection.execute(select(LEASES))])

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

    def close(self) -> None:
        self._engine.dispose()


def read_leases(path: Path) -> Leases:
    """The leases of a store that another process may be using; none where there is no store."""
    if not path.exists():
        return Leases()
    engine = create_engine(f"sqlite:///file:{quote(str(path))}?mode=ro&uri=true")
    try:
        with engine.connect() as connection:
            return Leases([_lease(row) for row in connection.execute(select(LEASES))])
    except DatabaseError:
        return Leases()  # not readable by this user, or made by another version
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
