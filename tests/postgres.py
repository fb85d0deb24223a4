"""A private PostgreSQL for tests: it can be killed, frozen and begun again."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

CI = "CI" in os.environ  # there a missing permission is a failure
needs_postgres = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="PostgreSQL needs root")
_AS_ITS_OWN = ("setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups")


def programs() -> Path | None:
    """The folder of the newest one that is installed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda p: int(p.parent.name))
    return found[-1] if found else None


class Postgres:
    """Listens on a socket in its own folder, and on `address` where one is given."""

    def __init__(self, folder: Path, address: str = "", port: int = 5432) -> None:
        self.folder, self.address, self.port = folder, address, port
        self._bin = programs()
        self._data = folder / "data"
        self._inside: list[str] = []

    def make(self) -> None:
        """An empty one."""
        assert self._bin
        shutil.chown(self.folder, "postgres", "postgres")
        self._run(self._bin / "initdb", "-N", "-A", "trust", "-U", "daskel", "-D", self._data)
        with (self._data / "pg_hba.conf").open("a") as rules:
            rules.write("host all all 0.0.0.0/0 trust\n")

    def _run(self, *words: object, check: bool = True) -> None:
        command = [*self._inside, *_AS_ITS_OWN, *map(str, words)]
        subprocess.run(command, check=check, capture_output=True, cwd="/", timeout=60)

    def follow(self, primary: Postgres) -> None:
        """A standby of another one."""
        assert self._bin
        shutil.chown(self.folder, "postgres", "postgres")
        words = ("-R", "-X", "stream", "-c", "fast", "-D", self._data, "-U", "daskel")
        self._run(self._bin / "pg_basebackup", *words, "-h", primary.folder, "-p", primary.port)

    def promote(self) -> None:
        """It can be written from now on."""
        assert self._bin
        self._run(self._bin / "pg_ctl", "-w", "-D", self._data, "promote")

    def start(self, inside: str = "", *more: str) -> None:
        """Begin; `inside`: the network namespace."""
        assert self._bin
        self._inside = ["ip", "netns", "exec", inside] if inside else []
        options = f"-c listen_addresses='{self.address}' -c port={self.port} "
        options += f"-c unix_socket_directories='{self.folder}' " + " ".join(more)
        log = self.folder / "log"
        self._run(self._bin / "pg_ctl", "-w", "-D", self._data, "-l", log, "-o", options, "start")

    def stop(self, how: str = "fast") -> None:
        """`immediate` is a crash."""
        assert self._bin
        self._run(self._bin / "pg_ctl", "-w", "-D", self._data, "-m", how, "stop", check=False)

    def create(self, name: str) -> str:
        """A database, and its URL."""
        self.sql("postgres", f"CREATE DATABASE {name} STRATEGY wal_log")
        return f"postgresql://daskel@/{name}?host={self.folder}&port={self.port}"

    def sql(self, database: str, statement: str) -> str:
        """What `psql` prints."""
        command = ["psql", "-h", self.folder, "-p", self.port, "-U", "daskel", "-Atc", statement]
        words = [*map(str, command), database]
        done = subprocess.run(words, check=True, capture_output=True, text=True, timeout=60)
        return done.stdout.strip()

    def processes(self) -> list[int]:
        """Its number, and those of its own."""
        main = int((self._data / "postmaster.pid").read_text().split()[0])
        done = subprocess.run(["ps", "-o", "pid=", "--ppid", str(main)], capture_output=True,
                              text=True, check=False)  # fmt: skip
        return [main, *map(int, done.stdout.split())]

    @contextmanager
    def frozen(self) -> Iterator[None]:
        """It answers nobody, and closes nothing."""
        stopped = self.processes()
        for process in stopped:
            os.kill(process, signal.SIGSTOP)
        try:
            yield
        finally:
            for process in stopped:
                os.kill(process, signal.SIGCONT)


@contextmanager
def folder_of_its_own() -> Iterator[Path]:
    """Not below pytest's, which is for root alone."""
    folder = Path(tempfile.mkdtemp(prefix="daskel-pg-", dir="/tmp"))
    try:
        yield folder
    finally:
        time.sleep(0.1)
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def running(address: str = "", inside: str = "") -> Iterator[Postgres]:
    """An empty one, until the end."""
    with folder_of_its_own() as folder:
        made = Postgres(folder, address)
        try:
            made.make()
            made.start(inside)
            yield made
        finally:
            made.stop("immediate")
