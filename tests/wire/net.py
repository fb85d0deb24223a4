"""Network namespaces with wires between them, for programs that need a network of their own."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from tests.conftest import PATIENCE


class Net:
    """Everything in it ends with `close`. The namespace `server` has a bridge for each wire."""

    def __init__(self) -> None:
        self._names: list[str] = []
        self._processes: list[subprocess.Popen[bytes]] = []

    def full(self, name: str) -> str:
        return f"daskel-{os.getpid()}-{name}"

    def add(self, name: str) -> None:
        subprocess.run(["ip", "netns", "add", self.full(name)], check=True)
        self._names.append(name)
        self.run(name, "ip link set lo up")

    def wire(self, bridge: str, *addresses: str) -> None:
        """A wire, whose end in `server` has these addresses."""
        self.run("server", f"ip link add {bridge} type bridge forward_delay 0")
        for address in addresses:
            self.run("server", f"ip address add {address} dev {bridge}")
        self.run("server", f"ip link set {bridge} up")

    def plug(self, bridge: str, name: str, interface: str, mac: str = "", *addresses: str) -> None:
        """Put the namespace `name` on a wire, with its own interface."""
        end = f"{bridge}-{name}"[:15]
        target = self.full(name)
        self.run("server", f"ip link add {end} type veth peer name {interface} netns {target}")
        self.run("server", f"ip link set {end} master {bridge} up")
        if mac:
            self.run(name, f"ip link set {interface} address {mac}")
        for address in addresses:
            self.run(name, f"ip address add {address} dev {interface}")
        self.run(name, f"ip link set {interface} up")

    def run(self, name: str, command: str, *more: str, check: bool = True) -> str:
        words = [*command.split(), *more]
        inside = ["ip", "netns", "exec", self.full(name), *words]
        done = subprocess.run(inside, capture_output=True, text=True, timeout=PATIENCE, check=False)
        assert not check or done.returncode == 0, (words, done.stdout, done.stderr)
        return done.stdout

    def start(self, name: str, *command: str | Path, log: Path) -> subprocess.Popen[bytes]:
        inside = ["ip", "netns", "exec", self.full(name), *map(str, command)]
        process = subprocess.Popen(inside, stdout=log.open("wb"), stderr=subprocess.STDOUT)
        self._processes.append(process)
        return process

    def close(self) -> None:
        for process in self._processes:
            if process.poll() is None:
                process.terminate()
                process.wait(PATIENCE)
        for name in self._names:
            subprocess.run(["ip", "netns", "delete", self.full(name)], check=True)
