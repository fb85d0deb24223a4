"""Whether a store is whole, copies of it, and the way back to one. SQLite's own checks
(PRAGMA quick_check), and a digest of each lease."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path

from daskel.store.reading import copy_state, lease
from daskel.system.requirements import MissingRequirementError

_TABLES = ("leases", "boots", "sightings", "once")
_ENDS = ("", "-wal", "-shm")
_NOT_DAMAGE = (  # primary result codes: who may, who has it locked, what the disk says
    sqlite3.SQLITE_PERM, sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_NOMEM,
    sqlite3.SQLITE_READONLY, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_AUTH,
)  # fmt: skip
_MOST = 5  # problems that are named


@dataclass(frozen=True, slots=True)
class Health:
    """What is in a store, by table, and what is wrong with it, in sentences."""

    rows: dict[str, int] = field(default_factory=dict)
    problems: tuple[str, ...] = ()


def look_at(path: Path) -> Health:
    """Also of one that a server is using. Raises OSError when this user cannot read it, and
    MissingRequirementError when SQLite cannot open it: that tells nothing about damage."""
    path.open("rb").close()
    rows: dict[str, int] = {}
    problems: list[str] = []
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as store:
            store.row_factory = sqlite3.Row
            found = [str(row[0]) for row in store.execute(f"PRAGMA quick_check({_MOST})")]
            problems += [line for line in found if line != "ok"]
            there = {row[0] for row in store.execute("SELECT name FROM sqlite_master")}
            for table in _TABLES:
                if table in there:
                    rows[table] = store.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
            problems += list(_bad_leases(store)) if "leases" in there else []
    except (sqlite3.Error, ValueError) as error:
        if getattr(error, "sqlite_errorcode", 0) & 0xFF in _NOT_DAMAGE:
            problem = f"the store {path} cannot be checked: {error}"
            raise MissingRequirementError(
                problem, "run this as root, when nobody else has it locked"
            ) from None
        problems.append(str(error))
    return Health(rows, tuple(problems[:_MOST]))


def _bad_leases(store: sqlite3.Connection) -> Iterator[str]:
    for row in store.execute("SELECT * FROM leases"):
        try:
            lease(row)
        except MissingRequirementError as error:
            yield error.problem


def copies(path: Path) -> list[Path]:
    """The copies that are kept, the newest first: of the last start or day, and the one before."""
    return [path.with_name(f"{path.name}.copy"), path.with_name(f"{path.name}.copy-before")]


def keep_copy(path: Path) -> None:
    """A copy beside the store: the newest from now on. Raises MissingRequirementError, OSError."""
    newest, before = copies(path)
    part = path.with_name(f"{path.name}.part")
    part.unlink(missing_ok=True)
    os.close(os.open(part, os.O_RDWR | os.O_CREAT, 0o640))
    copy_state(path, part)
    part.chmod(0o640)
    with suppress(FileNotFoundError):
        newest.replace(before)
    part.replace(newest)
    for end in _ENDS[1:]:
        part.with_name(part.name + end).unlink(missing_ok=True)


def best_copy(path: Path) -> tuple[Path, Health] | None:
    """The newest copy that is whole."""
    for copy in copies(path):
        with suppress(FileNotFoundError):
            health = look_at(copy)
            if not health.problems:
                return copy, health
    return None


def restore(path: Path, copy: Path) -> Path:
    """Put a copy in the store's place; where the damaged one is kept. No server may run with it."""
    aside = path.with_name(f"{path.name}.damaged-{time.strftime('%Y%m%d-%H%M%S')}")
    for end in _ENDS:
        with suppress(FileNotFoundError):
            path.with_name(path.name + end).rename(aside.with_name(aside.name + end))
    copy_state(copy, path)
    path.chmod(0o640)
    return aside
