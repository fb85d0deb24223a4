"""Publishes what roots boot with, for the process that answers TFTP and HTTP.

The folder lies beside the site's `files`, with `.published` after its name: `ROOT.json` says what
each version of a root boots with, `blobs` has the files by their SHA-256, each once however many
versions boot with it.
"""

from __future__ import annotations

import errno
import hashlib
import os
import re
import shutil
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, replace
from fcntl import LOCK_EX, flock
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

from daskel.core.site.model import Site
from daskel.core.site.published import (
    CLIENT,
    IMAGE,
    INITRD,
    KERNEL,
    TREE,
    Blob,
    BootSet,
    Published,
    PublishedRoot,
)
from daskel.system.host.confined_open import FilesFolder
from daskel.system.host.privileges import account_of
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.inside import listed
from daskel.system.roots.kept import read_kept, sync_folder, write_kept
from daskel.system.roots.own_kernels import OwnKernel, own_kernels, releases
from daskel.system.roots.roots import RootFolder, Version

BLOBS = "blobs"
_ENDING = ".json"
_KEPT_TREES = 2  # boot sets of the working tree: a boot that has begun needs the former one
_PIECE = 1 << 20  # bytes
_DIGEST = re.compile("[0-9a-f]{64}")
_REMEDY = "remove it; daskel apply publishes the root anew"


@dataclass(frozen=True, slots=True)
class Sent:
    """What is sent of images: whether they are sent whole, and to which group of this machine they
    belong then, None for root's."""

    images: bool
    group: int | None = None


NOT_SENT = Sent(False)


class PublishedFolder:
    """What is published for one site; it need not be there."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._blobs: FilesFolder | None = None

    def read(self) -> Published:
        """All of it. Raises MissingRequirementError for what is damaged."""
        found = {}
        with suppress(FileNotFoundError):
            for path in sorted(self.folder.glob(f"*{_ENDING}")):
                name = unquote(path.name.removesuffix(_ENDING))
                found[name] = _root(path, read_kept(path, _REMEDY) or {})[0]
        return found

    def open(self, digest: str) -> tuple[int, int]:
        """Descriptor and size in bytes of a published file. Raises OSError."""
        if self._blobs is None:
            self._blobs = FilesFolder(self.folder / BLOBS)
        return self._blobs.open(digest)

    def publish(self, name: str, root: RootFolder, sent: Sent = NOT_SENT) -> bool:
        """Bring what is published of a root up to date with its versions on the disk; whether
        anything changed. Raises OSError, MissingRequirementError."""
        state = root.state()
        with self._lock():
            path = self._manifest(name)
            known, seen = _root(path, read_kept(path, _REMEDY) or {})
            sets = {}
            for number, version in sorted(state.versions.items()):
                if root.version(number).is_dir():
                    made = known.sets.get(str(number)) or self._set(
                        root.version(number), str(number)
                    )
                    sets[str(number)] = self._packed(made, root, number, version, sent)
            looks = _looks(root.tree)
            trees = {n: s for n, s in known.sets.items() if s.version == 0}
            if root.tree.is_dir():
                if looks != seen or not trees:
                    made = self._set(root.tree, TREE)
                    trees.pop(made.name, None)  # the newest is the last
                    trees[made.name] = made
                sets |= dict(list(trees.items())[-_KEPT_TREES:])
            made_of = PublishedRoot("", sets)
            chosen = made_of.of(state.used)
            now = replace(made_of, used=chosen.name if chosen else "")
            if now == known and looks == seen and path.exists():
                return False
            write_kept(path, asdict(now) | {"seen": looks})
            path.chmod(0o644)  # the server's account reads it, whatever this user's umask is
            self._sweep()
            return now != known

    def withdraw(self, name: str) -> None:
        """Take away all that is published of a root. Raises OSError."""
        with self._lock():
            self._manifest(name).unlink(missing_ok=True)
            self._sweep()

    def _manifest(self, name: str) -> Path:
        return self.folder / f"{quote(name, safe='')}{_ENDING}"

    @contextmanager
    def _lock(self) -> Iterator[None]:
        for folder in (self.folder, self.folder / BLOBS):
            if not folder.is_dir():
                folder.mkdir(parents=True, exist_ok=True)
                folder.chmod(0o755)
        descriptor = os.open(self.folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            flock(descriptor, LOCK_EX)
            yield
        finally:
            os.close(descriptor)

    def _set(self, tree: Path, name: str) -> BootSet:
        """What a version boots with, its files put among the blobs."""
        chosen = next(iter(own_kernels(tree)), None)
        modules = tuple(releases(tree))
        if chosen is None:
            return BootSet(name if name != TREE else f"{TREE}none", modules=modules)
        sources = {KERNEL: chosen.file, INITRD: chosen.initrd}
        files = {what: self._put(place) for what, place in sources.items() if place}
        if name == TREE:
            whole = hashlib.sha256("".join(blob.digest for blob in files.values()).encode())
            name += whole.hexdigest()[:8]
        return _described(name, chosen, files, modules)

    def _packed(
        self, made: BootSet, root: RootFolder, number: int, version: Version, sent: Sent
    ) -> BootSet:
        """With its image, and the initrd that mounts it, where there are any."""
        if not version.image:
            kept = {w: b for w, b in made.files.items() if w not in (CLIENT, IMAGE)}
            return replace(made, files=kept)
        if (known := made.files.get(IMAGE)) is None or known.digest != version.digest:
            client = self._put(root.client_part(number))
            image = Blob(version.digest, version.image)
            made = replace(made, files={**made.files, CLIENT: client, IMAGE: image})
        place = self.folder / BLOBS / version.digest
        if not sent.images:
            place.unlink(missing_ok=True)
        elif _is_older(place, root.image(number)):
            place.unlink(missing_ok=True)
            self._link(root.image(number), place, sent.group)
        return made

    def _link(self, image: Path, place: Path, group: int | None) -> None:
        """One file under two names where that can be; for the server's account alone, since it
        has all that is in the root."""
        try:
            place.hardlink_to(image)
        except OSError as error:
            if error.errno not in (errno.EXDEV, errno.EPERM, errno.EMLINK):
                raise
            part = place.with_name(f".part-{os.getpid()}")
            shutil.copyfile(image, part)
            part.chmod(0o600)
            part.replace(place)
        if group is not None:
            os.chown(place, -1, group)
            place.chmod(0o640)

    def _put(self, source: Path) -> Blob:
        """Copy a file among the blobs, unless it is there."""
        digest, size = hashlib.sha256(), 0
        part = self.folder / BLOBS / f".part-{os.getpid()}"
        try:
            with source.open("rb") as read, part.open("wb") as write:
                while piece := read.read(_PIECE):
                    digest.update(piece)
                    write.write(piece)
                    size += len(piece)
                write.flush()
                os.fsync(write.fileno())
            place = self.folder / BLOBS / digest.hexdigest()
            if not place.exists() or place.stat().st_size != size:
                part.chmod(0o644)
                part.replace(place)
                sync_folder(place.parent)
        finally:
            part.unlink(missing_ok=True)
        return Blob(digest.hexdigest(), size)

    def _sweep(self) -> None:
        """Remove blobs that nothing names any more. What is damaged names nobody knows what."""
        try:
            roots = self.read()
        except MissingRequirementError:
            return
        named = {
            b.digest for r in roots.values() for s in r.sets.values() for b in s.files.values()
        }
        for path in (self.folder / BLOBS).iterdir():
            if path.name not in named:
                path.unlink()


def _is_older(place: Path, image: Path) -> bool:
    """It is not there, or the image was made anew since: it may have been damaged."""
    if not place.exists():
        return True
    return not place.samefile(image) and place.stat().st_mtime_ns < image.stat().st_mtime_ns


def sent_of(site: Site, root: str) -> Sent:
    """Whether images of a root are sent whole, to somebody."""
    said = [site.roots[root].delivery] if root in site.roots else []
    said += [loadout.delivery for loadout in site.loadouts.values() if loadout.delivery]
    said += [group.delivery for group in site.groups.values() if group.delivery]
    said += [client.delivery for client in site.clients.values() if client.delivery]
    account = site.settings.account
    group = account_of(account).pw_gid if account and os.geteuid() == 0 else None
    return Sent("memory" in said, group)


def preview(root: RootFolder) -> PublishedRoot:
    """What would be published of the version that clients get, without publishing it."""
    try:
        number = root.state().used
        tree = root.version(number)
        chosen = next(iter(own_kernels(tree)), None)
    except (OSError, MissingRequirementError):
        return PublishedRoot()
    if chosen is None:
        return PublishedRoot()
    name = str(number) if number else f"{TREE}new"
    files = {KERNEL: chosen.file, INITRD: chosen.initrd}
    sizes = {what: Blob("", place.stat().st_size) for what, place in files.items() if place}
    version = root.state().versions.get(number)
    if version and version.image:
        sizes |= {CLIENT: Blob("", 0), IMAGE: Blob(version.digest, version.image)}
    made = _described(name, chosen, sizes, tuple(releases(tree)))
    return PublishedRoot(name, {name: made})


def _described(
    name: str, chosen: OwnKernel, files: Mapping[str, Blob], modules: tuple[str, ...]
) -> BootSet:
    return BootSet(name, chosen.release or "", chosen.processor or "", files, modules)


def _looks(tree: Path) -> list[list[object]]:
    """What changes when a tree gets another kernel, initrd or modules."""
    seen: list[list[object]] = []
    for place in (*listed(tree, "boot"), *listed(tree, "lib/modules")):
        with suppress(OSError):
            status = place.lstat()
            seen.append([place.name, status.st_ino, status.st_size, status.st_mtime_ns])
    return seen


def _root(path: Path, data: dict[str, Any]) -> tuple[PublishedRoot, object]:
    """As it was written, and how the working tree looked then. Raises MissingRequirementError."""
    try:
        sets = {name: _boot_set(name, one) for name, one in data.get("sets", {}).items()}
        used = data.get("used", "")
        if not isinstance(used, str) or (used and used not in sets):
            raise ValueError(f"it has no {used!r}")
        return PublishedRoot(used, sets), data.get("seen")
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise MissingRequirementError(f"{path} is damaged: {error}", _REMEDY) from None


def _boot_set(name: str, one: dict[str, Any]) -> BootSet:
    files = {what: Blob(str(b["digest"]), int(b["size"])) for what, b in one["files"].items()}
    for blob in files.values():
        if not _DIGEST.fullmatch(blob.digest):
            raise ValueError(f"{blob.digest[:70]!r} is not a digest")
    if not (name.startswith(TREE) or (name.isascii() and name.isdecimal())):
        raise ValueError(f"{name!r} is not a version")
    modules = tuple(map(str, one["modules"]))
    return BootSet(name, str(one["release"]), str(one["processor"]), files, modules)
