"""Roots on the disk: one working tree each, and numbered sealed versions beside it.

The working tree is ROOTS/NAME; its versions are ROOTS/.versions/NAME/1, 2, ..., and `root.json`
beside them says which one clients get. Before the first one is sealed they get the working tree.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field, replace
from fcntl import LOCK_EX, LOCK_NB, flock
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.kept import read_kept, write_kept

VERSIONS = ".versions"
_STATE = "root.json"
_NUMBERED = re.compile(r"\d+(\.(image|initrd)(\.part)?)?")


@dataclass(frozen=True, slots=True)
class Version:
    """One sealed version. Sizes in bytes, `sealed` in seconds since 1970."""

    sealed: float
    files: int
    size: int
    new: int  # bytes that are not shared with the version before
    note: str = ""
    image: int = 0  # bytes of its image; 0: it has none
    digest: str = ""  # SHA-256 of the image


@dataclass(frozen=True, slots=True)
class RootState:
    """Which version is in use, and what there is."""

    used: int = 0  # the version that clients get; 0: the working tree
    versions: dict[int, Version] = field(default_factory=dict)
    last: int = 0  # the highest number that was ever given: a client may still name it

    @property
    def next(self) -> int:
        """The number of the version that is sealed next."""
        return max(self.last, *self.versions, 0) + 1


class RootFolder:
    """One root. `path` is relative to the site's `roots`."""

    def __init__(self, roots: Path, path: str) -> None:
        self.tree, self._roots = roots / path, roots
        self._versions = roots / VERSIONS / path

    def state(self) -> RootState:
        """As it is on the disk now. Raises MissingRequirementError."""
        path = self._versions / _STATE
        remedy = f"restore it from a backup, or write it anew for the folders in {self._versions}"
        data = read_kept(path, remedy)
        if data is None:
            return self._without_a_state(remedy)
        try:
            versions = {int(n): Version(**v) for n, v in data["versions"].items()}
            return RootState(int(data["used"]), versions, int(data.get("last", 0)))
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            problem = f"{path} is damaged: {error!r}"
            raise MissingRequirementError(problem, remedy) from None

    def _without_a_state(self, remedy: str) -> RootState:
        """Nothing was sealed; not when there are versions, which clients may run on."""
        with suppress(OSError):
            if any(path.name.isdigit() for path in self._versions.iterdir()):
                raise MissingRequirementError(f"{self._versions / _STATE} is missing", remedy)
        return RootState()

    def keep(self, state: RootState) -> None:
        """Written whole or not at all."""
        self._versions.mkdir(parents=True, exist_ok=True)
        write_kept(self._versions / _STATE, asdict(state))

    def version(self, number: int) -> Path:
        """The folder of a version, 0 for the working tree."""
        return self._versions / str(number) if number else self.tree

    def image(self, number: int) -> Path:
        """The image of a version, for clients that get no files."""
        return self._versions / f"{number}.image"

    def client_part(self, number: int) -> Path:
        """The initrd that mounts that image."""
        return self._versions / f"{number}.initrd"

    def left_over(self, state: RootState) -> list[Path]:
        """Numbered folders that are not versions in `state`, and images of none."""
        numbered = [p for p in self._versions.iterdir() if _NUMBERED.fullmatch(p.name)]
        packed = [n for n, version in state.versions.items() if version.image]
        known = {str(n) for n in state.versions}
        known |= {path.name for n in packed for path in (self.image(n), self.client_part(n))}
        return [path for path in numbered if path.name not in known]

    @property
    def unfinished(self) -> Path:
        """Where a version is put together."""
        return self._versions / ".unfinished"

    def arriving(self, number: int) -> Path:
        """Where a version is put together when it comes from another server."""
        return self._versions / ".arriving" / str(number)

    def use(self, number: int) -> None:
        """Clients get this version at their next boot; 0: the working tree."""
        self.keep(replace(self.state(), used=number))

    @contextmanager
    def lock(self) -> Iterator[None]:
        """Nobody else changes this root meanwhile.

        Raises MissingRequirementError when somebody does.
        """
        if not self._roots.exists():
            self._roots.mkdir(mode=0o700, parents=True)  # set-user-id programs will be in it
        self._versions.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(self._versions, os.O_RDONLY | os.O_DIRECTORY)
        try:
            flock(descriptor, LOCK_EX | LOCK_NB)
        except BlockingIOError:
            os.close(descriptor)
            problem = f"another command works on {self.tree}"
            raise MissingRequirementError(problem, "wait for it to end") from None
        try:
            yield
        finally:
            os.close(descriptor)
