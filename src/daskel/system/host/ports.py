"""Which process holds a port: /proc/net and /proc/PID/fd (proc(5))."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

_LISTEN = "0A"


@dataclass(frozen=True, slots=True)
class Holder:
    pid: int
    name: str

    def __str__(self) -> str:
        return f"{self.name} (process {self.pid})"


def holder(protocol: str, port: int) -> Holder | None:
    """The process that has `port` open; None when nobody does or it may not be seen.

    `protocol` is "udp" or "tcp"; for TCP only listening sockets count.
    """
    inodes = set(_inodes(protocol, port))
    if not inodes:
        return None
    wanted = {f"socket:[{inode}]" for inode in inodes}
    for process in sorted(Path("/proc").glob("[0-9]*"), key=lambda p: int(p.name)):
        with suppress(OSError):  # it ended meanwhile, or is somebody else's
            if any(link in wanted for link in _open_files(process)):
                return Holder(int(process.name), (process / "comm").read_text().strip())
    return None


def taken(protocol: str, port: int) -> bool:
    """Somebody has it open, whether or not it may be seen who."""
    return any(_inodes(protocol, port))


def _open_files(process: Path) -> Iterator[str]:
    for descriptor in list((process / "fd").iterdir()):
        with suppress(FileNotFoundError):  # closed meanwhile
            yield str(descriptor.readlink())


def _inodes(protocol: str, port: int) -> Iterator[str]:
    for table in (protocol, protocol + "6"):
        try:
            lines = Path(f"/proc/net/{table}").read_text().splitlines()[1:]
        except OSError:
            continue
        for line in lines:
            fields = line.split()
            listening = protocol == "udp" or fields[3] == _LISTEN
            if listening and int(fields[1].rsplit(":", 1)[1], 16) == port:
                yield fields[9]
