"""Archives that are meant to do harm, or are damaged: nothing lands outside, nothing half done."""

from __future__ import annotations

import gzip
import os
import random
import signal
import stat
import subprocess
import sys
import tarfile
import time
from io import BytesIO
from pathlib import Path

import pycdlib
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.importing import bring_in
from daskel.system.roots.new_tree import NewTree, SourceError
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.sealing import put_in_place
from tests.hostile.conftest import Figure
from tests.system.roots.test_importing import _mbr

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="owners and mounts need root")
Member = tuple[str, bytes, str | bytes]  # name, type, link name or content


def tar(members: list[Member], tail: bytes | None = None) -> bytes:
    out = BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name, kind, what in members:
            member = tarfile.TarInfo(name)
            member.type, member.mode = kind, 0o4777
            if isinstance(what, str):
                member.linkname = what
            else:
                member.size = len(what)
            archive.addfile(member, BytesIO(what) if isinstance(what, bytes) else None)
    return out.getvalue() if tail is None else out.getvalue() + tail


FILE, LINK, HARD, FOLDER = tarfile.REGTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.DIRTYPE
DEVICE = tarfile.BLKTYPE
OUT = "OUT"  # stands for a folder outside
LEAD_OUT: list[list[Member]] = [
    [("../x", FILE, b"x")],
    [("a/../../x", FILE, b"x")],
    [("a", LINK, OUT), ("a/x", FILE, b"x")],
    [("a", LINK, ".."), ("a/x", FILE, b"x")],
    [("a", LINK, "b"), ("b", LINK, "../.."), ("a/x", FILE, b"x")],
    [("a", LINK, OUT), ("a/x", FOLDER, "")],
    [("a", LINK, OUT), ("a/x", LINK, "y")],
    [("a", HARD, "../secret")],
    [("a", LINK, OUT), ("b", HARD, "a/secret")],
    [("dev", LINK, OUT), ("dev/x", DEVICE, "")],
]
STAY_IN: list[list[Member]] = [  # a link in the last name is replaced, and never written through
    [("x", LINK, OUT + "/secret"), ("x", FILE, b"harmless")],
    [("x", LINK, OUT), ("x", FOLDER, "")],
    [("x", FOLDER, ""), ("x", LINK, OUT)],
    [("x", LINK, OUT + "/secret"), ("y", HARD, "x"), ("y", FILE, b"harmless")],
    [("x", FOLDER, ""), ("x/y", FILE, b"1"), ("x", FILE, b"harmless")],
    [("/x/y", FILE, b"harmless")],
    [("x", LINK, OUT), ("x", DEVICE, "")],
]


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    """A folder that nothing may touch."""
    folder = tmp_path / "outside"
    folder.mkdir(mode=0o700)
    (folder / "secret").write_text("untouched")
    (folder / "secret").chmod(0o600)
    return folder


def state_of(folder: Path) -> list[tuple[object, ...]]:
    found = [folder, *sorted(folder.rglob("*"))]
    return [(p, *(getattr(p.lstat(), k) for k in ("st_mode", "st_uid", "st_nlink", "st_size", "st_mtime_ns")))
            for p in found]  # fmt: skip


def brought(tmp_path: Path, data: bytes, name: str = "bad.tar") -> Path:
    (tmp_path / name).write_bytes(data)
    bring_in(tmp_path / name, tmp_path / "made", None, lambda _: None)
    return tmp_path / "made"


def meant(members: list[Member], outside: Path) -> list[Member]:
    return [(name, kind, what.replace(OUT, str(outside)) if isinstance(what, str) else what)
            for name, kind, what in members]  # fmt: skip


@pytest.mark.parametrize("members", LEAD_OUT)
def test_an_archive_that_leads_out(tmp_path: Path, outside: Path, members: list[Member]) -> None:
    before = state_of(outside)
    with pytest.raises(SourceError, match=r"leads out of it|which is not there"):
        brought(tmp_path, tar(meant(members, outside)))
    assert state_of(outside) == before and not (tmp_path / "made").exists()
    assert not (tmp_path / "x").exists()


@pytest.mark.parametrize("members", STAY_IN)
def test_links_are_replaced(tmp_path: Path, outside: Path, members: list[Member]) -> None:
    before = state_of(outside)
    made = brought(tmp_path, tar(meant(members, outside)))
    assert state_of(outside) == before
    assert any(members[-1][1] == DEVICE or os.path.lexists(made / n) for n in ("x", "y"))


WHOLE: list[Member] = [("etc", FOLDER, ""), ("etc/a", FILE, b"x" * 1500), ("b", LINK, "etc/a")]
DAMAGED: list[tuple[str, bytes, str]] = [
    ("garbage behind the end", tar(WHOLE, b"garbage"), "something follows"),
    ("garbage in the middle", tar(WHOLE)[:2560] + b"\xff" * 512 + tar(WHOLE)[3072:], "damaged"),
    ("no end", tar(WHOLE)[:2560], "cut short"),
    ("a large header", b"".join([tarfile.TarInfo("x").tobuf()[:124], b"77777777777\0",
      tarfile.TarInfo("x").tobuf()[136:]]), "damaged"),
    ("an owner that cannot be", b"", "belongs to 4294967295"),
    ("a header without an end", b"", "header of"),
    ("compressed, and garbage", gzip.compress(tar(WHOLE)) + b"garbage", "trailing garbage"),
    ("compressed, and cut", gzip.compress(tar(WHOLE))[:-12], "unexpected end|cut short"),
    ("a name that is too long", tar([("n" * 300, FILE, b"x")]), "too long"),
    ("a link to nothing", tar([("a", HARD, "b")]), "which is not there"),
    ("a link to a folder", tar([("a", FOLDER, ""), ("b", HARD, "a")]), "hard link to a folder"),
    ("a file for a folder", tar([("a", FILE, b"x"), ("a/b", FILE, b"x")]), "Not a directory"),
    ("a type that is not known", tar([("a", b"Z", "")]), "type that is not known"),
]  # fmt: skip


def _damaged(what: str, data: bytes) -> bytes:
    member = tarfile.TarInfo("a")
    if "owner" in what:
        member.uid = 0xFFFFFFFF
        return member.tobuf(tarfile.GNU_FORMAT) + bytes(10240)
    if "without" in what:
        member.type, member.size = tarfile.XHDTYPE, 8 << 30
        return member.tobuf(tarfile.GNU_FORMAT) + bytes(10240)
    return data


@pytest.mark.parametrize(("what", "data", "said"), DAMAGED)
def test_damage_is_told(tmp_path: Path, what: str, data: bytes, said: str) -> None:
    name = "bad.tar.gz" if "compressed" in what else "bad.tar"
    with pytest.raises(SourceError, match=said):
        brought(tmp_path, _damaged(what, data), name)
    assert not (tmp_path / "made").exists()


def test_every_cut_is_told(tmp_path: Path) -> None:
    whole = tar(WHOLE).rstrip(b"\0")
    for end in range(512, len(whole) + 1, 256):
        with pytest.raises(SourceError):
            brought(tmp_path, whole[:end])


def test_devices_are_made_below_dev_alone(tmp_path: Path) -> None:
    (tmp_path / "bad.tar").write_bytes(tar([("dev/null", DEVICE, ""), ("tmp/disk", DEVICE, "")]))
    said = bring_in(tmp_path / "bad.tar", tmp_path / "made", None, lambda _: None)
    assert "1 device node outside of /dev (tmp/disk)" in said
    assert stat.S_ISBLK((tmp_path / "made/dev/null").stat().st_mode)
    assert not (tmp_path / "made/tmp").exists()


def test_a_disk_is_never_filled(tmp_path: Path) -> None:
    """A small archive that unpacks to more than there is room for stops early."""
    disk = tmp_path / "disk"
    disk.mkdir()
    subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=64m,nr_inodes=4000", "none", disk], check=True
    )
    try:
        bombs = [
            tar([("zeros", FILE, bytes(80 << 20))]),
            tar([(f"d/{i}", FILE, b"") for i in range(5000)]),
        ]
        for bomb in bombs:
            (tmp_path / "bad.tar.gz").write_bytes(gzip.compress(bomb, 1))
            with pytest.raises(SourceError, match=r"needs more (room|names)"):
                bring_in(tmp_path / "bad.tar.gz", disk / "made", None, lambda _: None)
            assert not list(disk.iterdir())
        with NewTree(disk / "kept") as tree:
            tree.need(1 << 20)
    finally:
        subprocess.run(["umount", disk], check=True)


def test_rock_ridge_names_stay_inside(tmp_path: Path, outside: Path) -> None:
    iso = pycdlib.PyCdlib()
    iso.new(rock_ridge="1.09")
    iso.add_symlink("/A.;1", "a", str(outside))
    iso.add_fp(BytesIO(b"x"), 1, "/B.;1", rr_name="b" * 10)
    iso.write(str(tmp_path / "bad.iso"))
    iso.close()
    data = (tmp_path / "bad.iso").read_bytes()
    before = state_of(outside)
    for name in (b"../../../b", b"a/secret\0\0", b"..\0\0\0\0\0\0\0\0"):
        (tmp_path / "bad.iso").write_bytes(data.replace(b"b" * 10, name[:10]))
        with pytest.raises(SourceError):
            bring_in(tmp_path / "bad.iso", tmp_path / "made", None, lambda _: None)
        assert state_of(outside) == before and not (tmp_path / "made").exists()


def test_a_file_system_without_attributes(tmp_path: Path) -> None:
    (tmp_path / "tree/etc").mkdir(parents=True)
    (tmp_path / "tree/etc/a").write_text("x")
    image = tmp_path / "image"
    words = ["mksquashfs", tmp_path / "tree", image, "-quiet", "-no-progress", "-no-xattrs"]
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
    bring_in(image, tmp_path / "made", None, lambda _: None)
    assert (tmp_path / "made/etc/a").read_text() == "x"


def test_partitions_that_overlap(tmp_path: Path) -> None:
    (tmp_path / "disk").write_bytes(_mbr((2048, 4096), (4096, 4096)) + bytes(8 << 20))
    with pytest.raises(SourceError, match="partitions 1 and 2 overlap"):
        bring_in(tmp_path / "disk", tmp_path / "made", None, lambda _: None)


_names = st.sampled_from(["a", "b", "a/b", "b/a", "a/a", "../a", "/a", ".", "", "a/../b", "OUT/x"])
_members = st.tuples(
    _names, st.sampled_from([FILE, LINK, HARD, FOLDER]),
    st.sampled_from(["a", "b", "..", OUT, "../..", "/", "a/b", OUT + "/secret"]),
)  # fmt: skip


ROUNDS = int(os.environ.get("HOSTILE", "1"))


@settings(
    max_examples=150 * ROUNDS,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(st.lists(_members, max_size=6))
def test_nothing_ever_lands_outside(
    tmp_path: Path, outside: Path, members: list[tuple[str, bytes, str]]
) -> None:
    before, around = state_of(outside), set(tmp_path.iterdir())
    made: list[Member] = [(n, k, b"x" if k == FILE else what) for n, k, what in members]
    try:
        brought(tmp_path, tar(meant(made, outside)))
    except SourceError:
        assert not (tmp_path / "made").exists()
    assert state_of(outside) == before
    ours = {tmp_path / "made", tmp_path / "bad.tar"}
    assert set(tmp_path.iterdir()) - ours == around - ours


@settings(
    max_examples=300 * ROUNDS,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(st.binary(max_size=3), st.integers(0, 3000), st.sampled_from(["tar", "gz", "iso", "disk"]))
def test_any_damage_is_told_in_words(tmp_path: Path, hurt: bytes, at: int, kind: str) -> None:
    whole = {
        "tar": tar(WHOLE),
        "gz": gzip.compress(tar(WHOLE), mtime=0),
        "disk": _mbr((1,), (9,)) * 9,
    }
    data = whole.get(kind) or _iso()
    at %= len(data)
    try:
        brought(tmp_path, data[:at] + hurt + data[at + len(hurt) :])
    except (SourceError, MissingRequirementError):
        assert not (tmp_path / "made").exists()


def _iso(known: list[bytes] = []) -> bytes:  # noqa: B006 - made once
    if not known:
        iso, out = pycdlib.PyCdlib(), BytesIO()
        iso.new(rock_ridge="1.09")
        iso.add_fp(BytesIO(b"hello"), 5, "/A.;1", rr_name="a")
        iso.write_fp(out)
        known.append(out.getvalue())
    return known[0]


def test_an_import_killed_anywhere_leaves_one_whole_tree(tmp_path: Path, figure: Figure) -> None:
    """Old or new, never none or half; the next import goes on and leaves nothing."""
    chance = random.Random(61)
    root = RootFolder(tmp_path, "notebook")
    for number in (1, 2):
        data = [(f"etc/{i}", FILE, b"%d" % number) for i in range(300)]
        (tmp_path / f"{number}.tar").write_bytes(tar(data))
    script = f"""
from pathlib import Path
from daskel.system.roots.importing import bring_in
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.sealing import put_in_place
root = RootFolder(Path({str(tmp_path)!r}), "notebook")
print("begins", flush=True)
while True:
    for n in (1, 2):
        with root.lock():
            bring_in(Path({str(tmp_path)!r}) / f"{{n}}.tar", root.unfinished, None, lambda _: None)
            put_in_place(root)
"""
    for _ in range(12 * ROUNDS):
        process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE)
        assert process.stdout and process.stdout.readline()
        time.sleep(0.15 + chance.random() / 10)  # any moment of it
        process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()
        if root.tree.exists():
            found = {path.read_bytes() for path in (root.tree / "etc").iterdir()}
            assert len(found) == 1 and len(list((root.tree / "etc").iterdir())) == 300
    with root.lock():
        bring_in(tmp_path / "1.tar", root.unfinished, None, lambda _: None)
        put_in_place(root)
    assert not list((tmp_path / ".versions/notebook").iterdir())
    figure("kill -9 while a root is imported", 12 * ROUNDS, "one whole tree, old or new")


def test_what_a_killed_import_left_beside_its_tree_goes(tmp_path: Path) -> None:
    root = RootFolder(tmp_path, "notebook")
    left = root.unfinished.parent
    left.mkdir(parents=True)
    (left / ".unfinished.mount2").mkdir()
    (left / ".unfinished.squashfs").write_bytes(b"x")
    (tmp_path / "1.tar").write_bytes(tar([("etc/a", FILE, b"1")]))
    with root.lock():
        bring_in(tmp_path / "1.tar", root.unfinished, None, lambda _: None)
        put_in_place(root)
    assert not list(left.iterdir())
