"""Files below a folder, trees with handles, ports and their holders, leases on disk."""

from __future__ import annotations

import os
import socket
import sqlite3
from dataclasses import replace
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from daskel.core.boot.address import Lease, LeaseState
from daskel.core.boot.lobby import Sighting
from daskel.store.database import Store
from daskel.store.reading import read_leases, read_lobby
from daskel.system import bootloader
from daskel.system.beneath import FilesFolder
from daskel.system.lacking import LackingError
from daskel.system.ports import holder

# --- files ---


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    files = tmp_path / "files"
    (files / "deep").mkdir(parents=True)
    (files / "kernel").write_bytes(b"k" * 1000)
    (tmp_path / "secret").write_text("not for clients")
    (files / "inside").symlink_to("kernel")
    (files / "deep" / "up").symlink_to("../kernel")
    (files / "outside").symlink_to("../secret")
    (files / "absolute").symlink_to(tmp_path / "secret")
    (files / "out").symlink_to("..")
    os.mkfifo(files / "fifo")
    return files


OPENED = [
    ("kernel", None),
    ("inside", None),
    ("deep/up", None),
    ("missing", FileNotFoundError),
    ("outside", OSError),
    ("absolute", OSError),
    ("out/secret", OSError),
    ("../secret", OSError),
    ("deep", IsADirectoryError),
    ("fifo", IsADirectoryError),
    ("x" * 300, OSError),
]


@pytest.mark.parametrize(("path", "error"), OPENED)
def test_nothing_outside_the_folder_is_opened(
    folder: Path, path: str, error: type[OSError] | None
) -> None:
    files = FilesFolder(folder)
    if error is None:
        descriptor, size = files.open(path)
        assert size == 1000 and os.read(descriptor, 10) == b"k" * 10
        os.close(descriptor)
    else:
        with pytest.raises(error):
            files.open(path)
    files.close()


# --- ports, programs ---


def test_the_holder_of_a_port_is_named() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("127.0.0.1", 0))
        found = holder("udp", sock.getsockname()[1])
        assert found and found.pid == os.getpid() and str(os.getpid()) in str(found)
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        assert holder("tcp", port) and holder("udp", port) is None


def test_a_missing_program_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(LackingError, match="apt install grub-common grub-pc-bin"):
        bootloader.build_missing(tmp_path, ("bios",))
    program = tmp_path / "grub-mkimage"
    program.write_text("#!/bin/sh\necho broken >&2\nexit 1\n")
    program.chmod(0o755)
    monkeypatch.setattr(bootloader, "MODULES", tmp_path)
    with pytest.raises(LackingError, match="apt install grub-efi-amd64-bin"):
        bootloader.build_missing(tmp_path, ("uefi-x64",))
    (tmp_path / "i386-pc").mkdir()
    with pytest.raises(LackingError, match="broken"):
        bootloader.build_missing(tmp_path, ("bios",))
    assert not list((tmp_path / "loader").iterdir()), "nothing half done is left"


# --- leases ---

LEASE = Lease(IPv4Address("10.61.8.100"), "tideroom", "02:61:08:00:00:0a", LeaseState.BOUND, 1e9, 7)


def test_leases_are_there_again(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    store = Store(path)
    store.keep([LEASE])
    changed = Lease(LEASE.address, "tideroom", "02:61:08:00:00:0b", LeaseState.DECLINED, 2e9)
    other = Lease(IPv4Address("10.61.8.101"), "tideroom", LEASE.mac, LeaseState.BOUND, 3e9)
    store.keep([LEASE, changed, other])
    assert read_leases(path).at(LEASE.address) == changed, "another process reads along"
    store.close()
    found = Store(path).load()
    assert found.at(LEASE.address) == changed
    assert found.of("tideroom", LEASE.mac) == other


def test_an_older_store_is_brought_up_to_date(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    store = Store(path)
    seen = Sighting("02:61:ff:00:00:01", "tideroom", 0, "PXEClient", "", 1.0, 2.0)
    store.keep_sightings([seen])
    store.close()
    with sqlite3.connect(path) as connection:
        connection.execute("alter table sightings drop column relay")
        connection.execute("update schema_version set version = 3")
    assert read_lobby(path) == [seen]
    assert list(Store(path).lobby()) == [seen]
    again = replace(seen, relay="10.61.10.1")
    Store(path).keep_sightings([again])
    assert read_lobby(path) == [again]


def test_stores_that_cannot_be_used(tmp_path: Path) -> None:
    path = tmp_path / "state.db"
    Store(path).close()
    with sqlite3.connect(path) as connection:
        connection.execute("update schema_version set version = 99")
    with pytest.raises(LackingError, match="version 99"):
        Store(path)
    path.write_bytes(b"no database" * 100)
    with pytest.raises(LackingError):
        Store(path)
    with pytest.raises(LackingError, match="is not a database"):
        read_leases(path)
    assert read_leases(tmp_path / "none.db").at(LEASE.address) is None
