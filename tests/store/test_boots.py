"""Boots in the store: written again in their place, forgotten in time, strangers' never too many."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from daskel.core.history.boots import History
from daskel.core.history.events import Mounted, Seen, Who
from daskel.store import database
from daskel.store.database import Store
from daskel.store.reading import copy_state, read_boot, read_boots
from daskel.system.requirements import MissingRequirementError

MAC = "02:61:08:00:00:01"
SEEN = Seen(Who("tide-01", MAC), "tideroom", "x86 BIOS", "PXEClient")


def test_what_is_kept_and_for_how_long(tmp_path: Path) -> None:
    store, history = Store(tmp_path / "state.db"), History()
    for day in range(3):
        history.happened(day * 86400.0, SEEN)
        history.happened(day * 86400.0 + 5, Mounted(SEEN.who, "notebook"))
        store.keep_boots(history.changed())
    history.happened(2 * 86400.0 + 9, Mounted(SEEN.who, "catalogue"))
    store.keep_boots(history.changed(), 86400.0)

    kept = read_boots(tmp_path / "state.db")
    assert [boot.number for boot in kept] == [3, 2]
    assert kept[0].root == "catalogue, read-only" and next(store.numbers()) == 4
    assert read_boots(tmp_path / "state.db", clients=["tide-01"], until=90_000.0) == kept[1:]
    assert read_boots(tmp_path / "state.db", clients=[MAC], most=1) == kept[:1]
    assert read_boot(tmp_path / "state.db", 1) is None
    assert store.last_boots() == {MAC: 3} and store.boot(3) == kept[0]

    copy_state(tmp_path / "state.db", tmp_path / "copy.db")  # while it is open
    assert read_boots(tmp_path / "copy.db") == kept
    copy_state(tmp_path / "nothing.db", tmp_path / "none.db")
    assert not (tmp_path / "none.db").exists()
    store.close()


def test_made_up_machines_do_not_fill_the_disk(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(database, "_MOST_STRANGERS", 10)
    store, history = Store(tmp_path / "state.db"), History()
    for number in range(30):
        who = Who(None, f"06:00:00:00:00:{number:02x}")
        history.happened(float(number), Seen(who, "tideroom", "x86 BIOS", ""))
    history.happened(40.0, SEEN)
    store.keep_boots(history.changed(), 0.0)
    assert len(read_boots(tmp_path / "state.db")) == 11
    store.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody else")
def test_what_somebody_else_may_read(tmp_path: Path) -> None:
    """All of it when no server runs; else a failure that says so, never that there is nothing."""
    path, history = tmp_path / "state.db", History()
    store = Store(path)
    history.happened(0.0, SEEN)
    store.keep_boots(history.changed())
    store.close()
    for folder in (tmp_path, *list(tmp_path.parents)[:-2]):
        folder.chmod(folder.stat().st_mode | 0o011)
    assert read_by_somebody(path) == "1"
    assert not path.with_name("state.db-wal").exists()
    path.chmod(0o600)
    assert (
        read_by_somebody(path) == f"the store {path} cannot be read: unable to open database file"
    )
    tmp_path.chmod(0o700)
    assert read_by_somebody(path) == f"the store {path} cannot be read: Permission denied"


def read_by_somebody(path: Path) -> str:
    """How many boots another user finds, or why none."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.setuid(65534)
        try:
            os.write(writing, str(len(read_boots(path))).encode())
        except MissingRequirementError as error:
            os.write(writing, error.problem.encode())
        finally:
            os._exit(0)
    os.waitpid(child, 0)
    return os.read(reading, 4096).decode()
