"""Files below a folder, trees with handles, ports and their holders, leases on disk."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import cast

import pytest

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.history.lobby import Sighting
from daskel.store.database import Store
from daskel.store.reading import read_leases, read_lobby
from daskel.store.schema import CURRENT
from daskel.system.requirements import MissingRequirementError

# --- files ---


# --- ports, programs ---


# --- leases ---

LEASE = Lease(IPv4Address("10.61.8.100"), "tideroom", "02:61:08:00:00:0a", LeaseState.BOUND, 1e9, 7)


def test_leases_are_there_again(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    store = Store(path)
    store.keep([LEASE])
    changed = Lease(LEASE.address, "tideroom", "02:61:08:00:00:0b", LeaseState.DECLINED, 2e9)
    other = Lease(IPv4Address("10.61.8.101"), "tideroom", LEASE.mac, LeaseState.BOUND, 3e9)
    sixth = IPv6Address("fd61:8::100")
    other6 = other._replace(address=cast(IPv4Address, sixth), iaid=0xFFFFFFFF)
    store.keep([LEASE, changed, other, other6])
    assert read_leases(path).at(LEASE.address) == changed, "another process reads along"
    store.close()
    found = Store(path).load()
    assert found.at(LEASE.address) == changed
    assert found.of("tideroom", LEASE.mac) == other
    assert found.of("tideroom", LEASE.mac, 0xFFFFFFFF) == found.at(sixth) == other6


def test_an_older_store_is_brought_up_to_date(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    store = Store(path)
    seen = Sighting("02:61:ff:00:00:01", "tideroom", 0, "PXEClient", "", 1.0, 2.0)
    store.keep_sightings([seen])
    store.close()
    with sqlite3.connect(path) as connection:
        connection.execute("alter table sightings drop column relay")
        connection.execute("alter table boots drop column server")
        for later in ("digest", "iaid", "server"):
            connection.execute(f"alter table leases drop column {later}")
        connection.execute("drop table keys")
        connection.execute("update schema_version set version = 3")
    assert read_lobby(path) == [seen]
    assert list(Store(path).lobby()) == [seen]
    again = replace(seen, relay="10.61.10.1")
    Store(path).keep_sightings([again])
    assert read_lobby(path) == [again]


@pytest.mark.parametrize("version", range(1, CURRENT))
def test_from_every_version_to_this_one(version: int, tmp_path: Path) -> None:
    def tables(path: Path) -> dict[str, set[str]]:
        with sqlite3.connect(path) as connection:
            names = connection.execute("select name from sqlite_master where type = 'table'")
            return {
                name: {row[1] for row in connection.execute(f"pragma table_info({name})")}
                for (name,) in names.fetchall()
            }

    path, fresh = tmp_path / "state.db", tmp_path / "fresh.db"
    for one in (path, fresh):
        Store(one).close()
    with sqlite3.connect(path) as connection:
        for since, name in ((2, "sightings"), (3, "once"), (5, "boots"), (9, "keys")):
            if version < since:
                connection.execute(f"drop table {name}")
        if 2 <= version < 4:
            connection.execute("alter table sightings drop column relay")
        for since, name in ((6, "digest"), (7, "iaid"), (8, "server")):
            if version < since:
                connection.execute(f"alter table leases drop column {name}")
        if 5 <= version < 8:
            connection.execute("alter table boots drop column server")
        for name in ("server", "at", "seal") if version == 9 else ():
            connection.execute(f"alter table keys drop column {name}")
        connection.execute("update schema_version set version = ?", (version,))
    Store(path).close()
    assert tables(path) == tables(fresh)
    with sqlite3.connect(path) as connection:
        assert connection.execute("select version from schema_version").fetchall() == [(CURRENT,)]


def test_stores_that_cannot_be_used(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    Store(path).close()
    with sqlite3.connect(path) as connection:
        connection.execute("update schema_version set version = 99")
    with pytest.raises(MissingRequirementError, match="version 99"):
        Store(path)
    path.write_bytes(b"no database" * 100)
    with pytest.raises(MissingRequirementError):
        Store(path)
    with pytest.raises(MissingRequirementError, match="is not a database"):
        read_leases(path)
    assert read_leases(tmp_path / "none.db").at(LEASE.address) is None


def test_nobody_else_reads_it(tmp_path: Path) -> None:
    for there in (False, True):
        path = tmp_path / f"{there}.db"
        if there:
            path.touch(0o666)
        store = Store(path)
        store.keep(
            [Lease(IPv4Address(1), "tideroom", "02:61:08:00:00:01", LeaseState.BOUND, 1, None)]
        )
        modes = {p.name: p.stat().st_mode & 0o777 for p in tmp_path.glob(f"{there}.db*")}
        assert len(modes) >= 2 and set(modes.values()) == {0o640}, modes
        store.close()
