"""Damage on the disk is told in words, and never means something else: store, slates, roots, key."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.boot.address import Lease, LeaseState
from daskel.service.nfs.questions import handle_key
from daskel.store.database import Store
from daskel.store.health import best_copy, keep_copy, look_at
from daskel.store.reading import read_boots, read_leases
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.sealing import drop, seal
from daskel.system.roots.slates import Slate, SlateState
from tests.conftest import Serve, daskel
from tests.hostile.conftest import Figure

ROUNDS = int(os.environ.get("HOSTILE", "1"))
BOUND = LeaseState.BOUND
LEASES = [
    Lease(IPv4Address(0x0A3D0864 + n), "tideroom", f"02:61:08:00:01:{n:02x}", BOUND, 9e9, n % 3)
    for n in range(200)
]


def test_a_store_that_is_scribbled_upon_never_has_fewer_leases(
    tmp_path: Path, figure: Figure
) -> None:
    """Every lease as it was, or a sentence."""
    whole, hurt, chance = tmp_path / "whole.db", tmp_path / "hurt.db", random.Random(61)
    store = Store(whole)
    store.keep(LEASES)
    store.close()
    data, told = whole.read_bytes(), 0
    for _ in range(150 * ROUNDS):
        damaged = bytearray(data)
        for _ in range(chance.choice((1, 3, 40))):
            damaged[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        if chance.random() < 0.2:
            del damaged[chance.randrange(len(data)) :]
        for end in ("-wal", "-shm"):
            hurt.with_name(hurt.name + end).unlink(missing_ok=True)
        hurt.write_bytes(damaged)
        try:
            opened = Store(hurt)
            found = opened.load()
            opened.close()
        except MissingRequirementError:
            told += 1
            continue
        assert [found.at(lease.address) for lease in LEASES] == LEASES
        try:
            read_boots(hurt), read_leases(hurt)
        except MissingRequirementError:
            told += 1
    assert told > 30
    figure("stores of 200 leases with flipped bits, or cut", 150 * ROUNDS,
           f"{told} refused with a sentence, the rest with every lease")  # fmt: skip


def test_a_damaged_store_is_told_and_restored(demo_folder: Path, serve: Serve) -> None:
    serving = serve(demo_folder)
    store = demo_folder / "state.db"
    assert daskel("store", "check", cwd=demo_folder).returncode == 0
    refused = daskel("store", "restore", "--yes", cwd=demo_folder)
    assert refused.returncode == 3 and "the server runs" in refused.stderr
    serving.stop()
    assert best_copy(store), "of its start"
    row = "('10.61.8.99', 'tideroom', 'x', 'bound', 1, 0, '', null, '')"
    with sqlite3.connect(store) as connection:
        connection.execute(f"insert into leases values {row}")
    keep_copy(store)
    with sqlite3.connect(store) as connection:
        connection.execute("update leases set digest = 'wrong' where address = '10.61.8.99'")
    served = daskel("serve", "--loopback", "--site", demo_folder / "daskel.toml")
    assert served.returncode == 3 and "is damaged" in served.stderr, served
    assert "daskel store restore" in served.stderr and "Traceback" not in served.stderr
    checked = daskel("store", "check", "--json", cwd=demo_folder)
    assert checked.returncode == 1 and json.loads(checked.stdout)["whole"] is False
    assert daskel("store", "restore", cwd=demo_folder).returncode == 2
    assert daskel("store", "restore", "--yes", cwd=demo_folder).returncode == 0
    assert look_at(store).rows["leases"] == 1 and not look_at(store).problems
    assert list(demo_folder.glob("state.db.damaged-*"))
    again = daskel("store", "restore", "--yes", cwd=demo_folder)
    assert again.returncode == 0 and "nothing is restored" in again.stdout
    store.write_bytes(b"garbage" * 1000)
    for words in (("boots", "list"), ("lobby", "list"), ("explain", "tide-01")):
        done = daskel(*words, cwd=demo_folder)
        assert done.returncode in (0, 3) and "Traceback" not in done.stderr, done
        assert "a fault of Daskel" not in done.stderr


BAD = ["", "{", "[]", "null", '{"version": "1"}', '{"used": 1}', "\0\0\0", "[" * 100_000]


@pytest.mark.parametrize("text", BAD, ids=lambda text: str(text)[:12])
def test_what_is_kept_of_slates_and_roots(text: str, tmp_path: Path) -> None:
    slate = Slate(tmp_path / "slates", "notebook", "tide-01")
    slate.upper.mkdir(parents=True)
    (slate.upper / "mine").write_text("x")
    slate.keep(SlateState(1, 0, 0))
    (slate.folder / "slate.json").write_text(text)
    with pytest.raises(MissingRequirementError, match=r"slate\.json is damaged"):
        slate.state()
    (slate.folder / "slate.json").unlink()
    with pytest.raises(MissingRequirementError, match=r"slate\.json is missing"):
        slate.state()
    root = RootFolder(tmp_path / "roots", "notebook")
    (tmp_path / "roots/.versions/notebook/1").mkdir(parents=True)
    (tmp_path / "roots/.versions/notebook/root.json").write_text(text)
    with pytest.raises(MissingRequirementError, match=r"root\.json is damaged"):
        root.state()
    (tmp_path / "roots/.versions/notebook/root.json").unlink()
    with pytest.raises(MissingRequirementError, match=r"root\.json is missing"):
        root.state()


def test_one_damaged_root_is_a_finding(demo_folder: Path) -> None:
    kept = demo_folder / "roots/.versions/notebook/root.json"
    kept.parent.mkdir(parents=True)
    kept.write_text("")
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 1 and "root.json is damaged: it is empty" in done.stdout, done
    assert "Findings: 1 error" in done.stdout


def test_what_cannot_be_read_is_not_called_damaged(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    Store(path).close()
    with sqlite3.connect(path) as other:
        other.execute("pragma locking_mode = exclusive")
        other.execute("begin exclusive")
        with pytest.raises(MissingRequirementError, match="cannot be checked: database is locked"):
            look_at(path)


@pytest.mark.parametrize("text", ["", "00", "x" * 64])
def test_a_damaged_key_is_not_made_anew(text: str, tmp_path: Path) -> None:
    path = tmp_path / "state.key"
    key = handle_key(path)
    assert handle_key(path) == key and path.stat().st_mode & 0o777 == 0o600
    path.write_text(text)
    with pytest.raises(MissingRequirementError, match="cannot be used"):
        handle_key(path)


def test_sealing_that_was_killed_goes_on(tmp_path: Path) -> None:
    """At each of the moments between what it does."""
    root = RootFolder(tmp_path, "notebook")
    (root.tree / "etc").mkdir(parents=True)
    (root.tree / "etc/a").write_text("1")

    def sealed() -> int:
        with root.lock():
            return seal(root, root.tree, (), "", lambda _: None)[0]

    assert sealed() == 1
    left = tmp_path / ".versions/notebook"
    shutil.copytree(left / "1", left / ".unfinished")  # killed while it copied
    assert sealed() == 2
    shutil.copytree(left / "1", left / "3")  # killed before it was a version
    assert sealed() == 3 and root.state().versions.keys() == {1, 2, 3}
    shutil.copytree(left / "1", left / "7")
    with root.lock():
        drop(root, 1)
    assert sorted(p.name for p in left.iterdir()) == ["2", "3", "root.json"]


BASE = """format = 1
[site]
state = "state.db"
loaders = []
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
"""
DEEP = "{% for a in range(999) %}{% for b in range(999) %}{% for c in range(9) %}"
TEMPLATES = {
    "loops": "{% for a in range(999999) %}{% endfor %}",
    "nested": DEEP + "{% endfor %}" * 3,
    "macro": "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
    "product": "{{ 'x' * 10**10 }}",
    "power": "{{ 9**9**9 }}",
}
SITES = {
    "absolute": 'include = ["/etc/daskel-none/*.toml"]\n' + BASE,
    "missing": BASE + "[file.a]\ntemplate = 'no.j2'\n",
    "one": BASE.replace("8.0/24", "8.1/32"),
    "deep": BASE + "x = " + "[" * 5000 + "]" * 5000,
    "dotted": BASE + "[" + ".".join("a" * 3000) + "]",
    "rows": 'clients-from = ["rows.csv"]\n' + BASE,
    "long": 'clients-from = ["long.csv"]\n' + BASE,
} | {
    name: f"{BASE}[client.a]\nmac = '02:61:08:00:00:01'\nsegment = 'tideroom'\n"
    f'[file."a"]\ntext = """{text}"""\n'
    for name, text in TEMPLATES.items()
}


@pytest.mark.parametrize("name", SITES)
def test_no_site_file_ends_in_a_traceback(name: str, tmp_path: Path) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "rows.csv").write_text("name,mac\n" + "".join(f"c{n},zz\n" for n in range(3000)))
    (tmp_path / "long.csv").write_text(f'name,mac\n"{"x" * 200_000}",y\n')
    (tmp_path / "daskel.toml").write_text(SITES[name])
    done = daskel("check", cwd=tmp_path)
    assert done.returncode in (
        (0,) if name == "absolute" else (0, 1, 2) if name == "one" else (1, 2)
    )
    assert "Traceback" not in done.stderr and "a fault of" not in done.stderr, done


def test_a_fault_becomes_a_sentence(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "sitecustomize.py").write_text(
        "import daskel.cli.main as m\ndef f(*_): raise KeyError('boo')\nm.parser = f\n"
    )
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    done = daskel("status")
    assert done.returncode == 70 and "Traceback" not in done.stderr, done
    (written,) = tmp_path.glob("daskel-fault-*.txt")
    assert str(written) in done.stderr and "KeyError: 'boo'" in written.read_text()
    assert written.stat().st_mode & 0o777 == 0o600


def test_the_server_is_killed_while_it_begins(demo_folder: Path, serve: Serve) -> None:
    for _ in range(3):
        serve(demo_folder).stop(signal.SIGKILL)
    assert daskel("store", "check", cwd=demo_folder).returncode == 0
