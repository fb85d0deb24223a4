"""Which process holds a port: /proc/net and /proc/PID/fd (proc(5))."""

from __future__ import annotations

from collections.abc import Iterator
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
    for process in sorted(Path("/proc").glob("[0-9]*"), key=lambda p: int(p.name)):
        try:
            links = {str(fd.readlink()) for fd in (process / "fd").iterdir()}
            name = (process / "comm").read_text().strip()
        except OSError:
            continue  # ended meanwhile, or somebody else's
        if any(f"socket:[{inode}]" in links for inode in inodes):
            return Holder(int(process.name), name)
    return None


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
