"""Reads an ISO 9660 image, which may be damaged or hostile, with the names of its Rock Ridge."""

from __future__ import annotations

import os
import stat
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from daskel.core.roots.magic import SQUASHFS
from daskel.system.roots.new_tree import Entry, NewTree, SourceError
from daskel.system.roots.tree_copy import Progress, need_room

_MOST, _DEEPEST = 1_000_000, 64  # names, and folders in folders
_PIECE = 1 << 20
_DAMAGED = (struct.error, IndexError, KeyError, ValueError, TypeError, AttributeError,
            OverflowError, RecursionError)  # fmt: skip

Found = list[tuple[str, Any]]  # paths and pycdlib's records of them


@contextmanager
def opened(source: Path) -> Iterator[tuple[Any, Found]]:
    """What reads its files, and what it holds. Raises SourceError, also for what goes wrong while
    it is open."""
    import pycdlib
    from pycdlib.pycdlibexception import PyCdlibException

    iso = pycdlib.PyCdlib()
    try:
        iso.open(str(source))
    except (PyCdlibException, OSError, *_DAMAGED) as error:
        remedy = "name a folder, or an ISO image that is whole"
        raise SourceError(f"{source}: {_reason(error)}", remedy) from None
    try:
        facade = iso.get_rock_ridge_facade() if iso.has_rock_ridge() else iso.get_iso9660_facade()
        yield facade, _walk(source, facade)
    except SourceError:
        raise
    except (PyCdlibException, *_DAMAGED) as error:
        problem = f"{source}: {_reason(error)}"
        raise SourceError(problem, "check that the image is whole") from None
    finally:
        iso.close()


def unpack(source: Path, facade: Any, found: Found, work: Path, progress: Progress) -> str:
    """Make the new folder `work` of its files; in words, what was left out."""
    need_room(work.parent, source.stat().st_size)
    with NewTree(work, owners=os.geteuid() == 0) as tree:
        for path, record in found:
            _place(facade, path, record, tree)
            progress(record.get_data_length())
        return tree.finish()


def largest_squashfs(facade: Any, found: Found) -> str | None:
    """The path of the largest file that is a compressed file system."""
    packed = [(record.get_data_length(), path) for path, record in found
              if record.is_file() and _is_squashfs(facade, path, record)]  # fmt: skip
    return max(packed)[1] if packed else None


def copy_out(facade: Any, path: str, size: int, target: Path) -> None:
    """One of its files."""
    need_room(target.parent, size)
    with target.open("xb") as file:
        for _, data in _pieces(facade, path):
            file.write(data)


def _reason(error: BaseException) -> str:
    said = getattr(error, "strerror", None) or str(error)
    return said or f"it is damaged ({type(error).__name__})"


def _walk(source: Path, facade: Any) -> Found:
    found: Found = []
    for folder, folders, files in facade.walk("/"):
        if folder.count("/") > _DEEPEST or len(found) > _MOST:
            raise SourceError(f"{source}: its folders never end", "check that the image is whole")
        for name in [*folders, *files]:
            path = f"{folder.rstrip('/')}/{name}"
            found.append((path, facade.get_record(path)))
    return found


def _is_squashfs(facade: Any, path: str, record: Any) -> bool:
    if record.get_data_length() < 4096 or (record.rock_ridge and record.rock_ridge.is_symlink()):
        return False
    with facade.open_file_from_iso(path) as file:
        return bool(file.read(len(SQUASHFS)) == SQUASHFS)


def _pieces(facade: Any, path: str) -> Iterator[tuple[int, bytes]]:
    at = 0
    with facade.open_file_from_iso(path) as file:
        while data := file.read(_PIECE):
            yield at, data
            at += len(data)


def _place(facade: Any, path: str, record: Any, tree: NewTree) -> None:
    rock = record.rock_ridge
    attributes = (rock.dr_entries.px_record or rock.ce_entries.px_record) if rock else None
    folder = record.is_dir()
    mode = stat.S_IMODE(attributes.posix_file_mode) if attributes else 0o755 if folder else 0o644
    owner = (attributes.posix_user_id, attributes.posix_group_id) if attributes else (0, 0)
    entry = Entry(path.removesuffix(";1"), mode, *owner)
    if rock is not None and rock.is_symlink():
        tree.link(entry, os.fsdecode(rock.symlink_path()))
    elif folder:
        tree.folder(entry)
    else:
        tree.file(entry, _pieces(facade, path), record.get_data_length())
