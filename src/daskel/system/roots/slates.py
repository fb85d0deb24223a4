"""Slates on the disk: what each client changed on top of a root, and the view that it is given.

A slate is the folder SLATES/ROOT/CLIENT: `upper` holds what the client changed, `own` the files
that Daskel makes for it, `view` is where both and the root are shown as one, `slate.json` says
which version of the root it was made on.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
import subprocess
import threading
import time
from collections.abc import Container, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.confined_tree import ConfinedTree
from daskel.system.roots.kept import read_kept, sync_folder, write_kept
from daskel.system.roots.mounts import mounted_below, overlay, own_namespace, unmount
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.tree_copy import Progress, copy_file, entries
from daskel.system.roots.tree_digest import OVERLAY_MEANT, tree_digest
from daskel.system.roots.usage import disk_usage

NOT_KEPT = ("work", "own", "view")  # of a slate's folder: made anew when it is opened
ELSEWHERE = ".elsewhere"  # below it are those of clients whose kept slates another server has
_STATE = "slate.json"
_IN_DISK = "data"  # the folder of a disk that has what was changed; the client makes it
_SMALLEST = 16 << 20  # bytes of a disk
_GONE = ".gone"  # wiped slates wait there to be removed


@dataclass(frozen=True, slots=True)
class SlateState:
    """Times in seconds since 1970. `wipe`: before it is mounted next, what is not frozen goes.
    `base`: the inode of the working tree that it was made on, 0 for a sealed version."""

    version: int  # of the root; 0: the working tree
    made: float
    used: float
    wipe: bool = False
    base: int = 0


@dataclass(frozen=True, slots=True)
class ChangedPath:
    """One path of a slate: added, changed, removed, or replaced (a folder hides the base's)."""

    path: str
    what: str
    size: int  # bytes
    folder: bool = False


def is_slate_name(name: str) -> bool:
    """Whether a root or client of this name can have a slate: it becomes one folder's name."""
    return bool(name) and not name.startswith(".") and "/" not in name and "\0" not in name


class Slate:
    """One client's slate of one root; there may be none on the disk yet."""

    def __init__(self, slates: Path, root: str, client: str) -> None:
        if not (is_slate_name(root) and is_slate_name(client)):
            raise ValueError(f"no slate is of {client!r} on {root!r}")
        self.root, self.client, self._slates = root, client, slates
        self.folder = slates / root / client

    @property
    def disk(self) -> Path:
        """What a client that gets blocks keeps: a file with a file system (ext4) in it."""
        return self.folder / "disk"

    @property
    def upper(self) -> Path:
        """The folder with what was changed."""
        return self.folder / "upper"

    @property
    def layers(self) -> list[Path]:
        """What the client changed, the newest first: `upper`, and what is frozen below it."""
        if self.disk.exists():  # it is mounted at `view` meanwhile
            inside = self.view / _IN_DISK
            return [inside] if inside.exists() else []
        return [*([self.upper] if self.upper.exists() else []), *self.frozen]

    @property
    def frozen(self) -> list[Path]:
        """What it begins with at every boot, the newest first."""
        if self.disk.exists():
            return [self._frozen_disk] if self._frozen_disk.exists() else []
        found = self.folder.glob("frozen-*")
        return sorted(found, key=lambda path: int(path.name.partition("-")[2]), reverse=True)

    @property
    def _frozen_disk(self) -> Path:
        return self.folder / "frozen.disk"

    @property
    def arriving(self) -> Path:
        """Where it is put together when it comes from another server."""
        return self._slates / ".arriving" / self.root / self.client

    def digest(self, progress: Progress, folder: Path | None = None) -> str:
        """Of all that is kept of it, here or in another folder: see `tree_digest`."""
        return tree_digest(folder or self.folder, progress, NOT_KEPT)

    def arrived(self) -> None:
        """What was put together is the slate from now on."""
        self.folder.parent.mkdir(parents=True, exist_ok=True)
        self.arriving.rename(self.folder)
        sync_folder(self.folder.parent)

    @property
    def view(self) -> Path:
        """Where it is mounted."""
        return self.folder / "view"

    def state(self) -> SlateState | None:
        """None when there is no slate. Raises MissingRequirementError when what is kept of it is
        damaged."""
        path = self.folder / _STATE
        remedy = f"restore it, or begin with a new slate: daskel slate wipe {self.client}"
        data = read_kept(path, remedy)
        if data is None:
            if self.disk.exists() or (self.upper.is_dir() and any(self.upper.iterdir())):
                raise MissingRequirementError(f"{path} is missing", remedy)
            return None
        try:
            found = SlateState(**data)
            if not (isinstance(found.version, int) and isinstance(found.wipe, bool)):
                raise TypeError("a version is a number")
        except TypeError as error:
            raise MissingRequirementError(f"{path} is damaged: {error}", remedy) from None
        return found

    def keep(self, state: SlateState) -> None:
        """Written whole or not at all."""
        write_kept(self.folder / _STATE, asdict(state))

    def begin(self, *, fresh: bool) -> None:
        """Its client boots anew: what it changed goes when it mounts its root, where the slate is
        a fresh one, or frozen."""
        state = self.state()
        if state and not state.wipe and (fresh or self.frozen):
            self.keep(replace(state, wipe=True))

    def open(self, base: Path, version: int, own: Mapping[str, str]) -> None:
        """Show the root's folder `base` with the slate, made if need be, at `view`."""
        self._slates.mkdir(mode=0o700, parents=True, exist_ok=True)  # clients' secrets are in it
        new, before, now = not self.upper.exists(), self.state(), time.time()
        self.folder.mkdir(parents=True, exist_ok=True)
        inode = base.stat().st_ino if version == 0 else 0
        state = before or SlateState(version, now, now)
        self.keep(replace(state, used=now, wipe=False, base=inode))
        for name in ("upper", "work", "own", "view"):
            (self.folder / name).mkdir(parents=True, exist_ok=True)
        if new:
            _copy_owner(base, self.upper)
        _write_own(self.folder / "own", base, own)
        lower = [self.folder / "own", *self.frozen, base]
        overlay(self.view, lower, self.upper, self.folder / "work")

    def show(
        self, root: RootFolder, own: Mapping[str, str], mounted: Container[Path],
        wanted: int | None = None,
    ) -> int:  # fmt: skip
        """Open it unless it is among what is `mounted`; the version that it is on, for a new one
        that which is `wanted`, or in use. Raises MissingRequirementError when there is no such
        version any more."""
        state = self.state()
        if self.disk.exists():
            problem = f"what {self.client} keeps was made by blocks, and is asked for by files"
            remedy = f'delivery = "blocks" again, or begin anew: daskel slate wipe {self.client}'
            raise MissingRequirementError(problem, remedy)
        new = root.state().used if wanted is None else wanted
        version = state.version if state else new
        base = root.version(version)
        if not base.is_dir():
            problem = f"version {version} of the root {self.root} is gone: {base}"
            raise MissingRequirementError(problem, f"daskel slate rebase {self.client}")
        if self.is_on_another(base, state):
            problem = f"the working tree of {self.root} was replaced since the slate was made on it"
            remedy = f"daskel slate rebase {self.client} --to 0, or daskel slate wipe {self.client}"
            raise MissingRequirementError(problem, remedy)
        if self.view not in mounted:
            self.open(base, version, own)
        return version

    def open_disk(self, version: int, size: int) -> Path:
        """The file of a client that gets blocks, made if need be, with room for `size` bytes.
        Raises MissingRequirementError when it is on another version."""
        state, now = self.state(), time.time()
        if self.upper.is_dir() and any(self.upper.iterdir()):
            problem = "it was made by files, and is asked for by blocks"
            remedy = f'delivery = "files" again, or begin anew: daskel slate wipe {self.client}'
            raise MissingRequirementError(problem, remedy)
        if state and state.version != version and self.disk.exists():
            problem = f"it was made on version {state.version}"
            raise MissingRequirementError(problem, f"daskel slate wipe {self.client}")
        if state and state.wipe:
            self.renew()
            state = self.state()
        self._slates.mkdir(mode=0o700, parents=True, exist_ok=True)
        self.folder.mkdir(parents=True, exist_ok=True)
        if not self.disk.exists():
            _make_file_system(self.disk, size)
        made = state.made if state else now
        self.keep(SlateState(version, made, now))
        return self.disk

    @contextmanager
    def mounted(self) -> Iterator[None]:
        """What is in a disk can be read meanwhile, by this process alone. Raises
        MissingRequirementError."""
        if not self.disk.exists():
            yield
            return
        own_namespace()
        self.view.mkdir(exist_ok=True)
        options = "ro,loop,noload,nodev,nosuid,noexec"
        command = ["mount", "-t", "ext4", "-o", options, str(self.disk), str(self.view)]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        if done.returncode:
            reason = " ".join(done.stderr.split())[:200]
            problem = f"{self.disk} cannot be mounted: {reason}"
            raise MissingRequirementError(problem, "run as root; e2fsck -f looks after it")
        try:
            yield
        finally:
            unmount(self.view)

    def is_on_another(self, base: Path, state: SlateState | None) -> bool:
        """It was made on a working tree that was replaced."""
        if state is None or state.version != 0 or not state.base:
            return False
        return state.base != base.stat().st_ino

    def close(self) -> None:
        """Unmount it."""
        for point in mounted_below(self.folder):
            unmount(point)

    def wipe(self) -> None:
        """What the client changed is gone when this returns; it must not be mounted."""
        self._away(self.folder)

    def renew(self) -> None:
        """The same at a boot: what is frozen stays."""
        state = self.state()
        if state is None or not self.frozen:
            self.wipe()
            return
        if self.disk.exists():
            self._copy_disk(self._frozen_disk, self.disk)
            self.keep(replace(state, wipe=False))
            return
        for folder in (self.upper, self.folder / "work"):
            self._away(folder)
        self.keep(replace(state, wipe=False))

    def freeze(self) -> None:
        """What the client has now is what it begins with from now on; it must not be mounted."""
        if self.disk.exists():
            self._copy_disk(self.disk, self._frozen_disk)
            return
        self.upper.rename(self.folder / f"frozen-{len(self.frozen) + 1}")
        self._away(self.folder / "work")

    def thaw(self) -> None:
        """Take the last freezing back, and what was changed since."""
        state = self.state()
        assert state and self.frozen, "it is frozen"
        if self.disk.exists():
            self.keep(replace(state, wipe=False))
            self._frozen_disk.replace(self.disk)
            return
        for folder in (self.upper, self.folder / "work"):
            self._away(folder)
        self.keep(replace(state, wipe=False))
        self.frozen[0].rename(self.upper)

    def _copy_disk(self, source: Path, target: Path) -> None:
        """Whole or not at all; holes stay holes."""
        part = target.with_name(f"{target.name}.part")
        part.unlink(missing_ok=True)
        copy_file(str(source), str(part))
        part.replace(target)

    def _away(self, folder: Path) -> None:
        """Out of the way at once; removing it takes its time."""
        if not folder.exists():
            return
        gone = self._slates / _GONE
        gone.mkdir(exist_ok=True)
        folder.rename(gone / f"{self.root}-{self.client}-{folder.name}-{time.time_ns()}")
        threading.Thread(target=_remove_all, args=(gone,)).start()

    def size(self) -> tuple[int, int]:
        """Bytes on the disk, and files; of a disk, which is one."""
        if self.disk.exists():
            return self.disk.stat().st_blocks * 512, 1
        sizes = [disk_usage(layer) for layer in self.layers]
        return sum(size for size, *_ in sizes), sum(files for _, files, _ in sizes)

    def changes(self, base: Path) -> Iterator[ChangedPath]:
        """What differs from the root's folder `base`, in the order of the paths."""
        newest = self._newest()
        for path in sorted(newest):
            found = _change(newest[path], base, path)
            if found:
                yield found

    def _newest(self) -> dict[Path, Path]:
        """Every path of the layers, and the newest one that has it; not what a newer one hides."""
        newest: dict[Path, Path] = {}
        hidden: set[Path] = set()
        for layer in self.layers:
            hides = set()
            for name, status in entries(layer):
                path = Path(name)
                if path in newest or not hidden.isdisjoint(path.parents):
                    continue
                newest[path] = layer
                if not stat.S_ISDIR(status.st_mode) or is_opaque(layer / path):
                    hides.add(path)
            hidden |= hides
        return newest

    def copy(self, path: Path, target: Path) -> bool:
        """Copy what the client changed at and below `path` to the new `target`, without devices
        and what it removed. False when there is nothing."""
        newest = self._newest()
        plain: list[tuple[os.stat_result, Path]] = []
        folders: list[tuple[os.stat_result, Path]] = []
        wanted = sorted(p for p in newest if p == path or path in p.parents)
        with ExitStack() as opened:
            trees = {layer: opened.enter_context(ConfinedTree(layer)) for layer in self.layers}
            for inside in wanted:  # its client may change it at this moment
                place = target / inside.relative_to(path)
                source = trees[newest[inside]].at(str(inside))
                mode = os.lstat(source).st_mode
                if stat.S_ISDIR(mode):
                    place.mkdir(parents=True)
                    folders.append((os.lstat(source), place))
                elif stat.S_ISREG(mode):
                    place.parent.mkdir(parents=True, exist_ok=True)
                    copy_file(source, str(place))
                    plain.append((os.lstat(source), place))
                elif stat.S_ISLNK(mode):
                    place.parent.mkdir(parents=True, exist_ok=True)
                    place.symlink_to(Path(source).readlink())
        for status, place in [*plain, *reversed(folders)]:
            place.chmod(status.st_mode & 0o777)  # no set-user-id bit of a client's becomes root's
            os.utime(place, ns=(status.st_atime_ns, status.st_mtime_ns))
        return os.path.lexists(target)

    def move(self, version: int, without: Iterable[str] = ()) -> None:
        """Put it on another version of its root, `without` some of its paths; it must not be
        mounted.

        What ties it to the old one goes: where each file was copied from, and the index of that
        (Linux, Documentation/filesystems/overlayfs.rst, "Inode properties").
        """
        state = self.state()
        assert state, "there is a slate"
        for layer in self.layers:
            with ConfinedTree(layer) as tree:
                for path in without:
                    _remove(tree, path)
        inside = (layer / path for layer in self.layers for path, _ in entries(layer))
        for place in [*self.layers, *inside]:
            for name in os.listxattr(place, follow_symlinks=False):
                if name.startswith("trusted.overlay.") and name not in OVERLAY_MEANT:
                    os.removexattr(place, name, follow_symlinks=False)
        self._away(self.folder / "work")
        self.keep(replace(state, version=version, base=0))


def _make_file_system(place: Path, size: int) -> None:
    """A sparse file; it has its name when it is whole."""
    part = place.with_name(f"{place.name}.part")
    with part.open("wb") as file:
        file.truncate(max(size, _SMALLEST))
    command = ["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-m", "0"]
    command += ["-E", "lazy_itable_init=1,lazy_journal_init=1", str(part)]
    try:
        done = subprocess.run(command, capture_output=True, text=True, check=False)
    except FileNotFoundError:
        problem = "the program mke2fs is missing"
        raise MissingRequirementError(problem, "apt install e2fsprogs") from None
    if done.returncode:
        problem = f"mke2fs failed: {' '.join(done.stderr.split())[:200]}"
        raise MissingRequirementError(problem, "look at the disk of the slates")
    part.replace(place)


def slates_below(slates: Path) -> Iterator[Slate]:
    """Every slate on the disk."""
    with suppress(OSError):
        for root in sorted(path for path in slates.iterdir() if not path.name.startswith(".")):
            for client in sorted(p for p in root.iterdir() if is_slate_name(p.name)):
                yield Slate(slates, root.name, client.name)


def _remove(tree: ConfinedTree, path: str) -> None:
    """Nothing is removed through a link that the client made."""
    try:
        place = tree.at(path)
        if stat.S_ISDIR(os.lstat(place).st_mode):
            shutil.rmtree(place)
        else:
            Path(place).unlink()
    except OSError as error:
        if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP):
            raise


def _remove_all(folder: Path) -> None:
    """Also what was left by a process that ended before it was done."""
    for path in list(folder.iterdir()):
        shutil.rmtree(path, ignore_errors=True)


def _change(upper: Path, base: Path, path: Path) -> ChangedPath | None:
    """None for a folder that is only there for what is in it."""
    here, below = upper / path, base / path
    status = here.lstat()
    size = status.st_size if stat.S_ISREG(status.st_mode) else 0
    if is_whiteout(status):
        return ChangedPath(str(path), "removed", 0)
    if not os.path.lexists(below):
        return ChangedPath(str(path), "added", size, stat.S_ISDIR(status.st_mode))
    if not stat.S_ISDIR(status.st_mode):
        return ChangedPath(str(path), "changed", size)
    return ChangedPath(str(path), "replaced", 0) if is_opaque(here) else None


def is_whiteout(status: os.stat_result) -> bool:
    """How an overlay says that a name of the base is removed."""
    return stat.S_ISCHR(status.st_mode) and status.st_rdev == 0


def is_opaque(folder: Path) -> bool:
    """How an overlay says that a folder hides the base's."""
    with suppress(OSError):
        return os.getxattr(folder, "trusted.overlay.opaque") == b"y"
    return False


def _write_own(folder: Path, base: Path, own: Mapping[str, str]) -> None:
    """The files that Daskel makes, written in place: the folder stays the same one."""
    written = {Path(path.strip("/")): text for path, text in own.items()}
    for path, text in written.items():
        place = folder / path
        for parent in reversed(path.parents[:-1]):
            (folder / parent).mkdir(exist_ok=True)
            _copy_owner(base / parent, folder / parent)
        if not place.exists() or place.read_text() != text:
            place.write_text(text)
        place.chmod(0o644)
    for path in [p for p in folder.rglob("*") if p.is_file()]:
        if path.relative_to(folder) not in written:
            path.unlink()


def _copy_owner(source: Path, target: Path) -> None:
    """Owner, group and mode; nothing when there is no such folder in the base."""
    with suppress(OSError):
        status = source.stat()
        os.chown(target, status.st_uid, status.st_gid)
        target.chmod(stat.S_IMODE(status.st_mode))
