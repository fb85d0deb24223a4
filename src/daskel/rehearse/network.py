"""A network of its own for virtual machines, that nothing leaves: a namespace with a bridge, and a
tap for each. Needs root and iproute2."""

from __future__ import annotations

import itertools
import os
import re
import shutil
import subprocess
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from daskel.system.host.processes import ended_with_us
from daskel.system.requirements import MissingRequirementError

BRIDGE = "clients"
_COUNT = itertools.count()
_WAIT = 10.0  # seconds for a process to end
_NAMESPACES = Path("/run/netns")  # ip-netns(8)
_NAME = re.compile(r"daskel-(\d+)-")  # of the process that made it


class Network:
    """Everything in it ends with `close`. `addresses` are the server's, with their prefix lengths.

    Raises MissingRequirementError.
    """

    def __init__(self, addresses: Sequence[str]) -> None:
        if os.geteuid() != 0 or not shutil.which("ip"):
            raise MissingRequirementError(
                "a network of its own needs root and the program ip", "run as root; iproute2"
            )
        self._remove_left_behind()
        self.name = f"daskel-{os.getpid()}-{next(_COUNT)}"
        self._others: list[str] = []
        self._processes: list[subprocess.Popen[bytes]] = []
        self.ip("netns", "add", self.name)
        try:
            self.run("ip", "link", "set", "lo", "up")
            self.run("ip", "link", "add", BRIDGE, "type", "bridge")
            for address in addresses:
                self.run("ip", "address", "add", address, "dev", BRIDGE)
            self.run("ip", "link", "set", BRIDGE, "up")
        except MissingRequirementError:
            self.close()
            raise

    def _remove_left_behind(self) -> None:
        """Namespaces of those that were ended so suddenly that they could not."""
        left = [path.name for path in _NAMESPACES.glob("daskel-*")]
        for name in left:
            made = _NAME.match(name)
            if made and not Path("/proc", made[1]).exists():
                with suppress(MissingRequirementError):  # somebody else has just done it
                    self.ip("netns", "delete", name)

    @property
    def inside(self) -> list[str]:
        """The words before a command that is to run in it."""
        return ["ip", "netns", "exec", self.name]

    def close(self) -> None:
        for process in self._processes:
            if process.poll() is None:
                process.terminate()
                process.wait(_WAIT)
        for name in (*self._others, self.name):
            self.ip("netns", "delete", name)

    def ip(self, *words: str) -> None:
        """The program ip outside of it."""
        _run(["ip", *words])

    def run(self, *command: str) -> str:
        """What a command in it prints."""
        return _run([*self.inside, *command])

    def start(self, *command: str | Path, log: Path) -> subprocess.Popen[bytes]:
        """A process that ends with the network, if not before."""
        with log.open("wb") as out:
            words = [*ended_with_us(), *self.inside, *map(str, command)]
            process = subprocess.Popen(words, stdout=out, stderr=subprocess.STDOUT)
        self._processes.append(process)
        return process

    def add_tap(self, name: str) -> None:
        self.run("ip", "tuntap", "add", name, "mode", "tap")
        self.run("ip", "link", "set", name, "master", BRIDGE, "up")

    def add_host(self, name: str, address: str) -> list[str]:
        """Another host on the bridge, by its interface `eth0`; the words before its commands."""
        full = f"{self.name}-{name}"
        self.ip("netns", "add", full)
        self._others.append(full)
        self.run("ip", "link", "add", name, "type", "veth", "peer", "eth0", "netns", full)
        self.run("ip", "link", "set", name, "master", BRIDGE, "up")
        for words in (f"address add {address} dev eth0", "link set eth0 up", "link set lo up"):
            self.ip("-n", full, *words.split())
        return ["ip", "netns", "exec", full]


def _run(command: Sequence[str]) -> str:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise MissingRequirementError(
            f"{' '.join(command)}: {done.stderr.strip()}", "run as root; see ip(8)"
        )
    return done.stdout
