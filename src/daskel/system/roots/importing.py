"""Brings a system in: from a folder, an archive, an ISO image, a disk image, or a squashfs.

Everything is put together beside the working tree and takes its place when it is whole. Images
are mounted in a mount namespace of this process's own, read-only.
"""

from __future__ import annotations

import os
import stat
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from daskel.core.roots.partitions import (
    HEAD,
    VIRTUAL,
    Partition,
    file_system,
    kind_of,
    obstacle,
    overlapping,
    partitions,
)
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots import archives, iso_images
from daskel.system.roots.mounts import own_namespace
from daskel.system.roots.new_tree import SourceError
from daskel.system.roots.sealing import discard, take_place
from daskel.system.roots.tree_copy import Progress, copy_tree, entries, need_room, plan
from daskel.system.roots.virtual_disks import plain

_SIGNS = ("etc/os-release", "usr/lib/os-release", "sbin/init", "etc/inittab")
_BOOT = ("vmlinuz*", "vmlinux*", "Image*", "kernel*")


def bring_in(source: Path, work: Path, number: int | None, progress: Progress) -> str:
    """Make the new folder `work` out of `source`; in words what it was made of.

    `number`: the partition to take. Raises SourceError, MissingRequirementError; nothing is left
    then."""
    _clear(work)
    work.parent.mkdir(parents=True, exist_ok=True)
    try:
        return _bring_in(source, work, number, progress)
    except BaseException:
        discard(work)
        raise


def _clear(work: Path) -> None:
    """What an import left that was killed, also beside its tree: where images were mounted, and
    what was taken out of one."""
    discard(work)
    for path in work.parent.glob(f"{work.name}.*"):
        path.rmdir() if path.is_dir() else path.unlink()


def bring_files(source: Path, target: Path, progress: Progress) -> None:
    """Make the folder `target` out of the files of a folder or an ISO image, as they lie; it takes
    the place of one that is there. Raises SourceError, MissingRequirementError; nothing is left
    then."""
    work = target.with_name(f".{target.name}.part")
    discard(work)
    work.parent.mkdir(parents=True, exist_ok=True)
    try:
        if source.is_dir():
            _copy(source, work, progress)
        else:
            if _kind(source) != "iso":
                problem = f"{source} is neither a folder nor an ISO image"
                raise SourceError(problem, "unpack it, and name the folder")
            with iso_images.opened(source) as (facade, found):
                iso_images.unpack(source, facade, found, work, progress)
        for path, status in [("", work.stat()), *entries(work)]:  # the server need not be root
            if not stat.S_ISLNK(status.st_mode):
                (work / path).chmod(0o755 if stat.S_ISDIR(status.st_mode) else 0o644)
        take_place(work, target)
    finally:
        discard(work)


def size_of(source: Path) -> int:
    """Bytes that the progress counts up to."""
    return plan(source, None, ()).size if source.is_dir() else source.stat().st_size


def _bring_in(source: Path, work: Path, number: int | None, progress: Progress) -> str:
    if source.is_dir():
        _copy(source, work, progress)
        return "a folder"
    kind = _kind(source)
    if kind in ("tar", "gzip", "xz", "zstd"):
        return f"an archive{archives.unpack(source, kind, work, progress)}"
    if kind == "iso":
        return _from_iso(source, work, progress)
    if kind in VIRTUAL:
        return _from_virtual(source, kind, work, number, progress)
    if kind == "disk":
        return _from_disk(source, work, number, progress)
    if kind is None:
        _cannot(source, _head(source))
        problem = f"{source} is not an archive, ISO image, disk image or file system"
        raise SourceError(problem, "unpack it, and import the folder")
    with _mounted(source, kind, work) as top:
        _copy(top, work, progress)
    return f"a file system ({kind})"


def _kind(source: Path) -> str | None:
    return kind_of(_head(source))


def _head(source: Path) -> bytes:
    try:
        with source.open("rb") as file:
            return file.read(HEAD)
    except OSError as error:
        raise SourceError(f"{source}: {error.strerror}", "name a file or a folder") from None


def _cannot(what: Path | str, head: bytes) -> None:
    """Raises SourceError for what is known not to be mountable, with the way out."""
    if found := obstacle(head):
        raise SourceError(f"{what} is {found.what}", found.remedy)


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
            remedy = "check the image; run as root"
            if "unknown filesystem type" in reason:
                remedy = (
                    f"this kernel cannot mount {kind}: import it on a machine that can, or the "
                )
                remedy += "machine while it runs: daskel root import NAME root@ADDRESS:/"
            raise MissingRequirementError(f"{where} cannot be mounted: {reason}", remedy)
        yield top
    finally:
        if not done.returncode:
            subprocess.run(["umount", str(top)], check=False)
        with suppress(OSError):
            top.rmdir()


# --- disks ---


def _from_virtual(
    source: Path, kind: str, work: Path, number: int | None, progress: Progress
) -> str:
    """A virtual machine's disk; there may be a file system on it without partitions."""
    with plain(source, kind, work.with_name(f"{work.name}.raw"), progress) as image:
        made = _bring_in(image, work, number, lambda _: None)
    return made.replace("a disk image", f"a {kind} image")


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
        if number is None and (pair := overlapping(found)):
            problem = f"{source}: its partitions {pair[0].number} and {pair[1].number} overlap"
            raise SourceError(problem, "check the image, or choose one with --partition")
        heads = {part: read(part.start, HEAD) for part in found}
        kinds = {part: file_system(head) for part, head in heads.items()}
        obstacles = {part: one for part, head in heads.items() if (one := obstacle(head))}
    named = {p: k or (obstacles[p].what if p in obstacles else "unknown") for p, k in kinds.items()}
    known = {part: kind for part, kind in kinds.items() if kind}
    if number is not None and number not in [part.number for part in known]:
        chosen_head = next((h for p, h in heads.items() if p.number == number), b"")
        _cannot(f"partition {number} of {source}", chosen_head)
        numbers = ", ".join(f"{p.number} ({what})" for p, what in named.items())
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
        names = ", ".join(f"{p.number} ({what})" for p, what in named.items()) or "none"
        problem = f"{source}: no partition with a system on it; partitions: {names}"
        ways = [one.remedy for one in obstacles.values() if one.what != "swap"]
        raise SourceError(problem, ways[0] if ways else "choose one with --partition")
    if boot and not any((work / "boot").glob("*")):
        with _mounted(source, known[boot], work, boot) as top:
            (work / "boot").rmdir() if (work / "boot").is_dir() else None
            copy_tree(top, work / "boot", progress=progress)
    more = f", and of {boot.number} as its /boot" if boot else ""
    return f"partition {chosen.number} of a disk image{more}"


def _from_iso(source: Path, work: Path, progress: Progress) -> str:
    """The compressed file system inside of a live image, else the files themselves."""
    with iso_images.opened(source) as (facade, found):
        packed = iso_images.largest_squashfs(facade, found)
        if packed is None:
            left_out = iso_images.unpack(source, facade, found, work, progress)
            return f"the files of an ISO image{left_out}"
        image = work.with_name(f"{work.name}.squashfs")
        image.unlink(missing_ok=True)
        try:
            iso_images.copy_out(facade, packed, dict(found)[packed].get_data_length(), image)
            with _mounted(image, "squashfs", work) as top:
                _copy(top, work, progress)
        finally:
            image.unlink(missing_ok=True)
        return f"the file system {packed} inside of an ISO image"
