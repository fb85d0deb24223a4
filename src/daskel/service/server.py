"""One server: all services of a site, begun together and ended together."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Collection
from pathlib import Path

from daskel.core.boot.stages import Event
from daskel.core.boot.wire import Wire
from daskel.core.site.model import Site
from daskel.service import sockets
from daskel.service.dhcp import DhcpService
from daskel.service.http import HttpService
from daskel.service.nfs import NfsService
from daskel.service.shared import Shared
from daskel.service.tftp import TftpService
from daskel.store.database import Store
from daskel.system.beneath import FilesFolder
from daskel.system.interfaces import interface_of
from daskel.system.lacking import LackingError
from daskel.system.tree import Tree


class Server:
    """Opens every socket when made, so that nothing is answered while something is lacking.

    Raises LackingError.
    """

    def __init__(
        self, site: Site, files: Path, roots: Path, state: Path, wire: Wire,
        emit: Callable[[Event], None],
    ) -> None:  # fmt: skip
        self._sockets = _listening(site)
        trees = _trees(site, roots, {})
        self._shared = Shared(site, Store(state), FilesFolder(files), trees, wire, emit)
        self._simple: list[DhcpService | TftpService] = []
        self._streams: list[HttpService | NfsService] = []
        self._tasks: list[asyncio.Task[None]] = []
        for name, sock in _dhcp_sockets(site, wire).items():
            self._simple.append(DhcpService(self._shared, name, sock))
        for name in site.served:
            self._simple.append(TftpService(self._shared, name))
            self._streams.append(NfsService(self._shared, name))
        self._streams.append(HttpService(self._shared))

    def use(self, site: Site, roots: Path) -> bool:
        """Answer from another site without dropping anything; False, and nothing is changed, when
        it needs other sockets: another server address or interface, a segment more or less."""
        if not self.fits(site):
            return False
        before = self._shared.trees
        trees = _trees(site, roots, before)
        self._shared.use(site, trees)
        for tree in before.values():
            if tree not in trees.values():
                tree.close()
        return True

    def fits(self, site: Site) -> bool:
        """The sockets that are open are those that `site` needs."""
        return _listening(site) == self._sockets

    def assign_once(self, client: str, boot: str | None) -> None:
        self._shared.assign_once(client, boot)

    def forget(self, macs: Collection[str]) -> None:
        """Machines that the lobby need not remember."""
        self._shared.lobby.forget(macs)

    async def start(self) -> None:
        for stream in self._streams:
            await stream.serve()
        self._tasks = [asyncio.create_task(service.serve()) for service in self._simple]
        self._tasks.append(asyncio.create_task(self._shared.keep_lobby()))

    async def failed(self) -> None:
        """Returns only by raising: when one of the services ended with an error."""
        await asyncio.gather(*self._tasks)

    async def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        for service in self._simple:
            service.close()
        for stream in self._streams:
            await stream.close()
        self._shared.close()


def _listening(site: Site) -> dict[str, tuple[str, str | None]]:
    """What the sockets of a site depend on."""
    return {name: (str(s.server), s.interface) for name, s in site.served.items()}


def _trees(site: Site, roots: Path, before: dict[str, Tree]) -> dict[str, Tree]:
    """The roots of a site; those that are open already are kept."""
    trees = {}
    for name in site.roots:
        folder = roots / site.root_path(name)
        old = before.get(name)
        trees[name] = old if old and old.folder == folder else Tree(name, folder)
    return trees


def _dhcp_sockets(site: Site, wire: Wire) -> dict[str, socket.socket]:
    """One socket per segment, bound to its interface."""
    if wire.loopback:
        return {
            name: sockets.udp(wire.outside(segment.server), wire.ports.dhcp)
            for name, segment in site.served.items()
        }
    used: dict[str, str] = {}
    for name, segment in site.served.items():
        interface = segment.interface or interface_of(segment.server)
        if interface is None:
            problem = f"no interface of this machine has segment {name}'s address {segment.server}"
            raise LackingError(
                problem,
                f"ip address add {segment.server}/{segment.network.prefixlen} dev INTERFACE",
            )
        if interface in used:
            problem = f"segments {used[interface]} and {name} are both on interface {interface}"
            raise LackingError(problem, "give each segment an interface of its own")
        used[interface] = name
    return {name: sockets.dhcp(interface, wire.ports.dhcp) for interface, name in used.items()}
