"""One server: all services of a site, begun together and ended together."""

from __future__ import annotations

import asyncio
import logging
import os
import ssl
from collections.abc import Callable, Collection, Mapping
from ipaddress import IPv4Address
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from daskel.core.boot.address import Lease
from daskel.core.boot.segments import behind_relays, servers
from daskel.core.boot.wire import Wire
from daskel.core.dhcp.router_advertisement import network_here
from daskel.core.history.boots import History
from daskel.core.history.events import Event, Stage
from daskel.core.site.key_types import SLAAC
from daskel.core.site.model import Site
from daskel.core.site.several import Roots, told_of_root
from daskel.core.site.tables import Segment, SiteTable, needs_restart
from daskel.service import sockets
from daskel.service.clock import SYSTEM, Clock
from daskel.service.dhcp.others import OtherServers
from daskel.service.dhcp.router_advertiser import Advertiser
from daskel.service.dhcp.service import DhcpService
from daskel.service.dhcp.service6 import Dhcp6Service
from daskel.service.files.content import Contents
from daskel.service.files.http import HttpService
from daskel.service.files.tftp import TftpService
from daskel.service.metrics import Metrics
from daskel.service.nfs.block_grants import AllExports
from daskel.service.nfs.grants import Exports
from daskel.service.nfs.listener import NfsService
from daskel.service.nfs.nfsd_grants import KernelExports
from daskel.service.nfs.portmap import PortMapper, served
from daskel.service.peers import Peers
from daskel.service.raw.links import Datagrams, Interface
from daskel.service.raw.mop import MopService
from daskel.service.raw.rpl import RplService
from daskel.service.shared import Moving, Shared
from daskel.service.tunnel import Tunnel
from daskel.store.database import Store
from daskel.system.host.confined_open import FilesFolder
from daskel.system.host.interfaces import interface_of
from daskel.system.host.privileges import give
from daskel.system.nfs.registered import Registered
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.publishing import PublishedFolder

if TYPE_CHECKING:  # few sites have a key, or several servers
    from daskel.core.efi.signature import Signer
    from daskel.store.shared_store import SharedStore

_log = logging.getLogger(__name__)


class Server:
    """Opens every socket when made, so that nothing is answered while something is missing.

    Raises MissingRequirementError.
    """

    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self, site: Site, files: Path, published: PublishedFolder, roots: Path, slates: Path,
        uploads: Path, state: Path, store: Store | SharedStore, wire: Wire,
        emit: Callable[[Event, Stage | None], None], tls: ssl.SSLContext | None = None,
        clock: Clock = SYSTEM, signer: Signer | None = None, secret: Path | None = None,
    ) -> None:  # fmt: skip
        self._opened_for = _at_start(site)
        self._shared = Shared(
            site, store, FilesFolder(files), published, uploads, wire, emit, clock
        )  # fmt: skip
        if not wire.loopback:
            self._shared.interfaces = _own_wires(site)
            if secret:
                self._shared.open_tunnel(secret)
        own = site.settings.nfs == "daskel"
        self.exports = (
            AllExports(self._shared, roots, slates, state)
            if own
            else KernelExports(self._shared, roots, slates)
        )
        self._shared.homes_changed = self.exports.renew
        self._simple: list[
            DhcpService
            | Dhcp6Service
            | Advertiser
            | TftpService
            | OtherServers
            | MopService
            | RplService
        ] = []
        self._streams: list[HttpService | NfsService | PortMapper | Metrics] = []
        self._tasks: list[asyncio.Task[None]] = []
        self._registered: Registered | None = None
        contents = self._contents = Contents(self._shared, signer)
        self._simple += _dhcp_services(self._shared)
        if not wire.loopback:
            self._simple.append(OtherServers(self._shared, _alone_on(site)))
            self._simple += [*_dhcp6_services(self._shared), *_advertisers(site)]
        self._simple += _raw_services(self._shared)
        six = [] if wire.loopback else servers(self._shared.site6)
        for server in (*servers(site), *six):
            self._simple.append(TftpService(self._shared, contents, server))
            if isinstance(self.exports, Exports):
                self._streams.append(NfsService(self.exports, server, wire))
                self._streams.append(NfsService(self.exports, server, wire, blocks=True))
                if server.version == 4:  # who comes over IPv6 is told the port
                    self._map_ports(server)
        if (tunnel := self._shared.tunnel) and isinstance(self.exports, Exports):
            for blocks in (False, True):
                inner = cast(IPv4Address, tunnel.server)
                self._streams.append(NfsService(
                    self.exports, inner, wire, blocks=blocks, interface=tunnel.interface
                ))  # fmt: skip
        self._streams.append(HttpService(self._shared, contents))
        if tls:
            self._streams.append(HttpService(self._shared, contents, tls))
        self._metrics = Metrics(self._shared)
        self._metrics.open(site.settings.metrics)
        self._streams.append(self._metrics)
        self._confine(site.settings.account, files, uploads, state)

    def _confine(self, account: str | None, files: Path, uploads: Path, state: Path) -> None:
        """What the server itself writes is the account's, which must reach what it reads."""
        give(account, state.parent.glob(f"{state.name}*"))
        if account and self._shared.site.uploads and not uploads.exists():
            uploads.mkdir(mode=0o750, parents=True)
            give(account, [uploads])
        self.exports.confine(account)
        for path, how, what in (
            (state.parent, os.W_OK, "write into"), (files, os.R_OK | os.X_OK, "read"),
        ):  # fmt: skip
            if account and not os.access(path, how):
                remedy = f"chown {account} {path}, or name another with account = ... in [site]"
                raise MissingRequirementError(
                    f"the account {account} may not {what} {path}", remedy
                )

    def _map_ports(self, server: IPv4Address) -> None:
        """Where port 111 is free; else the program that has it is told, once."""
        if self._registered:
            return
        try:
            self._streams.append(PortMapper(self._shared, server))
        except MissingRequirementError as error:
            ports = self._shared.wire.ports
            try:
                self._registered = Registered(ports.portmap, served(ports))
                return
            except OSError as refused:
                why = refused.strerror or refused
            lost = "clients that ask there for NFS's port get no right answer, and do not boot"
            _log.warning("%s; telling it of NFS failed (%s): %s", error.problem, why, lost)

    async def use(self, site: Site) -> bool:
        """Answer from another site without dropping anything; False, and nothing is changed, when
        it needs other sockets or folders: another server address or interface, a segment more or
        less. Raises MissingRequirementError when its address for metrics is not free."""
        if not self.fits(site):
            return False
        await self._metrics.use(site.settings.metrics)
        self._shared.use(site)
        self.exports.renew()
        return True

    def fits(self, site: Site) -> bool:
        """The sockets that are open are those that `site` needs, and its folders are the same."""
        return _at_start(site) == self._opened_for

    @property
    def site(self) -> Site:
        """What clients are answered from."""
        return self._shared.site

    async def look_again(self) -> None:
        """What roots boot with, and what slates were made on, has changed on the disk."""
        self._shared.read_published()
        await self.exports.look_again()

    def look_at_homes(self) -> None:
        """Whose kept slates other servers have may have changed."""
        self._shared.look_at_homes()

    def assign_once(self, client: str, boot: str | None) -> None:
        """What a client boots next, once; None for what it always boots."""
        self._shared.assign_once(client, boot)

    def forget(self, macs: Collection[str]) -> None:
        """Machines that the lobby need not remember."""
        self._shared.forget(macs)

    def aside(self) -> list[Lease]:
        """Addresses that somebody else was found to have."""
        return self._shared.leases.aside(self._shared.lease_time())

    @property
    def tunnel(self) -> Tunnel | None:
        """What private roots come through."""
        return self._shared.tunnel

    @property
    def peers(self) -> Peers | None:
        """The site's other servers, where it has a store that they share."""
        return self._shared.peers

    async def rows(self, table: str, **which: Any) -> list[dict[str, Any]]:
        """Of a store that is a database. Raises ValueError where it is none, or away."""
        return await self._shared.rows(table, **which)

    async def told_of_roots(self) -> Roots:
        """What other servers are told of the roots here."""
        found = {}
        for root in self.site.roots:
            versions = await self.exports.versions(root)
            found[root] = told_of_root(self.site, root, versions.used, versions.there)
        return found

    def held_by(self, name: str) -> int:
        """How many addresses machines have from this one of the servers."""
        return self.peers.held.get(name, 0) if self.peers else 0

    @property
    def away(self) -> tuple[str, float] | None:
        """Why the store does not answer, and since when."""
        return (self._shared.away, self._shared.away_since) if self._shared.away else None

    @property
    def under_way(self) -> list[Moving]:
        """Files that are being sent now."""
        services = [*self._simple, *self._streams]
        sending = (TftpService, HttpService, MopService, RplService)
        files = [s.under_way for s in services if isinstance(s, sending)]
        return list(chain.from_iterable(files))

    @property
    def clock(self) -> Clock:
        """The time that all services go by."""
        return self._shared.clock

    @property
    def history(self) -> History:
        """All boots that are remembered."""
        return self._shared.history

    async def start(self) -> None:
        """Begin all services."""
        await self.exports.serve()
        for stream in self._streams:
            await stream.serve()
        self._tasks = [asyncio.create_task(service.serve()) for service in self._simple]
        self._tasks.append(asyncio.create_task(self._shared.keep_lobby()))
        self._tasks.append(asyncio.create_task(self._shared.keep_boots()))
        self._tasks.append(asyncio.create_task(self._shared.look_ahead()))
        if self.peers:
            self._tasks.append(asyncio.create_task(self.peers.serve()))
        if self._shared.tunnel:
            self._tasks.append(asyncio.create_task(self._shared.tunnel.serve()))

    async def failed(self) -> None:
        """Returns only by raising: when one of the services ended with an error."""
        await asyncio.gather(*self._tasks, self.exports.failed())

    async def stop(self) -> None:
        """End all services, then the NFS processes, then the store."""
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        for service in self._simple:
            service.close()
        for stream in self._streams:
            await stream.close()
        self._contents.close()
        await self.exports.close()
        if self._registered:
            self._registered.close()
        if self._shared.tunnel:
            self._shared.tunnel.close()
        self._shared.close()


def _at_start(site: Site) -> dict[str, tuple[object, ...]]:
    """What sockets and folders depend on, by segment: the keys that the model says so of."""
    said = {"": tuple(getattr(site.settings, key) for key in needs_restart(SiteTable))}
    return said | {
        name: tuple(getattr(segment, key) for key in needs_restart(Segment))
        for name, segment in site.served.items()
    }


def _dhcp_services(shared: Shared) -> list[DhcpService]:
    """One for each interface with a segment on it, and one for port 4011 of each server address."""
    site, wire = shared.site, shared.wire
    answered = {name: s for name, s in site.served.items() if s.dhcp != "off"}
    by_server: dict[IPv4Address, list[str]] = {}
    for name, segment in answered.items():
        by_server.setdefault(segment.server, []).append(name)
    found = []
    for server, names in by_server.items() if wire.loopback else ():
        sock = sockets.udp(wire.outside(server), wire.ports.dhcp, roomy=True)
        found.append(DhcpService(shared, server, sock, _direct(site, names)))
    for interface, names in {} if wire.loopback else _wires(site, answered).items():
        try:
            sock = sockets.dhcp(interface, wire.ports.dhcp)
        except MissingRequirementError as error:
            if any(site.segments[name].dhcp == "full" for name in names):
                raise
            _log.warning("%s: %s", error.problem, _ONLY_4011.format(" ".join(names)))
            continue
        server = site.segments[names[0]].server
        found.append(DhcpService(shared, server, sock, _direct(site, names), interface))
    for server, names in by_server.items():
        sock = sockets.udp(wire.outside(server), wire.ports.pxe)
        found.append(DhcpService(shared, server, sock, _direct(site, names), pxe=True))
    return found


def _dhcp6_services(shared: Shared) -> list[Dhcp6Service]:
    """One for each interface with a segment that gives IPv6 addresses."""
    given = {n: s for n, s in shared.site.served.items() if s.pool6 is not None and s.network6}
    wires = _wires(shared.site, given).items()
    return [
        Dhcp6Service(shared, wire, [n for n in names if not behind_relays(given[n])])
        for wire, names in wires
    ]


def _advertisers(site: Site) -> list[Advertiser]:
    """One for each interface with a segment that says `advertise6 = true`; of several, the first's
    network counts."""
    told = {n: s for n, s in site.served.items() if s.advertise6 and not behind_relays(s)}
    found = []
    for wire, names in _wires(site, told).items():
        here = told[names[0]]
        if here.network6:
            network = network_here(here.network6, slaac=here.pool6 == SLAAC)
            found.append(Advertiser(wire, network))
    return found


def _raw_services(shared: Shared) -> list[MopService | RplService]:
    """For each interface with a segment that says `raw = true`, one of each protocol."""
    said = {n: s for n, s in shared.site.served.items() if s.raw and not behind_relays(s)}
    if shared.wire.loopback:
        return _practised_raw_services(shared, said)
    wires, kinds = _wires(shared.site, said).items(), (MopService, RplService)
    return [
        kind(shared, Interface(wire, kind.listens), names)
        for wire, names in wires for kind in kinds
    ]  # fmt: skip


def _practised_raw_services(
    shared: Shared, said: Mapping[str, Segment]
) -> list[MopService | RplService]:
    by_server: dict[IPv4Address, list[str]] = {}
    for name, segment in said.items():
        by_server.setdefault(segment.server, []).append(name)
    ports = shared.wire.ports
    return [
        kind(shared, Datagrams(sockets.udp(shared.wire.outside(server), port)), names)
        for server, names in by_server.items()
        for kind, port in ((MopService, ports.mop), (RplService, ports.rpl))
    ]


def listening_on(site: Site) -> list[str]:
    """The interfaces that clients come by. Raises MissingRequirementError."""
    return list(_wires(site, site.served))


def _direct(site: Site, names: Collection[str]) -> tuple[str, ...]:
    return tuple(name for name in names if not behind_relays(site.segments[name]))


def _alone_on(site: Site) -> dict[str, str]:
    """The wires that Daskel is to be the only DHCP server on, each with a segment of it."""
    full = {n: s for n, s in site.served.items() if s.dhcp == "full" and not behind_relays(s)}
    return {interface: names[0] for interface, names in _wires(site, full).items()}


def _own_wires(site: Site) -> dict[str, str]:
    """The interface of each segment that is on a wire of this machine."""
    direct = {n: s for n, s in site.served.items() if not behind_relays(s)}
    return {name: wire for wire, names in _wires(site, direct).items() for name in names}


_ONLY_4011 = (
    "only port 4011 is answered; the server that holds it must send option 60 "
    "(vendor-class-identifier) = PXEClient to machines that boot: daskel handoff {}"
)


def _wires(site: Site, answered: Mapping[str, Segment]) -> dict[str, list[str]]:
    """The segments by the interface that their messages come in by.

    Raises MissingRequirementError.
    """
    wires: dict[str, list[str]] = {}
    for name, segment in answered.items():
        shared = site.segments.get(segment.shares or "")
        interface = segment.interface or (shared.interface if shared else None)
        interface = interface or interface_of(shared.server if shared else segment.server)
        if interface is None:
            problem = f"no interface of this machine has segment {name}'s address {segment.server}"
            raise MissingRequirementError(
                problem,
                f"ip address add {segment.server}/{segment.network.prefixlen} dev INTERFACE",
            )
        wires.setdefault(interface, []).append(name)
    return wires
