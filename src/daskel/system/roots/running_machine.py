"""Copies the system of a machine that runs, by rsync over ssh: one file system after the other."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from daskel.core.roots.machine_mounts import FileSystem, Machine, file_systems, left_out
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.new_tree import SourceError
from daskel.system.roots.sealing import discard
from daskel.system.roots.tree_copy import Progress, need_room

_ASK = "cat /etc/fstab 2>/dev/null; echo @@; cat /proc/self/mounts; echo @@; df -kP; true"
_TRANSFERRED = re.compile(rb"^\s*([\d,.]+)\s+\d+%", re.MULTILINE)
_VANISHED = 24  # exit code of rsync: files went away while they were copied, as they do
_PARTS = 3  # of the answer
_LARGEST = 1 << 16  # bytes of error messages that are read


class RunningMachine:
    """One connection for all. Raises SourceError, MissingRequirementError."""

    def __init__(self, machine: Machine) -> None:
        for program, package in (("rsync", "rsync"), ("ssh", "openssh-client")):
            if not shutil.which(program):
                problem = f"copying a running machine needs {program}"
                raise MissingRequirementError(problem, f"apt install {package}")
        self._machine = machine
        self._folder = Path(tempfile.mkdtemp(prefix="daskel-"))
        self._ssh = [
            "ssh", "-o", "ControlMaster=auto", "-o", f"ControlPath={self._folder}/c",
            "-o", "ControlPersist=60", "-o", "ServerAliveInterval=15", "-o", "ConnectTimeout=15",
        ]  # fmt: skip
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
        """Ask which file systems it has; the person at the terminal may be asked for a
        password."""
        command = [*self._ssh, "--", self._machine.login, _ASK]
        done = subprocess.run(command, stdout=subprocess.PIPE, text=True, check=False)
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
        command = ["rsync", "--archive", "--hard-links", "--acls", "--xattrs", "--sparse"]
        command += ["--one-file-system", "--numeric-ids", "--info=progress2", "--no-inc-recursive"]
        command += ["--protect-args", "--rsh", " ".join(self._ssh)]
        command += [f"--exclude={pattern}" for pattern in left_out(one.place)]
        if before is not None and (before / below).is_dir():
            command.append(f"--link-dest={(before / below).absolute()}")
        source = one.place if one.place.endswith("/") else f"{one.place}/"
        command += ["--", f"{self._machine.login}:{source}", f"{target}/"]
        done = 0
        with (
            tempfile.TemporaryFile() as errors,
            subprocess.Popen(command, stdout=subprocess.PIPE, stderr=errors) as process,
        ):
            assert process.stdout
            while piece := os.read(process.stdout.fileno(), 1 << 12):
                if found := _TRANSFERRED.findall(piece.replace(b"\r", b"\n")):
                    now = int(re.sub(rb"\D", b"", found[-1]))
                    progress(max(0, now - done))
                    done = max(done, now)
            code = process.wait()
            errors.seek(0)
            said = errors.read(_LARGEST).decode(errors="replace")
        if code not in (0, _VANISHED):
            lines = [line for line in said.splitlines() if line.strip()]
            reason = " ".join(lines[0].split())[:200] if lines else f"exit code {code}"
            problem = f"{self._machine.login}:{one.place} was not copied whole: {reason}"
            remedy = "copy as root; rsync must be there, too (apt install rsync)"
            raise SourceError(problem, remedy)

    def close(self) -> None:
        """End the connection."""
        command = [*self._ssh, "-O", "exit", "--", self._machine.login]
        subprocess.run(command, capture_output=True, check=False)
        shutil.rmtree(self._folder, ignore_errors=True)
