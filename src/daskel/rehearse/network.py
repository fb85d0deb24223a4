"""A network of its own for virtual machines, that nothing leaves: a namespace with a bridge, and a
tap for each. Needs root."""

from __future__ import annotations

import itertools
import os
import re
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from ipaddress import IPv4Interface, IPv6Interface, ip_interface
from pathlib import Path
from typing import Any

from pyroute2 import NetNS, netns
from pyroute2.netlink.exceptions import NetlinkError

from daskel.system.host.processes import ended_with_us
from daskel.system.requirements import MissingRequirementError

BRIDGE = "clients"
_COUNT = itertools.count()
_NO_DAD = 2  # IFA_F_NODAD: nobody else is on this wire
_WAIT = 10.0  # seconds for a process to end
_NAMESPACES = Path("/run/netns")  # ip-netns(8)
_NAME = re.compile(r"daskel-(\d+)-")  # of the process that made it


class Network:
    """Everything in it ends with `close`. `addresses` are the server's, with their prefix lengths.

    Raises MissingRequirementError.
    """

    def __init__(self, addresses: Sequence[str]) -> None:
        if os.geteuid() != 0 or not shutil.which("nsenter"):
            problem = "a network of its own needs root and the program nsenter"
            raise MissingRequirementError(problem, "run as root; apt install util-linux")
        self._remove_left_behind()
        self.name = f"daskel-{os.getpid()}-{next(_COUNT)}"
        self._others: list[str] = []
        self._processes: list[subprocess.Popen[bytes]] = []
        with _said("made"):
            netns.create(self.name)
        try:
            with self._links(self.name) as links:
                links.link("set", index=_index(links, "lo"), state="up")
                links.link("add", ifname=BRIDGE, kind="bridge")
                bridge = _index(links, BRIDGE)
                for address in map(ip_interface, addresses):
                    links.addr("add", index=bridge, **_address(address))
                links.link("set", index=bridge, state="up")
        except MissingRequirementError:
            self.close()
            raise

    @contextmanager
    def _links(self, name: str) -> Iterator[Any]:
        """The links and addresses in one of its namespaces. Raises MissingRequirementError."""
        with _said("set up"), NetNS(name) as links:
            yield links

    def _remove_left_behind(self) -> None:
        """Namespaces of those that were ended so suddenly that they could not."""
        left = [path.name for path in _NAMESPACES.glob("daskel-*")]
        for name in left:
            made = _NAME.match(name)
            if made and not Path("/proc", made[1]).exists():
                with suppress(OSError):  # somebody else has just done it
                    netns.remove(name)

    @property
    def inside(self) -> list[str]:
        """The words before a command that is to run in it."""
        return _inside(self.name)

    def close(self) -> None:
        """End what runs in it, and remove it."""
        for process in self._processes:
            if process.poll() is None:
                process.terminate()
                process.wait(_WAIT)
        for name in (*self._others, self.name):
            with _said("removed"):
                netns.remove(name)

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
        """An interface on the bridge for a virtual machine."""
        with self._links(self.name) as links:
            links.link("add", ifname=name, kind="tuntap", mode="tap")
            _plug(links, name)

    def add_host(self, name: str, address: str) -> list[str]:
        """Another host on the bridge, by its interface `eth0`; the words before its commands."""
        full = f"{self.name}-{name}"
        with _said("made"):
            netns.create(full)
        self._others.append(full)
        with self._links(self.name) as links:
            far = {"ifname": "eth0", "net_ns_fd": full}
            links.link("add", ifname=name, kind="veth", peer=far)
            _plug(links, name)
        with self._links(full) as links:
            own = _index(links, "eth0")
            links.addr("add", index=own, **_address(IPv4Interface(address)))
            for index in (own, _index(links, "lo")):
                links.link("set", index=index, state="up")
        return _inside(full)


def _inside(name: str) -> list[str]:
    return ["nsenter", f"--net={_NAMESPACES / name}"]


def _index(links: Any, name: str) -> int:
    found: int = links.link_lookup(ifname=name)[0]
    return found


def _plug(links: Any, name: str) -> None:
    """Put an interface on the bridge."""
    index = _index(links, name)
    links.link("set", index=index, master=_index(links, BRIDGE), state="up")


def _address(address: IPv4Interface | IPv6Interface) -> dict[str, Any]:
    made: dict[str, Any] = {"address": str(address.ip), "prefixlen": address.network.prefixlen}
    return made | ({"flags": _NO_DAD} if address.version == 6 else {})


@contextmanager
def _said(what: str) -> Iterator[None]:
    """What the kernel refuses becomes a MissingRequirementError."""
    try:
        yield
    except (OSError, NetlinkError) as error:
        problem = f"a network of its own cannot be {what}: {error}"
        raise MissingRequirementError(problem, "run as root of this machine") from None


def _run(command: Sequence[str]) -> str:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        problem = f"{' '.join(command)}: {done.stderr.strip()}"
        raise MissingRequirementError(problem, "run as root of this machine")
    return done.stdout
