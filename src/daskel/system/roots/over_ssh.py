"""Another machine, by ssh: what it says to a command, and copies by rsync, over one connection."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from pathlib import Path

from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.tree_copy import Progress

_TRANSFERRED = re.compile(rb"^\s*([\d,.]+)\s+\d+%", re.MULTILINE)
_LARGEST = 1 << 16  # bytes of error messages that are read


class OverSsh:
    """`login`: as ssh takes it. Close it. Raises MissingRequirementError where the programs are
    missing here; `what` needs them."""

    def __init__(self, login: str, what: str) -> None:
        for program, package in (("rsync", "rsync"), ("ssh", "openssh-client")):
            if not shutil.which(program):
                raise MissingRequirementError(f"{what} needs {program}", f"apt install {package}")
        self.login = login
        self._folder = Path(tempfile.mkdtemp(prefix="daskel-"))
        self._ssh = [
            "ssh", "-o", "ControlMaster=auto", "-o", f"ControlPath={self._folder}/c",
            "-o", "ControlPersist=60", "-o", "ServerAliveInterval=15", "-o", "ConnectTimeout=15",
        ]  # fmt: skip

    def run(self, command: str, *, errors: bool = False) -> subprocess.CompletedProcess[str]:
        """A command of its shell; the person at the terminal may be asked for a password, and reads
        what it says to standard error, unless that is to be read here."""
        words = [*self._ssh, "--", self.login, command]
        where = subprocess.PIPE if errors else None
        return subprocess.run(
            words, stdout=subprocess.PIPE, stderr=where, text=True, errors="replace", check=False
        )

    def copy(
        self, words: Sequence[str], source: str, target: str, progress: Progress
    ) -> tuple[int, str]:
        """By rsync, with owners, links and attributes; `words`: more for it. Its exit code, and the
        first line of what it says of an error."""
        command = ["rsync", "--archive", "--hard-links", "--acls", "--xattrs", "--sparse"]
        command += ["--numeric-ids", "--info=progress2", "--no-inc-recursive", "--protect-args"]
        command += ["--rsh", " ".join(self._ssh), *words, "--", source, target]
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
        lines = [line for line in said.splitlines() if line.strip()]
        return code, " ".join(lines[0].split())[:200] if lines else f"exit code {code}"

    def close(self) -> None:
        """End the connection."""
        command = [*self._ssh, "-O", "exit", "--", self.login]
        subprocess.run(command, capture_output=True, check=False)
        shutil.rmtree(self._folder, ignore_errors=True)
