"""Copies the system of a machine that runs, by rsync over ssh: one file system after the other."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from daskel.core.roots.machine_mounts import FileSystem, Machine, file_systems, left_out
from daskel.system.roots.new_tree import SourceError
from daskel.system.roots.over_ssh import OverSsh
from daskel.system.roots.sealing import discard
from daskel.system.roots.tree_copy import Progress, need_room

_ASK = "cat /etc/fstab 2>/dev/null; echo @@; cat /proc/self/mounts; echo @@; df -kP; true"
_VANISHED = 24  # exit code of rsync: files went away while they were copied, as they do
_PARTS = 3  # of the answer


class RunningMachine:
    """One connection for all. Raises SourceError, MissingRequirementError."""

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._ssh = OverSsh(machine.login, "copying a running machine")
        self._systems: list[FileSystem] = []

    @classmethod
    @contextmanager
    def opened(cls, machine: Machine) -> Iterator[RunningMachine]:
        """Asked what it has; the connection ends afterwards."""
        made = cls(machine)
        try:
            made.look()
            yield made
        finally:
            made.close()

    def look(self) -> None:
        """Ask which file systems it has."""
        done = self._ssh.run(_ASK)
        parts = done.stdout.split("@@\n")
        if done.returncode or len(parts) != _PARTS:
            problem = (
                f"{self._machine.login} cannot be asked over ssh (exit code {done.returncode})"
            )
            remedy = f"try: ssh {self._machine.login} true; to copy everything, log in as root"
            raise SourceError(problem, remedy)
        self._systems = file_systems(*parts)
        if self._machine.path != "/":
            self._systems = [FileSystem(self._machine.path, 0)]

    @property
    def size(self) -> int:
        """Bytes in use there."""
        return sum(one.used for one in self._systems)

    def copy(self, work: Path, before: Path | None, progress: Progress) -> str:
        """Make the new folder `work`; what is the same in `before` is shared with it. In words,
        what it was made of. Nothing is left when it fails."""
        discard(work)
        work.parent.mkdir(parents=True, exist_ok=True)
        if before is None:
            need_room(work.parent, self.size)
        try:
            work.mkdir()
            for one in self._systems:
                self._one(one, work, before, progress)
        except BaseException:
            discard(work)
            raise
        names = ", ".join(one.place for one in self._systems)
        return f"the running machine {self._machine.login} ({names})"

    def _one(self, one: FileSystem, work: Path, before: Path | None, progress: Progress) -> None:
        below = one.place.strip("/") if self._machine.path == "/" else ""
        target = work / below
        target.mkdir(parents=True, exist_ok=True)
        words = ["--one-file-system", *(f"--exclude={pattern}" for pattern in left_out(one.place))]
        if before is not None and (before / below).is_dir():
            words.append(f"--link-dest={(before / below).absolute()}")
        source = one.place if one.place.endswith("/") else f"{one.place}/"
        source = f"{self._machine.login}:{source}"
        code, reason = self._ssh.copy(words, source, f"{target}/", progress)
        if code not in (0, _VANISHED):
            problem = f"{self._machine.login}:{one.place} was not copied whole: {reason}"
            remedy = "copy as root; rsync must be there, too (apt install rsync)"
            raise SourceError(problem, remedy)

    def close(self) -> None:
        """End the connection."""
        self._ssh.close()
