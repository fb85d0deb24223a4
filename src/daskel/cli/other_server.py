"""Another server of the site, by ssh: its own daskel is asked there, and what it has no copy of is
copied to the folder that it names."""

from __future__ import annotations

import argparse
import json
import shlex
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from daskel.cli.output import Output, working
from daskel.cli.records import NONE_RUNS
from daskel.cli.site import question
from daskel.core.site.finding import did_you_mean
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.over_ssh import OverSsh
from daskel.system.sitefile import SiteFile

_NOT_FOUND = 127  # exit code of a shell
_BROKEN = 255  # of ssh
_ONE_PLACE = ("origin", "upper", "nlink", "impure", "uuid")  # see `tree_digest`
_OF_FOLDERS = ["--delete", *(f"--filter=-x trusted.overlay.{name}" for name in _ONE_PLACE)]


class OtherServer:
    """One that is alive."""

    def __init__(self, name: str, site: str, ssh: OverSsh, output: Output) -> None:
        self.name, self._site, self._ssh, self._output = name, site, ssh, output

    @classmethod
    @contextmanager
    def opened(cls, file: SiteFile, name: str, output: Output) -> Iterator[OtherServer]:
        """Logged in to it. Raises MissingRequirementError."""
        answer = question(file, "servers")
        if answer is None:
            raise MissingRequirementError(NONE_RUNS, "start it with: daskel serve")
        row = next((one for one in answer["servers"] if one["name"] == name), None)
        if row is None or not row["site"]:
            problem = f"the server {name} was never seen"
            raise MissingRequirementError(problem, "start it there: daskel serve")
        server = file.valid.servers[name]
        login = server.login or f"root@{next(iter(server.addresses.values()))}"
        ssh = OverSsh(login, f"copying to {name}")
        try:
            yield cls(name, row["site"], ssh, output)
        finally:
            ssh.close()

    def ask(self, *words: str) -> dict[str, Any]:
        """What daskel says there to a command. Raises MissingRequirementError for what goes wrong,
        with its own words."""
        command = shlex.join(["daskel", *words, "--site", self._site, "--json"])
        done = self._ssh.run(command, errors=True)
        login = self._ssh.login
        if done.returncode == _NOT_FOUND:
            problem = f"there is no daskel for {login}"
            raise MissingRequirementError(problem, "install Daskel's package there")
        try:
            answer = json.loads(done.stdout)
        except ValueError:
            answer = None
        if isinstance(answer, dict) and "error" in answer:
            problem = f"on {self.name}: {answer['error']}"
            raise MissingRequirementError(problem, str(answer.get("remedy", "")))
        if done.returncode or not isinstance(answer, dict):
            lines = [line.strip() for line in done.stderr.splitlines() if line.strip()]
            said = " ".join(lines)[:400] or f"exit code {done.returncode}"
            tried = "true" if done.returncode == _BROKEN else command
            remedy = f"try: ssh {login} {tried}"
            raise MissingRequirementError(f"on {self.name}: {said}", remedy)
        return answer

    def send(self, source: Path, target: str, what: str, size: int, *words: str) -> None:
        """Copy a file, or what is in a folder; what is there already is not sent again. Raises
        MissingRequirementError."""
        folder = source.is_dir()
        more = ["--partial", *words, *(_OF_FOLDERS if folder else [])]
        place = f"{self._ssh.login}:{target}" + ("/" if folder else "")
        with working(self._output, what, size or 1) as progress:
            task = progress.task_ids[0]
            code, said = self._ssh.copy(
                more, f"{source}/" if folder else str(source), place,
                lambda done: progress.advance(task, done),
            )  # fmt: skip
        if code:
            problem = f"{source} was not copied whole to {self.name}: {said}"
            remedy = "the same command goes on where it ended; both need rsync (apt install rsync)"
            raise MissingRequirementError(problem, remedy)


def is_another(args: argparse.Namespace, output: Output, file: SiteFile) -> bool:
    """The server that is named is in the site, and not this one; False after saying so."""
    servers = file.valid.servers
    if args.server not in servers:
        output.error(f"there is no server {args.server!r}", did_you_mean(args.server, servers))
        return False
    if args.server == own_name(file):
        output.error(f"{args.server} is this server", "name another one")
        return False
    return True


def own_name(file: SiteFile) -> str:
    """As the server that runs here calls itself. Raises MissingRequirementError."""
    status = question(file, "status")
    if status is None:
        raise MissingRequirementError(NONE_RUNS, "start it with: daskel serve")
    return str(status["server"] or "")
