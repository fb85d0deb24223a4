"""One exported tree: what is read, refused and changed, with the kernel's handles and without."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from daskel.core.nfs.calls import Clock, Make, NewAttributes
from daskel.core.nfs.nfs3 import Access, FileType, NfsError, Status
from daskel.core.nfs.rpc import Credentials
from daskel.system.nfs import export as exporting
from daskel.system.nfs.credentials import acting_as
from daskel.system.nfs.export import Export
from daskel.system.nfs.fhandle import NameFinder
from daskel.system.nfs.openfiles import OpenFiles
from daskel.system.nfs.writable import WritableExport
from daskel.system.roots.mounts import tree_of
from daskel.system.roots.usage import Usage

ROOT, SOMEBODY = Credentials(0, 0), Credentials(1000, 1000)
needs_root = pytest.mark.skipif(os.geteuid() != 0, reason="the kernel's file handles need root")
FILE, FOLDER = FileType.REGULAR, FileType.DIRECTORY


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "notebook"
    for name in ("etc", "sbin"):
        (folder / name).mkdir(parents=True)
    (folder / "etc/greeting").write_bytes(b"hello")
    (folder / "etc/link").symlink_to("greeting")
    (folder / "same").hardlink_to(folder / "etc/greeting")
    (folder / "out").symlink_to("..")
    os.mkfifo(folder / "fifo")
    return folder


def top_of(folder: Path, *, writable: bool = False) -> int:
    if os.geteuid() == 0:
        return tree_of(folder, writable=writable)
    return os.open(folder, os.O_PATH | os.O_DIRECTORY)


Opened = Callable[..., Export]


@pytest.fixture(params=[pytest.param("kernel", marks=needs_root), "names"])
def opened(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[Opened]:
    if request.param == "names":
        monkeypatch.setattr(exporting, "finder", lambda top, _: NameFinder(top))
    exports: list[Export] = []

    def make(folder: Path, **more: Any) -> Export:
        export = Export(b"number-1", top_of(folder), b"k" * 32, OpenFiles(), **more)
        exports.append(export)
        return export

    yield make
    for export in exports:
        export.close()


def read(export: Export, handle: bytes) -> bytes:
    descriptor, attributes = export.readable(handle, ROOT)
    return os.pread(descriptor, attributes.size, 0)


def status_of(call: Callable[[], object]) -> Status:
    with pytest.raises(NfsError) as error:
        call()
    return error.value.status


def test_handles_mean_the_same_after_a_restart(root: Path, opened: Opened) -> None:
    first, second = opened(root), opened(root)
    for path in ("etc", "etc/greeting", "etc/link", "same", "fifo"):
        assert first.find(path) == second.find(path)
    greeting = first.find("etc/greeting")
    third = opened(root)
    assert read(third, greeting) == b"hello" and third.find("same") == greeting
    assert third.link_text(first.find("etc/link"))[0] == b"greeting"
    assert third.attributes(first.find("fifo")).type is FileType.FIFO
    assert third.attributes(greeting).links == 2


def test_listing(root: Path, opened: Opened) -> None:
    export = opened(root)
    names, directory = export.names(export.top(), ROOT)
    assert sorted(n.name for n in names) == [b"etc", b"fifo", b"out", b"same", b"sbin"]
    assert [n.cookie for n in names] == sorted(n.cookie for n in names)
    assert all(n.cookie > 2 for n in names) and directory.type is FOLDER
    (root / "new").write_text("x")
    assert b"new" in [n.name for n in export.names(export.top(), ROOT)[0]]
    assert export.lookup(export.top(), b"..", ROOT)[0] == export.top(), "nothing is above the root"
    assert export.lookup(export.find("etc"), b"..", ROOT)[0] == export.top()


def test_what_cannot_be_had(root: Path, opened: Opened) -> None:
    export = opened(root)
    other = Export(b"number-2", top_of(root), b"k" * 32, OpenFiles())
    greeting, etc, link = export.find("etc/greeting"), export.find("etc"), export.find("out")
    (root / "etc/greeting").chmod(0o600)
    cases: list[tuple[Callable[[], object], Status]] = [
        (lambda: export.lookup(export.top(), b"nothing", ROOT), Status.NOENT),
        (lambda: export.lookup(greeting, b"x", ROOT), Status.NOTDIR),
        (lambda: export.lookup(link, b"etc", ROOT), Status.NOTDIR),
        (lambda: export.lookup(etc, b"../etc", ROOT), Status.ACCES),
        (lambda: export.lookup(etc, b"", ROOT), Status.ACCES),
        (lambda: export.link_text(greeting), Status.INVAL),
        (lambda: export.readable(etc, ROOT), Status.ISDIR),
        (lambda: export.readable(export.find("fifo"), ROOT), Status.INVAL),
        (lambda: export.readable(greeting, Credentials(1000, 1000)), Status.ACCES),
        (lambda: export.names(greeting, ROOT), Status.NOTDIR),
        (lambda: export.attributes(b"short"), Status.STALE),
        (lambda: export.attributes(other.top()), Status.STALE),
        (lambda: export.attributes(export.top()[:8] + bytes(20)), Status.BADHANDLE),
    ]
    for index, (call, status) in enumerate(cases):
        assert status_of(call) is status, index
    (root / "etc/greeting").unlink()
    (root / "same").unlink()
    assert status_of(lambda: export.attributes(greeting)) is Status.STALE
    other.close()


def test_a_tree_that_is_changed_underneath(root: Path, opened: Opened) -> None:
    """A package upgrade renames a new file over the old one: the old handle goes stale."""
    export = opened(root)
    before = export.find("etc/greeting")
    (root / "etc/new").write_text("changed")
    (root / "etc/new").rename(root / "etc/greeting")
    assert read(export, export.find("etc/greeting")) == b"changed"
    assert read(export, before) == b"hello", "its other name is left"
    (root / "etc").rename(root / "config")
    assert read(export, export.find("config/greeting")) == b"changed"


def test_a_directory_that_was_moved_out_leads_nowhere(
    root: Path, opened: Opened, tmp_path: Path
) -> None:
    export = opened(root)
    (root / "etc/inner").mkdir()
    etc = export.find("etc")
    inner, greeting = export.find("etc/inner"), export.find("etc/greeting")
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret").write_text("of the server")
    (root / "etc").rename(outside / "etc")
    for again in (export, opened(root)):  # with the directory open, and found anew
        for handle, name in ((etc, b".."), (inner, b".."), (etc, b"greeting")):
            with pytest.raises(NfsError) as error:
                again.lookup(handle, name, ROOT)
            assert error.value.status is Status.STALE
        with pytest.raises(NfsError):
            again.names(etc, ROOT)
    assert export.attributes(greeting).size == 5, "a file stays what it is, as NFS has it"
    (outside / "etc").rename(root / "etc")
    assert export.lookup(etc, b"..", ROOT)[0] == export.top(), "it is back"


@needs_root
def test_a_handle_leads_to_no_other_tree(root: Path, tmp_path: Path) -> None:
    """The handle of a folder above, made with the right key, is of no use either."""
    export = Export(b"number-1", top_of(root), b"k" * 32, OpenFiles())
    above = Export(b"number-1", top_of(tmp_path), b"k" * 32, OpenFiles())
    with pytest.raises(NfsError) as error:
        export.lookup(above.top(), b"root", ROOT)
    assert error.value.status is Status.STALE
    export.close(), above.close()


@needs_root
def test_what_is_made_and_changed(root: Path) -> None:
    root.chmod(0o777)
    export = WritableExport(b"number-1", top_of(root, writable=True), b"k" * 32, OpenFiles())
    top = export.top()
    made = {}
    for make in (
        Make(top, b"file", FILE, NewAttributes(0o640, uid=7)),
        Make(top, b"folder", FOLDER, NewAttributes(0o750)),
        Make(top, b"link", FileType.LINK, text=b"file"),
        Make(top, b"pipe", FileType.FIFO, NewAttributes(0o600)),
        Make(top, b"null", FileType.CHARACTER, NewAttributes(0o666), device=(1, 3)),
    ):
        handle, attributes, before, after = export.make(make, ROOT)
        assert attributes.type is make.type and before.fileid == after.fileid
        made[make.name] = handle
    assert (root / "file").stat().st_mode == stat.S_IFREG | 0o640 and (
        root / "file"
    ).stat().st_uid == 7
    assert (root / "link").readlink() == Path("file") and (
        root / "null"
    ).stat().st_rdev == os.makedev(1, 3)
    file = made[b"file"]
    _, before, after = export.write(file, 2, b"data", ROOT)
    assert (before.size, after.size) == (0, 6) and read(export, file) == b"\0\0data"
    guard = export.attributes(file).ctime
    new = NewAttributes(0o600, size=3, atime=Clock.SERVER, mtime=5 * 10**9)
    assert status_of(lambda: export.set_attributes(file, new, guard - 1, ROOT)) is Status.NOT_SYNC
    assert export.set_attributes(file, new, guard, ROOT)[1].mtime == 5 * 10**9
    assert (root / "file").read_bytes() == b"\0\0d" and read(export, file) == b"\0\0d"
    export.link(file, made[b"folder"], b"again", ROOT)
    export.rename(top, b"file", made[b"folder"], b"moved", ROOT)
    assert sorted(p.name for p in (root / "folder").iterdir()) == ["again", "moved"]
    assert read(export, file) == b"\0\0d", "its handle is the same after the move"
    busy = status_of(lambda: export.remove(top, b"folder", ROOT, folder=True))
    assert busy is Status.NOTEMPTY
    for name in (b"again", b"moved"):
        export.remove(made[b"folder"], name, ROOT, folder=False)
    export.remove(top, b"folder", ROOT, folder=True)
    assert status_of(lambda: export.attributes(file)) is Status.STALE
    export.close()


@needs_root
def test_set_id_bits_fall_when_others_write(root: Path) -> None:
    root.chmod(0o777)
    export = WritableExport(b"number-1", top_of(root, writable=True), b"k" * 32, OpenFiles())
    for who, mode, expected in (
        (SOMEBODY, 0o6777, 0o777),
        (SOMEBODY, 0o2767, 0o2767),
        (ROOT, 0o6777, 0o6777),
    ):
        (root / "program").write_bytes(b"x" * 10)
        (root / "program").chmod(mode)
        handle = export.find("program")
        export.write(handle, 0, b"y", who)
        assert export.attributes(handle).mode == expected
        (root / "program").chmod(mode)
        export.set_attributes(handle, NewAttributes(size=3), None, who)
        assert export.attributes(handle).mode == expected
    owned = export.make(Make(export.top(), b"own", FILE, NewAttributes(0o444)), SOMEBODY)[0]
    assert export.access(owned, SOMEBODY)[1] == Access.READ, "its owner cannot open it to write"
    export.write(owned, 0, b"x", SOMEBODY)  # who had it open, can
    with pytest.raises(OSError), acting_as(0xFFFFFFFF, 5, ()):
        pass
    assert os.stat(root).st_uid == 0
    export.close()


@needs_root
def test_create_that_is_repeated_or_finds_a_file(root: Path) -> None:
    export = WritableExport(b"number-1", top_of(root, writable=True), b"k" * 32, OpenFiles())
    top = export.top()
    mine = Make(top, b"mine", FILE, exclusive=b"\0\0\1\2\0\0\3\4")
    handle = export.make(mine, ROOT)[0]
    assert export.make(mine, ROOT)[0] == handle, "the same call again"
    other = Make(top, b"mine", FILE, exclusive=b"\0\0\1\2\0\0\3\5")
    assert status_of(lambda: export.make(other, ROOT)) is Status.EXIST
    export.write(handle, 0, b"text", ROOT)
    assert export.make(Make(top, b"mine", FILE, NewAttributes(size=0)), ROOT)[1].size == 0
    guarded = Make(top, b"mine", FILE, guarded=True)
    assert status_of(lambda: export.make(guarded, ROOT)) is Status.EXIST
    export.close()


@needs_root
def test_whose_it_is_and_who_may(root: Path) -> None:
    root.chmod(0o755)
    (root / "etc").chmod(0o1777)
    for above in root.parents[:3]:
        above.chmod(0o755)
    export = WritableExport(b"number-1", top_of(root, writable=True), b"k" * 32, OpenFiles())
    etc = export.find("etc")
    handle, attributes, *_ = export.make(Make(etc, b"mine", FILE, NewAttributes(0o400)), SOMEBODY)
    assert (attributes.uid, attributes.gid) == (1000, 1000)
    export.link(handle, etc, b"linked", SOMEBODY)
    assert export.set_attributes(handle, NewAttributes(0o600), None, SOMEBODY)[1].mode == 0o600
    export.write(handle, 0, b"x", SOMEBODY)  # its owner, whatever the mode says
    greeting = export.find("etc/greeting")
    refused: list[tuple[Callable[[], object], Status]] = [
        (lambda: export.make(Make(export.top(), b"new", FILE), SOMEBODY), Status.ACCES),
        (lambda: export.write(greeting, 0, b"x", SOMEBODY), Status.ACCES),
        (
            lambda: export.set_attributes(greeting, NewAttributes(0o777), None, SOMEBODY),
            Status.PERM,
        ),
        (lambda: export.remove(etc, b"greeting", SOMEBODY, folder=False), Status.PERM),
        (lambda: export.set_attributes(handle, NewAttributes(uid=0), None, SOMEBODY), Status.PERM),
        (lambda: export.write(handle, 0, b"x", Credentials(1001, 1000)), Status.ACCES),
    ]
    for index, (call, status) in enumerate(refused):
        assert status_of(call) is status, index
    export.set_attributes(handle, NewAttributes(0o400), None, SOMEBODY)
    export.write(handle, 0, b"y", SOMEBODY)
    assert os.geteuid() == 0 and (root / "etc/greeting").read_bytes() == b"hello"
    export.close()


@needs_root
def test_a_full_slate(root: Path) -> None:
    usage = Usage(100_000, root)
    usage.count()
    export = WritableExport(
        b"number-1", top_of(root, writable=True), b"k" * 32, OpenFiles(), usage=usage
    )
    handle = export.make(Make(export.top(), b"big", FILE), ROOT)[0]
    export.write(handle, 0, bytes(50_000), ROOT)
    assert status_of(lambda: export.write(handle, 50_000, bytes(60_000), ROOT)) is Status.NOSPC
    assert export.space().total == 100_000 and export.space().free < 50_000
    export.write(handle, 0, b"over what is there", ROOT)
    holes = export.make(Make(export.top(), b"holes", FILE, NewAttributes(size=1 << 30)), ROOT)[0]
    export.write(holes, 5_000, bytes(10_000), ROOT)
    assert status_of(lambda: export.write(holes, 1 << 29, bytes(60_000), ROOT)) is Status.NOSPC
    export.remove(export.top(), b"holes", ROOT, folder=False)
    export.remove(export.top(), b"big", ROOT, folder=False)
    usage.count()
    assert usage.used < 40_000
    free = export.space().free_files

    made = 0
    with pytest.raises(NfsError) as error:
        while made < 1000:
            kind = FileType.DIRECTORY if made % 2 else FILE
            export.make(Make(export.top(), b"%d" % made, kind), ROOT)
            made += 1
    assert error.value.status is Status.NOSPC and 0 < made <= free < 100, "names count, too"
    first = export.find("0")
    assert status_of(lambda: export.link(first, export.top(), b"l", ROOT)) is Status.NOSPC
    export.close()


def test_a_name_is_looked_up_anew_when_its_folder_has_changed(
    root: Path, opened: Opened, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(exporting, "_SETTLED", -10.0)  # seconds: remembered at once
    export = opened(root)
    etc = export.find("etc")
    before = export.find("etc/greeting")
    monkeypatch.setattr(export._finder, "body", None)
    assert export.lookup(etc, b"greeting", ROOT)[0] == before, "what was found is remembered"
    monkeypatch.undo()
    time.sleep(0.05)  # the file system's clock moves on
    (root / "etc/new").write_bytes(b"new")
    (root / "etc/new").rename(root / "etc/greeting")
    now = export.find("etc/greeting")
    assert now != before and read(export, now) == b"new"
    (root / "etc/greeting").unlink()
    assert status_of(lambda: export.lookup(etc, b"greeting", ROOT)) is Status.NOENT


def test_a_listing_that_goes_on_is_not_read_from_the_disk_again(
    opened: Opened, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of a folder that was just changed; one that begins shows what there is now."""
    scans: list[int] = []
    scan = exporting._scan
    monkeypatch.setattr(exporting, "_scan", lambda at: scans.append(at) or scan(at))
    export = opened(root)
    etc = export.find("etc")

    def names(*, goes_on: bool) -> set[bytes]:
        return {name.name for name in export.names(etc, ROOT, goes_on=goes_on)[0]}

    for number in range(3):
        (root / f"etc/{number}").touch()
        first = names(goes_on=False)
        assert b"%d" % number in first and names(goes_on=True) == first
        assert len(scans) == number + 1
    os.utime(root / "etc", (1.0, 1.0))
    (root / "etc/0").unlink()
    assert b"0" not in names(goes_on=True), "its times tell that it changed"
