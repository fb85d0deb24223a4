"""Brings a system in: from a folder, an archive, an ISO image, a disk image, or a squashfs.

Everything is put together beside the working tree and takes its place when it is whole. Images
are mounted in a mount namespace of this process's own, read-only.
"""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any

from daskel.core.roots.magic import SQUASHFS
from daskel.core.roots.partitions import HEAD, Partition, file_system, kind_of, partitions
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import own_namespace
from daskel.system.roots.sealing import discard
from daskel.system.roots.tree_copy import Progress, copy_tree, need_room, plan

_XATTR = "SCHILY.xattr."  # the prefix of extended attributes in pax headers
_SIGNS = ("etc/os-release", "usr/lib/os-release", "sbin/init", "etc/inittab")
_BOOT = ("vmlinuz*", "vmlinux*", "Image*", "kernel*")


class SourceError(ValueError):
    """A source that cannot be brought in: a sentence, and what to do."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem)
        self.remedy = remedy


def bring_in(source: Path, work: Path, number: int | None, progress: Progress) -> str:
    """Make the new folder `work` out of `source`; in words what it was made of.

    `number`: the partition to take. Raises SourceError, MissingRequirementError; nothing is left
    then."""
    discard(work)
    work.parent.mkdir(parents=True, exist_ok=True)
    try:
        return _bring_in(source, work, number, progress)
    except BaseException:
        discard(work)
        raise


def bring_files(source: Path, target: Path, progress: Progress) -> None:
    """Make the folder `target` out of the files of a folder or an ISO image, as they lie; it takes
    the place of one that is there. Raises SourceError, MissingRequirementError; nothing is left
    then."""
    work, old = target.with_name(f".{target.name}.part"), target.with_name(f".{target.name}.old")
    discard(work)
    discard(old)
    work.parent.mkdir(parents=True, exist_ok=True)
    try:
        if source.is_dir():
            _copy(source, work, progress)
        else:
            if _kind(source) != "iso":
                problem = f"{source} is neither a folder nor an ISO image"
                raise SourceError(problem, "unpack it, and name the folder")
            with _iso(source) as (facade, found):
                _records(source, facade, found, work, progress)
        for path in [work, *work.rglob("*")]:  # the server need not be root to read them
            if not path.is_symlink():
                path.chmod(0o755 if path.is_dir() else 0o644)
        if target.exists():
            target.rename(old)
        work.rename(target)
    except BaseException:
        discard(work)
        raise
    discard(old)


def size_of(source: Path) -> int:
    """Bytes that the progress counts up to."""
    return plan(source, None, ()).size if source.is_dir() else source.stat().st_size


def _bring_in(source: Path, work: Path, number: int | None, progress: Progress) -> str:
    if source.is_dir():
        _copy(source, work, progress)
        return "a folder"
    kind = _kind(source)
    if kind in ("tar", "gzip", "xz", "zstd"):
        _unpack(source, kind, work, progress)
        return "an archive"
    if kind == "iso":
        return _from_iso(source, work, progress)
    if kind == "disk":
        return _from_disk(source, work, number, progress)
    if kind is None:
        problem = f"{source} is not an archive, ISO image, disk image or file system"
        raise SourceError(problem, "unpack it, and import the folder")
    with _mounted(source, kind, work) as top:
        _copy(top, work, progress)
    return f"a file system ({kind})"


def _kind(source: Path) -> str | None:
    try:
        with source.open("rb") as file:
            return kind_of(file.read(HEAD))
    except OSError as error:
        raise SourceError(f"{source}: {error.strerror}", "name a file or a folder") from None


def _copy(source: Path, work: Path, progress: Progress) -> None:
    need_room(work.parent, plan(source, None, ()).size)
    copy_tree(source, work, progress=progress)


@contextmanager
def _mounted(source: Path, kind: str, work: Path, part: Partition | None = None) -> Iterator[Path]:
    """The image's file system, on a folder beside `work`."""
    own_namespace()
    top = work.with_name(f"{work.name}.mount{part.number if part else ''}")
    top.mkdir(exist_ok=True)
    options = "ro,loop" + (f",offset={part.start},sizelimit={part.size}" if part else "")
    options += {"ext4": ",noload", "xfs": ",norecovery,nouuid"}.get(kind, "")
    command = ["mount", "-t", kind, "-o", options, str(source), str(top)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    try:
        if done.returncode:
            where = f"partition {part.number} of {source}" if part else str(source)
            reason = " ".join(done.stderr.split())[:200]
            raise MissingRequirementError(
                f"{where} cannot be mounted: {reason}", "check the image; run as root"
            )
        yield top
    finally:
        if not done.returncode:
            subprocess.run(["umount", str(top)], check=False)
        with suppress(OSError):
            top.rmdir()


# --- archives ---


def _unpack(source: Path, kind: str, work: Path, progress: Progress) -> None:
    need_room(work.parent, source.stat().st_size)
    work.mkdir()
    with source.open("rb") as file, _plain(file, kind) as stream:
        try:
            with tarfile.open(fileobj=stream, mode="r|") as archive:
                _members(archive, work, file, progress)
        except (tarfile.TarError, EOFError, OSError) as error:
            if isinstance(error, PermissionError):
                problem = f"{error.filename}: {error.strerror}"
                raise MissingRequirementError(
                    problem, "run as root: owners are to be kept"
                ) from None
            problem = f"{source} cannot be unpacked: {error}"
            raise SourceError(problem, "check that it is whole") from None


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
    process = subprocess.Popen([program, "-dc"], stdin=file, stdout=subprocess.PIPE)
    assert process.stdout
    try:
        yield process.stdout
    finally:
        process.stdout.close()
        process.wait()


def _members(archive: tarfile.TarFile, work: Path, file: IO[bytes], progress: Progress) -> None:
    folders, at, top = [], 0, work.resolve()
    for member in archive:
        target = Path(os.path.normpath(work / member.name.lstrip("/")))
        above = target.parent.resolve()
        if target != work and not (target.is_relative_to(work) and above.is_relative_to(top)):
            problem = f"the archive's {member.name} leads out of it"
            raise SourceError(problem, "do not use this archive")
        member.name = str(target.relative_to(work))
        if member.islnk():
            member.linkname = member.linkname.lstrip("/")
        archive.extract(member, work, numeric_owner=True, filter="fully_trusted")
        for name, value in member.pax_headers.items():
            if name.startswith(_XATTR) and not member.islnk():
                with suppress(OSError):
                    data = value.encode("utf-8", "surrogateescape")
                    os.setxattr(target, name.removeprefix(_XATTR), data, follow_symlinks=False)
        if member.isdir():
            folders.append((target, member))
        if file.seekable():
            progress(file.tell() - at)
            at = file.tell()
    for target, member in reversed(folders):  # what was put into them changed their times
        os.utime(target, (member.mtime, member.mtime))


# --- disks ---


def _from_disk(source: Path, work: Path, number: int | None, progress: Progress) -> str:
    """The partition with the system on it, with what another one has for its /boot."""
    with source.open("rb") as file:

        def read(offset: int, count: int) -> bytes:
            file.seek(offset)
            return file.read(count)

        try:
            found = partitions(read)
        except ValueError as error:
            raise SourceError(f"{source} {error}", "check that the image is whole") from None
        kinds = {part: file_system(read(part.start, HEAD)) for part in found}
    known = {part: kind for part, kind in kinds.items() if kind}
    if number is not None and number not in [part.number for part in known]:
        numbers = ", ".join(f"{p.number} ({k or 'unknown'})" for p, k in kinds.items())
        raise SourceError(f"{source} has no partition {number}", f"it has: {numbers}")
    chosen, boot = None, None
    for part, kind in known.items():
        with _mounted(source, kind, work, part) as top:
            system = any(os.path.lexists(top / sign) for sign in _SIGNS)
            if part.number == number or (number is None and system and chosen is None):
                chosen = part
                _copy(top, work, progress)
            elif not system and any(next(top.glob(name), None) for name in _BOOT):
                boot = part
    if chosen is None:
        names = ", ".join(f"{p.number} ({k or 'unknown'})" for p, k in kinds.items()) or "none"
        problem = f"{source}: no partition with a system on it; partitions: {names}"
        raise SourceError(problem, "choose one with --partition")
    if boot and not any((work / "boot").glob("*")):
        with _mounted(source, known[boot], work, boot) as top:
            (work / "boot").rmdir() if (work / "boot").is_dir() else None
            copy_tree(top, work / "boot", progress=progress)
    more = f", and of {boot.number} as its /boot" if boot else ""
    return f"partition {chosen.number} of a disk image{more}"


# --- ISO images ---


@contextmanager
def _iso(source: Path) -> Iterator[tuple[Any, list[tuple[str, Any]]]]:
    """Its paths and their records. Raises SourceError, also for what goes wrong later."""
    import pycdlib
    from pycdlib.pycdlibexception import PyCdlibException

    iso = pycdlib.PyCdlib()
    try:
        iso.open(str(source))
    except (PyCdlibException, OSError) as error:
        remedy = "name a folder, or an ISO image that is whole"
        raise SourceError(f"{source}: {error}", remedy) from None
    try:
        facade = iso.get_rock_ridge_facade() if iso.has_rock_ridge() else iso.get_iso9660_facade()
        found = [
            (f"{folder.rstrip('/')}/{name}", facade.get_record(f"{folder.rstrip('/')}/{name}"))
            for folder, folders, files in facade.walk("/")
            for name in [*folders, *files]
        ]
        yield facade, found
    except PyCdlibException as error:
        raise SourceError(f"{source}: {error}", "check that the image is whole") from None
    finally:
        iso.close()


def _from_iso(source: Path, work: Path, progress: Progress) -> str:
    """The compressed file system inside of a live image, else the files themselves."""
    with _iso(source) as (facade, found):
        packed = [(record.get_data_length(), path) for path, record in found
                  if record.is_file() and _is_squashfs(facade, path)]  # fmt: skip
        if packed:
            image = work.with_name(f"{work.name}.squashfs")
            try:
                need_room(work.parent, max(packed)[0])
                facade.get_file_from_iso(str(image), max(packed)[1])
                with _mounted(image, "squashfs", work) as top:
                    _copy(top, work, progress)
            finally:
                image.unlink(missing_ok=True)
            return f"the file system {max(packed)[1]} inside of an ISO image"
        _records(source, facade, found, work, progress)
    return "the files of an ISO image"


def _records(
    source: Path, facade: Any, found: list[tuple[str, Any]], work: Path, progress: Progress
) -> None:
    need_room(work.parent, source.stat().st_size)
    work.mkdir()
    for path, record in found:
        _from_record(facade, path, record, work)
        progress(record.get_data_length())


def _is_squashfs(facade: Any, path: str) -> bool:
    record = facade.get_record(path)
    if record.get_data_length() < 4096 or (record.rock_ridge and record.rock_ridge.is_symlink()):
        return False
    with facade.open_file_from_iso(path) as file:
        return bool(file.read(len(SQUASHFS)) == SQUASHFS)


def _from_record(facade: Any, path: str, record: Any, work: Path) -> None:
    target = work / path.lstrip("/").removesuffix(";1")
    rock = record.rock_ridge
    if rock is not None and rock.is_symlink():
        target.symlink_to(os.fsdecode(rock.symlink_path()))
    elif record.is_dir():
        target.mkdir(exist_ok=True)
    else:
        with target.open("wb") as file:
            facade.get_file_from_iso_fp(file, path)
    attributes = rock.dr_entries.px_record or rock.ce_entries.px_record if rock else None
    if attributes is None:
        return
    with suppress(PermissionError):
        owner = attributes.posix_user_id, attributes.posix_group_id
        os.chown(target, *owner, follow_symlinks=False)
    if not target.is_symlink():
        target.chmod(stat.S_IMODE(attributes.posix_file_mode))
