"""What is answered again is what the disk says now."""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from daskel.core.nfs import calls, nfs3
from daskel.core.nfs.nfs3 import NfsError, Procedure, Status
from daskel.core.nfs.replays import Replays
from daskel.core.nfs.rpc import marked_success, parse_call, serialise_call
from daskel.core.nfs.xdr import pack_opaque, pack_u32
from daskel.service.nfs import kept as kept_replies
from daskel.service.nfs.connection import Stream
from daskel.service.nfs.kept import Kept, Room
from daskel.service.nfs.procedures import FileData, carry_out
from daskel.system.nfs.export import Export
from daskel.system.nfs.openfiles import OpenFiles
from daskel.system.roots.mounts import tree_of

SIZE = 200_000


@dataclass
class Made:
    folder: Path
    export: Export
    kept: Kept
    room: Room

    def find(self, handle: bytes) -> Export:
        assert handle.startswith(self.export.number)
        return self.export

    def record(self, procedure: Procedure, number: int = 1, name: bytes = b"file") -> bytes:
        folder = self.export.find("folder")
        arguments = {
            Procedure.GETATTR: lambda: pack_opaque(self.export.find("folder/file")),
            Procedure.ACCESS: lambda: pack_opaque(self.export.find("folder/file")) + pack_u32(63),
            Procedure.LOOKUP: lambda: calls.serialise_lookup(folder, name),
            Procedure.READ: lambda: calls.serialise_read(self.export.find("folder/file"), 4096, 65536),
        }[procedure]()  # fmt: skip
        return serialise_call(number, nfs3.PROGRAM, 3, procedure, arguments)

    def fresh(self, record: bytes) -> bytes:
        call = parse_call(record)
        done = carry_out(call, self.find, lambda _: None)
        if isinstance(done, FileData):
            return marked_success(call.xid, done.head, done.count)
        assert isinstance(done, bytes)
        return marked_success(call.xid, done)

    def asked(self, procedure: Procedure) -> bytes:
        """A call, which is carried out; what it is answered with is to be kept."""
        record = self.record(procedure)
        if procedure is Procedure.READ:
            self.kept.keep_read(record, self.find, self.fresh(record), 65536)
        else:
            self.kept.keep(record, procedure, self.find, self.fresh(record))
        return record

    def again(self, procedure: Procedure, record: bytes) -> bytes | None:
        if procedure is not Procedure.READ:
            return self.kept.reply(record)
        part = self.kept.read(record)
        return part.head if part else None


@pytest.fixture
def made(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Made]:
    """All that is there is old enough."""
    (tmp_path / "root/folder").mkdir(parents=True)
    (tmp_path / "root/folder/file").write_bytes(bytes(SIZE))
    os.utime(tmp_path / "root/folder/file", (1_000_000_000, 1_700_000_000))
    export = Export(b"number-1", tree_of(tmp_path / "root", writable=False), b"k" * 32, OpenFiles())
    now = kept_replies._now
    monkeypatch.setattr(kept_replies, "_now", lambda: now() + 10**10)
    room = Room(50)
    yield Made(tmp_path / "root", export, Kept(room), room)
    export.close()


ASKED = (Procedure.GETATTR, Procedure.ACCESS, Procedure.LOOKUP, Procedure.READ)


@pytest.mark.parametrize("procedure", ASKED)
def test_the_same_again(made: Made, procedure: Procedure) -> None:
    record = made.asked(procedure)
    other = b"\0\0\0\7" + record[4:]
    assert made.again(procedure, other) == made.fresh(other)
    assert made.kept.reply(record[:-1] + b"x") is None


def written(folder: Path) -> None:
    with (folder / "folder/file").open("r+b") as file:
        file.write(b"another's")


def linked(folder: Path) -> None:
    os.link(folder / "folder/file", folder / "folder/second")


def renamed(folder: Path) -> None:
    (folder / "folder/file").rename(folder / "folder/elsewhere")
    (folder / "folder/file").write_bytes(bytes(SIZE))


def read_by_another(folder: Path) -> None:
    """Its time of access alone is another one, where the disk keeps that."""
    (folder / "folder/file").read_bytes()


CHANGES: list[Callable[[Path], None]] = [
    written, linked, renamed, read_by_another,
    lambda folder: (folder / "folder/file").chmod(0o600),
    lambda folder: os.chown(folder / "folder/file", 1000, 1000),
    lambda folder: os.truncate(folder / "folder/file", 10),
    lambda folder: (folder / "folder/file").unlink(),
]  # fmt: skip


@pytest.mark.parametrize("change", CHANGES)
@pytest.mark.parametrize("procedure", ASKED)
def test_what_was_changed_is_asked_of_the_disk(
    made: Made, procedure: Procedure, change: Callable[[Path], None]
) -> None:
    record = made.asked(procedure)
    assert made.again(procedure, record) is not None
    change(made.folder)
    again = made.again(procedure, record)
    assert again is None or again == made.fresh(record)
    assert change in (renamed, read_by_another) or again is None


def test_a_folder_that_was_moved_out_of_the_tree(made: Made, tmp_path: Path) -> None:
    """Also one whose own times are as they were: it was moved with what it is in."""
    (made.folder / "outer/folder").mkdir(parents=True)
    (made.folder / "outer/folder/file").write_bytes(b"x")
    folder = made.export.find("outer/folder")
    record = serialise_call(
        1, nfs3.PROGRAM, 3, Procedure.LOOKUP, calls.serialise_lookup(folder, b"file")
    )
    made.kept.keep(record, Procedure.LOOKUP, made.find, made.fresh(record))
    assert made.kept.reply(record) == made.fresh(record)
    (made.folder / "outer").rename(tmp_path / "outside")
    assert made.kept.reply(record) is None


@pytest.mark.parametrize("seconds", [1, -3600])
def test_what_is_too_young_is_not_kept(
    made: Made, seconds: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Or ahead of a clock that was set back."""
    latest = (made.folder / "folder/file").stat().st_ctime_ns
    monkeypatch.setattr(kept_replies, "_now", lambda: latest + seconds * 10**9)
    for procedure in ASKED:
        assert made.again(procedure, made.asked(procedure)) is None


def test_the_end_of_a_file_and_what_is_not_open(made: Made) -> None:
    record = made.asked(Procedure.READ)
    assert made.kept.read(record)
    last = record[:-12] + (SIZE - 65536).to_bytes(8, "big") + record[-4:]
    assert made.kept.read(last) is None, "its head says that it is the end"
    made.export.files.to_read.drop(made.export.find("folder/file"))
    assert made.kept.read(record) is None


def test_who_may_not_have_it_any_more(made: Made) -> None:
    record = made.asked(Procedure.GETATTR)
    made.kept.clear()
    assert made.kept.reply(record) is None

    def refuses(_: bytes) -> Export:
        raise NfsError(Status.ACCES)

    made.kept.keep(record, Procedure.GETATTR, refuses, made.fresh(record))
    assert made.kept.reply(record) is None


def test_the_room_of_all_connections(made: Made) -> None:
    other = Kept(made.room)
    for number in range(30):
        (made.folder / f"folder/file-{number}").write_bytes(b"")
    records = [made.record(Procedure.LOOKUP, name=b"file-%d" % n) for n in range(30)]
    for kept in (made.kept, other, made.kept):
        for record in records:
            kept.keep(record, Procedure.LOOKUP, made.find, made.fresh(record))
    assert made.room.left >= 0
    held = len(made.kept._replies) + len(other._replies)
    assert held + made.room.left == 50
    made.kept.clear()
    other.clear()
    assert made.room.left == 50


def test_others_have_their_turn_also_beside_the_short_way(monkeypatch: pytest.MonkeyPatch) -> None:
    """64 calls or 10 ms, whichever way they are answered."""

    async def turn(each: float) -> int:
        with socket.create_server(("127.0.0.1", 0)) as server:
            theirs = socket.create_connection(server.getsockname())
            ours = server.accept()[0]

        def nothing(*_: object) -> None:
            return None

        stream = Stream(
            ours, "10.61.8.21", 1, nothing, nothing, Replays(), nothing, nothing, nothing, nothing,  # type: ignore[arg-type]
            Room(),
        )  # fmt: skip
        now = [0.0]

        def again(_: bytes) -> bool:
            now[0] += each
            return True

        monkeypatch.setattr(stream, "_again", again)
        monkeypatch.setattr(stream._loop, "time", lambda: now[0], raising=False)
        stream._todo.extend([b""] * 200)
        stream._work()
        monkeypatch.undo()
        left = len(stream._todo)
        stream.close()
        theirs.close()
        return 200 - left

    assert asyncio.run(turn(0.0)) == 64
    assert asyncio.run(turn(0.004)) == 3
