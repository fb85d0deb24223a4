"""A server that a site is practised with: what clients get is the site's, all that is written goes
into a folder of its own. `python -m daskel.cli.practice_server JSON` is that server."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, astuple, dataclass, field, replace
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from daskel.cli import records
from daskel.cli.output import Output
from daskel.core.audit.practice import (
    PracticePlaces,
    other_server,
    practised,
    present_addresses,
    with_copies,
)
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.model import Site
from daskel.store.reading import read_leases
from daskel.system.host.processes import ended_with_us
from daskel.system.requirements import MissingRequirementError
from daskel.system.site_check import load_checked
from daskel.system.sitefile import SiteFile

_START_WAIT = 300.0  # seconds for the server to be ready: the machine may be busy
_BASES = 40
_KINDS = (socket.SOCK_DGRAM, socket.SOCK_STREAM)
_TOLD_OF_FAILURE = 2000  # characters of the log


@dataclass(frozen=True)
class Practice:
    """What is practised. `base`: port numbers on loopback are moved up by it; None for the wires
    and ports of a network namespace."""

    site: str  # path of the site file
    into: str  # the folder for all that is written
    base: int | None = None
    like: Sequence[str] = ()  # clients of which there are `copies` in all
    copies: int = 0
    beside: str | None = None  # be the other DHCP server of this segment
    addresses: Mapping[str, str] = field(default_factory=dict)  # fixed ones, by client

    @property
    def folder(self) -> Path:
        return Path(self.into)

    @property
    def state(self) -> Path:
        return self.folder / "state.db"

    @property
    def wire(self) -> Wire:
        return Wire() if self.base is None else Wire(Ports.from_base(self.base), loopback=True)

    def places(self) -> PracticePlaces:
        folder = self.folder
        names = (self.state, folder / "slates", folder / "uploads", folder / "private.key")
        return PracticePlaces(*map(str, (*names, self.interface)))

    @property
    def interface(self) -> str:
        """Of the tunnel: no other practice's."""
        return f"dsk-{zlib.crc32(self.into.encode()):08x}"

    def site_of(self, site: Site) -> tuple[Site, Mapping[str, str]]:
        """The site that is served, and which client each client is like."""
        addresses = {name: IPv4Address(address) for name, address in self.addresses.items()}
        found = practised(site, self.places(), addresses, direct=self.base is None)
        like = {name: name for name in found.clients}
        if self.copies:
            found, like = with_copies(found, self.like, self.copies)
        if self.beside:
            theirs = PracticePlaces(*(f"{place}.beside" for place in astuple(self.places())))
            found = other_server(found, self.beside, theirs)
        return found, like


@dataclass(frozen=True)
class Practised:
    """A practice that has begun: the site that its server has, worked out once."""

    practice: Practice
    site: Site
    like: Mapping[str, str]  # each client of the practised site: the client that it is like


def begin(practice: Practice, file: SiteFile) -> Practised:
    """Make its folder, with the leases and assignments as they are now.

    Raises MissingRequirementError.
    """
    try:
        practice.folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        problem = f"the folder {practice.folder} cannot be made ({error.strerror})"
        raise MissingRequirementError(problem, "name another with --keep") from None
    records.copy_into(file, practice.state)
    present = present_addresses(file.valid, read_leases(practice.state))
    addresses = {name: str(address) for name, address in present.items()}
    practice = replace(practice, addresses=addresses)
    return Practised(practice, *practice.site_of(file.valid))


@contextmanager
def serving(
    practice: Practice,
    inside: Sequence[str] = (),
    heard: Callable[[Mapping[str, Any]], None] | None = None,
) -> Iterator[int]:
    """The server as a process of its own, ready when this is entered; its number. `inside`: words
    before the command; `heard` is told of every event."""
    told = json.dumps(asdict(practice))
    command = [*ended_with_us(), *inside, sys.executable, "-m", "daskel.cli.practice_server", told]
    name = "serve.beside.log" if practice.beside else "serve.log"
    with running(command, practice.folder / name, heard) as process:
        yield process


@contextmanager
def running(
    command: Sequence[str], log: Path, heard: Callable[[Mapping[str, Any]], None] | None = None
) -> Iterator[int]:
    """A server that logs JSON lines.

    Raises MissingRequirementError when it does not become ready.
    """
    errors = log.with_suffix(".errors")
    with errors.open("w") as err:
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=err, text=True)
    ready = threading.Event()
    reader = threading.Thread(target=_read, args=(process, log, ready, heard), daemon=True)
    reader.start()
    try:
        if not ready.wait(_START_WAIT) or process.poll() is not None:
            raise MissingRequirementError(_why(process, log, errors), f"see {log}")
        yield process.pid
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait()
        reader.join()


def _read(
    process: subprocess.Popen[str], path: Path, ready: threading.Event,
    heard: Callable[[Mapping[str, Any]], None] | None,
) -> None:  # fmt: skip
    """Keep the server's log."""
    assert process.stdout
    with path.open("w", buffering=1) as log:
        for line in process.stdout:
            log.write(line)
            event = json.loads(line)
            if event.get("event") == "ready":
                ready.set()
            if heard:
                heard(event)
    ready.set()  # it has ended


def _why(process: subprocess.Popen[str], log: Path, errors: Path) -> str:
    process.kill()
    said = errors.read_text()
    lines = [line for line in log.read_text().splitlines() if '"error"' in line]
    problem = json.loads(lines[-1])["error"] if lines else said[-_TOLD_OF_FAILURE:].strip()
    return f"the server to practise with did not start: {problem or 'it said nothing'}"


_RESERVED: dict[int, socket.socket] = {}


def free_base() -> int:
    """A number to add to the standard ports so that none of them is taken, nor one of those that
    the system gives to whoever asks for any. It is this process's own until that ends."""
    for step in range(_BASES):  # others that practise just now begin elsewhere
        base = 20000 + (os.getpid() + step) % _BASES * 200
        if not _reserve(base):
            continue
        if all(
            _free(kind, port) for port in vars(Ports.from_base(base)).values() for kind in _KINDS
        ):
            return base
        release_base(base)
    raise MissingRequirementError("no free ports on loopback from 20000 on", "end what holds them")


def _reserve(base: int) -> bool:
    """By a name of a Unix socket without a file (unix(7), abstract), which goes with its holder."""
    if base in _RESERVED:
        return False
    name = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    try:
        name.bind(f"\0daskel-practice-{base}")
    except OSError:
        name.close()
        return False
    _RESERVED[base] = name
    return True


def release_base(base: int) -> None:
    """Somebody else may have it."""
    _RESERVED.pop(base).close()


def _free(kind: socket.SocketKind, port: int) -> bool:
    with socket.socket(socket.AF_INET, kind) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, kind is socket.SOCK_STREAM)
        try:
            sock.bind(("0.0.0.0", port))
        except OSError:
            return False
        return True


def main() -> int:
    """Serve what is practised until a signal comes."""
    from daskel.cli.server_run import serve_site

    practice, output = Practice(**json.loads(sys.argv[1])), Output(as_json=True)
    try:
        file = load_checked(Path(practice.site))
        file.site, _ = practice.site_of(file.valid)
        return int(serve_site(file, practice.wire, output))
    except MissingRequirementError as error:
        output.error(error.problem, error.remedy)
        return 3


if __name__ == "__main__":
    sys.exit(main())
