"""Unpacks a tar archive, which may be damaged or hostile (POSIX.1-2017 pax, and GNU's sparse)."""

from __future__ import annotations

import errno
import math
import os
import shutil
import stat
import subprocess
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any, Self, cast

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.new_tree import Entry, NewTree, SourceError
from daskel.system.roots.tree_copy import Progress, need_room

_XATTR = "SCHILY.xattr."  # the prefix of extended attributes in pax headers
_LARGEST_HEADER = 1 << 20  # bytes of a pax header or a long name
_HEADERS = (
    tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE,
    tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK,
)  # fmt: skip
_SPECIAL = {
    tarfile.CHRTYPE: stat.S_IFCHR,
    tarfile.BLKTYPE: stat.S_IFBLK,
    tarfile.FIFOTYPE: stat.S_IFIFO,
}
_PIECE = 1 << 20
_WHOLE = "check that it is whole"


def unpack(source: Path, kind: str, work: Path, progress: Progress) -> str:
    """Make the new folder `work` of an archive (`kind`: tar, gzip, xz, zstd); in words, what was
    left out. Raises SourceError, MissingRequirementError."""
    need_room(work.parent, source.stat().st_size)
    at = 0
    try:
        with source.open("rb") as file, _plain(file, kind) as stream, NewTree(work) as tree:
            with tarfile.open(fileobj=stream, mode="r|", tarinfo=_Member) as archive:
                for member in archive:
                    _place(archive, member, tree)
                    progress(file.tell() - at)
                    at = file.tell()
                _nothing_follows(archive)
            return tree.finish()
    except PermissionError as error:
        problem = f"{error.filename}: {error.strerror}"
        raise MissingRequirementError(problem, "run as root: owners are to be kept") from None
    except SourceError as error:
        raise SourceError(f"{source} cannot be unpacked: {error}", error.remedy) from None
    except (tarfile.TarError, EOFError, OSError, ValueError, RecursionError) as error:
        if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise  # it is not the archive's fault
        reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
        raise SourceError(f"{source} cannot be unpacked: {reason}", _WHOLE) from None


class _Member(tarfile.TarInfo):
    """A header that is damaged is an error, not the archive's end."""

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> Self:
        if len(buf) < tarfile.BLOCKSIZE:
            raise tarfile.ReadError("it is cut short")
        try:
            found = super().frombuf(buf, encoding, errors)
        except tarfile.EOFHeaderError:  # type: ignore[attr-defined]
            raise
        except tarfile.HeaderError as error:
            raise tarfile.ReadError(f"a header is damaged ({error})") from None
        if found.size < 0 or (found.type in _HEADERS and found.size > _LARGEST_HEADER):
            raise tarfile.ReadError(f"a header of {found.size:,} bytes")
        return found


def _nothing_follows(archive: tarfile.TarFile) -> None:
    """Behind the two blocks of zeros that end an archive, there is only more of them."""
    stream: Any = archive.fileobj
    first = True
    while piece := stream.read(_PIECE):
        if piece.count(0) != len(piece):
            raise tarfile.ReadError("something follows behind its end")
        first = False
    if first:
        raise tarfile.ReadError("it is cut short at its end")


def _place(archive: tarfile.TarFile, member: tarfile.TarInfo, tree: NewTree) -> None:
    attributes = {
        name.removeprefix(_XATTR): value.encode("utf-8", "surrogateescape")
        for name, value in member.pax_headers.items()
        if name.startswith(_XATTR)
    }
    time = int(member.mtime * 10**9) if math.isfinite(member.mtime) else 0
    if member.size < 0:
        raise tarfile.ReadError(f"{member.name} has a size below 0")
    entry = Entry(member.name, member.mode, member.uid, member.gid, time, attributes)
    if member.isdir():
        tree.folder(entry)
    elif member.isreg():
        tree.file(entry, _pieces(archive, member), member.size)
    elif member.issym():
        tree.link(entry, member.linkname)
    elif member.islnk():
        tree.hard_link(member.name, member.linkname)
    elif member.type in _SPECIAL:
        tree.special(entry, _SPECIAL[member.type], 0 if member.isfifo() else _device(member))
    else:
        raise tarfile.ReadError(f"{member.name} is of a type that is not known ({member.type!r})")


def _device(member: tarfile.TarInfo) -> int:
    try:
        return os.makedev(member.devmajor, member.devminor)
    except (OverflowError, ValueError):
        raise tarfile.ReadError(f"{member.name} has a device number that cannot be") from None


def _pieces(archive: tarfile.TarFile, member: tarfile.TarInfo) -> Iterator[tuple[int, bytes]]:
    """Where a file has data, and the data."""
    sparse = cast("list[tuple[int, int]] | None", member.sparse)
    stream = cast("Any", archive.fileobj)
    stream.seek(member.offset_data)  # of a sparse file, the data is there without the holes
    for start, size in [(0, member.size)] if sparse is None else sparse:
        at, end = start, start + size
        while at < end:
            data = stream.read(min(_PIECE, end - at))
            if not data:
                raise tarfile.ReadError(f"{member.name} is cut short")
            yield at, data
            at += len(data)


@contextmanager
def _plain(file: IO[bytes], kind: str) -> Iterator[Any]:
    """The archive without its compression, by the system's own programs."""
    if kind == "tar":
        yield file
        return
    program = {"gzip": "gzip", "xz": "xz", "zstd": "zstd"}[kind]
    if shutil.which(program) is None:
        packages = {"xz": "xz-utils"}
        name = packages.get(program, program)
        raise MissingRequirementError(f"the program {program} is missing", f"apt install {name}")
    process = subprocess.Popen(
        [program, "-dc"], stdin=file, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=False
    )
    assert process.stdout and process.stderr
    whole = False
    try:
        yield process.stdout
        whole = True
    finally:
        process.stdout.close()
        said = process.stderr.read(4096).decode("utf-8", "replace")
        process.stderr.close()
        code = process.wait()
    if whole and code:
        raise SourceError(" ".join(said.split())[:200] or f"{program} failed", _WHOLE)
