"""What all services of one server share: the site, the leases, the files, and the events."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from sqlalchemy.exc import DBAPIError

from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.caller import Claims, verified, verified_over_ipv6
from daskel.core.boot.contact import Key
from daskel.core.boot.identity import by_address, settings_of
from daskel.core.boot.on_disk import OnDisk
from daskel.core.boot.segments import of_peer
from daskel.core.boot.wire import Wire
from daskel.core.content.bandwidth import Bandwidth
from daskel.core.content.computed import Files
from daskel.core.content.upload_rules import Uploads
from daskel.core.history.boots import Boot, History
from daskel.core.history.events import Addressed, Contested, Event, Malformed, Seen, Stage, Who
from daskel.core.history.once import Assignments, Once
from daskel.core.replies.answer import Answers
from daskel.core.replies.answer6 import Answers6
from daskel.core.replies.memory import Datagrams
from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.own_kernels import with_published
from daskel.core.site.private import INSIDE, inside
from daskel.service.bus import Bus
from daskel.service.clock import SYSTEM, Clock
from daskel.service.peers import Peers
from daskel.service.tunnel import Tunnel
from daskel.store.beats import Beat, StoreAwayError
from daskel.store.database import Store
from daskel.system.host.confined_open import FilesFolder
from daskel.system.host.neighbours import Neighbours
from daskel.system.host.wireguard import PROGRAM
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.publishing import PublishedFolder
from daskel.system.uploads import UploadsFolder

if TYPE_CHECKING:
    from daskel.store.shared_store import SharedStore

_log = logging.getLogger(__name__)
_LOBBY_PAUSE = 2.0  # seconds
_AHEAD, _PAUSES = 0.0005, 10  # seconds of work at once; how many times as long is rested
_CONTESTED_PAUSE, _MOST_CONTESTED = 60.0, 1000  # seconds; what is remembered
_TOGETHER, _BETWEEN = 10, 0.05  # boots written with one transaction; seconds between two
_LEASES_FIRST, _STILL = 10.0, 0.5  # seconds that boots wait at most; without a lease written
_COPY_PAUSE = 86400.0  # seconds between two copies of the store
_SWEEP_PAUSE = 3600.0  # seconds between two looks for boots that are too old
_MARGIN, _LEAST = 5, 10  # seconds: a clock may be that wrong; shorter promises are not given
_WRITE_LIMIT = 3.0  # seconds until a store that several servers share is given up
_COUNT_AGAIN, _BUSY = 5.0, 600.0  # seconds
_PREFIX = 10  # characters of an IPv6 address, about half of it
_MALFORMED_PAUSE = 10.0  # seconds between two log lines about malformed messages of one service


@dataclass
class Moving:
    """A file that is being sent, or received: then its size is 0."""

    who: Who
    path: str
    done: int  # bytes
    size: int  # bytes


def seat(who: Who, address: str) -> str:
    """Whose limit counts for somebody at an address: over IPv6 a machine can have any number of
    addresses."""
    return who.mac or address[:_PREFIX] if ":" in address else address


def _say_failure(written: Future[Any]) -> None:
    error = written.exception()
    if error is not None:
        _log.warning("an assignment or a lease could not be kept: %s", error)


class Shared:
    """One for all services of a server; everything but the store runs in the event loop."""

    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self,
        site: Site,
        store: Store | SharedStore,
        files: FilesFolder,
        published: PublishedFolder,
        uploads: Path,
        wire: Wire,
        emit: Callable[[Event, Stage | None], None],
        clock: Clock = SYSTEM,
    ) -> None:
        self.files, self.wire, self._emit, self.clock = files, wire, emit, clock
        self.published = published
        self._store = store
        self.away = ""  # why the store does not answer
        self.away_since = 0.0  # seconds since 1970
        self.peers: Peers | None = None
        self.tunnel: Tunnel | None = None
        self._once_changed, self._once_pending = 0.0, 0
        self._once_unwritten: dict[str, Sequence[Once]] = {}  # by client
        self.homes_changed: Callable[[], None] = lambda: None  # others begin with fresh slates here
        self._counted = float("-inf")
        self.bus = Bus()
        self.uploads = UploadsFolder(uploads)
        self.bandwidth: dict[str, Bandwidth] = {}  # by segment
        self.history = History(store.numbers())
        self._before = store.last_boots()  # numbers of boots from before our start
        self.lobby = store.lobby()
        self.once = Assignments(site, store.once())
        self.leases: Leases = store.load()
        self._on_disk = OnDisk(self.leases.all())
        self._other_site = asyncio.Event()
        self._several = cast("SharedStore", store) if store.is_shared else None
        if self._several:
            self.peers = Peers(self._several, clock, self._changed, self._lost)
            self._steady = self._several.clock() - clock.monotonic()
        else:
            self._steady = max(clock.now(), store.latest()) - clock.monotonic()
        self.use(site)
        self._writer = ThreadPoolExecutor(max_workers=1, thread_name_prefix="store")
        self._leased = float("-inf")  # when leases were written last
        self._malformed: dict[str, tuple[int, str, float]] = {}
        self.interfaces: Mapping[str, str] = {}  # of this machine, by the segment on its wire
        self._claims, self._neighbours = Claims(), Neighbours(clock)
        self._contested: dict[Contested, float] = {}  # when it was said

    def use(self, site: Site) -> None:
        """Answer from `site` from now on; leases, transfers and connections go on."""
        if self.peers:
            self.peers.use(replace(site, elsewhere=frozenset()))
            site = replace(site, elsewhere=self.peers.begin_anew())
        self.once.use(site)
        self.site = site
        self.site6 = over_ipv6(site)
        self.computed = Files(site, self.wire.ports, self.once.assigned)
        self._computed6 = (
            Files(self.site6, self.wire.ports, self.once.assigned)
            if self.site6.segments
            else self.computed
        )
        self._say_away()
        self.written = Uploads(site)
        limits = {n: s.bandwidth for n, s in site.segments.items() if s.bandwidth}
        was = self.bandwidth
        self.bandwidth = {
            name: was[name] if name in was and was[name].rate == rate else Bandwidth(rate)
            for name, rate in limits.items()
        }
        self.answers = Answers(site, self.leases, self.wire.ports, self.once.assigned)
        self.datagrams = Datagrams(self.answers)
        self.site_inside = inside(site)
        self._computed_inside = (
            Files(self.site_inside, self.wire.ports, self.once.assigned)
            if self.site_inside.segments
            else self.computed
        )
        if self.tunnel:
            self.tunnel.use(site)
        self.answers6 = Answers6(self.site6, self.leases, self.wire.ports, self.once.assigned)
        self._other_site.set()
        self.known = {bytes.fromhex(mac.replace(":", "")) for mac in site.by_mac}

    def slate_is_on(self, root: str, client: str, version: int | None) -> None:
        """The version that a client's slate stays on; None when it stays on none."""
        if self._several and self.peers and client not in self.peers.homes:
            claimed = self._writer.submit(self._several.claim_homes, [client])
            claimed.add_done_callback(_say_failure)
        if self.once.slate(root, client, version):
            self.datagrams = Datagrams(self.answers)  # option 17 names the version

    def read_published(self) -> None:
        """What roots boot with has changed: boots that begin get it."""
        try:
            self.use(with_published(self.site, self.published.read()))
        except MissingRequirementError as error:
            _log.warning("%s; %s", error.problem, error.remedy)

    def emit(self, event: Event) -> None:
        """Something happened: remember what must be, and tell whoever listens."""
        if event.who.name is None and isinstance(event, Seen):
            self.lobby.see(event, self.clock.now())
        changed = self.once.happened(event)
        if changed is not None and event.who.name:
            self._keep_once(event.who.name, changed)
        self.bus.tell(event)
        self._emit(event, self._stage(event))

    def _keep_once(self, client: str, assigned: Sequence[Once]) -> None:
        self._once_unwritten[client] = assigned
        self._write_once(client)

    def _write_once(self, client: str) -> None:
        assigned = self._once_unwritten[client]
        self._once_pending += 1
        written = self._writer.submit(self._store.keep_once, client, assigned)
        written.add_done_callback(_say_failure)
        loop = asyncio.get_running_loop()
        written.add_done_callback(
            lambda done: loop.call_soon_threadsafe(self._once_is_kept, client, assigned, done)
        )

    def _once_is_kept(self, client: str, assigned: Sequence[Once], written: Future[None]) -> None:
        self._once_pending -= 1
        self._once_changed = self.clock.monotonic()
        if written.exception() is None and self._once_unwritten.get(client) is assigned:
            del self._once_unwritten[client]

    def lease_time(self) -> float:
        """The time that leases go by, in seconds since 1970 as it was at the start: a clock that is
        set while the server runs ends nobody's lease, and one that lost its time makes none
        longer."""
        return self._steady + self.clock.monotonic()

    def _stage(self, event: Event) -> Stage | None:
        """How far its machine has come with it."""
        who, now = event.who, self.clock.now()
        number = self._before.pop(who.mac, None) if self._before and who.mac else None
        starts = isinstance(event, Seen) and event.firmware
        if number is not None and who.name and not starts and (boot := self._store.boot(number)):
            self.history.go_on(boot)  # it has been running since before our start
        boot = self.history.happened(now, event)
        return boot.stage if boot else None

    def assign_once(self, client: str, boot: str | None) -> None:
        """The next boot of a client, or no longer. A store that is a file has it already."""
        self.once.set(client, boot)
        if self.peers:
            self._keep_once(client, [Once(client, boot)] if boot else [])

    def forget(self, macs: Collection[str]) -> None:
        """Machines that the lobby need not remember. A store that is a file forgets them by
        itself."""
        self.lobby.forget(macs)
        if self.peers:
            written = self._writer.submit(self._store.keep_sightings, [], macs)
            written.add_done_callback(_say_failure)

    # --- several servers ---

    def _changed(self, beat: Beat) -> None:
        """The store answers, and other servers have changed something."""
        now = self.clock.monotonic()
        if self.away:
            seconds = self.clock.now() - self.away_since
            _log.warning("the store answers again, after %.0f s", seconds)
            self.away = ""
            self._say_away()
        self._steady = beat.now - now
        assert self.peers
        if now - self._counted > _COUNT_AGAIN:
            self._counted, since = now, self.clock.now() - _BUSY
            heard = sum(boot.last > since for boot in self.history.current.values() if boot.client)
            self.peers.told = replace(self.peers.told, clients=heard)
        for lease in beat.leases:
            self._learn(lease)
        self.look_at_homes()
        if self._once_pending:
            return
        if self._once_unwritten:  # used up while the store was away
            for client in self._once_unwritten:
                self._write_once(client)
        elif now - self._once_changed > 2 * beat.took + 0.1:
            self.once.learn(beat.once)

    def look_at_homes(self) -> None:
        """Whose kept slates other servers have may have changed."""
        if self.peers and self.site.elsewhere != self.peers.begin_anew():
            self.use(self.site)
            self.homes_changed()

    def _learn(self, lease: Lease) -> None:
        """What the store has of an address, where another server wrote it."""
        self._on_disk.learn(lease)
        held = self.leases.at(lease.address)
        if not (
            held
            and (held.mac, held.state) == (lease.mac, lease.state)
            and held.expires >= lease.expires
        ):
            self.leases.put(lease)

    def _lost(self, reason: str) -> None:
        """The store does not answer."""
        if not self.away:
            self.away_since = self.clock.now()
            _log.warning(
                "the store does not answer (%s): machines that have an address go on, others wait",
                reason,
            )
        self.away = reason
        self._say_away()

    def _say_away(self) -> None:
        """On the screens of machines in the lobby."""
        self.computed.away = self._computed6.away = bool(self.away)

    async def rows(self, table: str, **which: Any) -> list[dict[str, Any]]:
        """See `SharedStore.rows`. Raises ValueError where the store is a file, or away."""
        if not self._several:
            raise ValueError("the store is a file")
        try:
            return await asyncio.to_thread(self._several.rows, table, **which)
        except StoreAwayError as error:
            raise ValueError(error.problem) from None
        except KeyError:
            raise ValueError(f"there is no table {table!r}") from None

    def can_wait(self, lease: Lease) -> bool:
        """Whether a machine has this address for a while, whatever others do."""
        return self._on_disk.left(lease, self.lease_time()) > _MARGIN + _LEAST

    def lent(self, leases: Sequence[Lease]) -> int:
        """Seconds for which a machine can be told that it has these while the store is away: what
        is left of its promise; 0 where that is too short. They are remembered that long."""
        now = self.lease_time()
        if not leases or any(lease.state is not LeaseState.BOUND for lease in leases):
            return 0
        left = min(self._on_disk.left(lease, now) for lease in leases) - _MARGIN
        seconds = int(min(left, *(lease.expires - now for lease in leases)))
        if seconds < _LEAST:
            return 0
        for lease in leases:
            self.leases.put(lease._replace(expires=now + seconds))
        return seconds

    def open_tunnel(self, secret: Path) -> None:
        """What private roots come through. Raises MissingRequirementError."""
        self.tunnel = Tunnel(self.site, secret, self._store.keys(), self.clock, self._keep_key)
        now = self.lease_time()
        held = [lease for lease in self.leases.held(now) if lease.address.version == 4]
        outside = {n: str(c.address) for n, c in self.site.clients.items() if c.address}
        if self._several:
            self.tunnel.look = self._store.keys
        names = {self.site.by_mac.get(lease.mac): str(lease.address) for lease in held}
        self.tunnel.begin(outside | {name: where for name, where in names.items() if name})
        self.bus.listen(Addressed, self.tunnel.has_address)
        if self.tunnel.kind == PROGRAM:
            _log.warning("the kernel has no WireGuard: private roots come by %s, which takes far "
                         "more of the processor", PROGRAM)  # fmt: skip

    def _keep_key(self, client: str, key: Key | None) -> None:
        """It is on disk when this returns. Raises ValueError."""
        if self.away:
            raise ValueError(f"the key of {client} cannot be kept: the store does not answer")
        try:
            self._writer.submit(self._store.keep_key, client, key).result(_WRITE_LIMIT)
        except (DBAPIError, TimeoutError, MissingRequirementError) as error:
            raise ValueError(f"the key of {client} cannot be kept: {error}") from None

    async def keep_lobby(self) -> None:
        """Writes what was seen every two seconds, however much it is."""
        loop = asyncio.get_running_loop()
        while True:
            await self.clock.sleep(_LOBBY_PAUSE)
            if self.away:
                continue
            admitted = [s.mac for s in self.lobby if s.mac in self.site.by_mac]
            self.lobby.forget(admitted)
            seen = self.lobby.unkept()
            if seen or admitted:
                keep = self._store.keep_sightings
                try:
                    await loop.run_in_executor(self._writer, keep, seen, admitted)
                except Exception:  # a full disk must not end the services  # noqa: BLE001 - a fault of ours ends nothing else
                    _log.exception("the lobby could not be kept")

    async def look_ahead(self) -> None:
        """Works out what the site says about each of its clients, a little at a time, so that a
        machine that asks for the first time need not wait for that."""
        while True:
            self._other_site.clear()
            site, began = self.site, self.clock.monotonic()
            for name, client in site.clients.items():
                segment = segment_name(site, client)
                if segment in site.served:
                    self._look_at(site, Who(name, client.mac), str(segment))
                if self.clock.monotonic() - began > _AHEAD:
                    await self.clock.sleep(_AHEAD * _PAUSES)
                    began = self.clock.monotonic()
                    if site is not self.site:
                        break
            await self._other_site.wait()

    def _look_at(self, site: Site, who: Who, segment: str) -> None:
        try:
            settings_of(site, who, segment, assigned=self.once.assigned)
        except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("what the site says about %s could not be worked out", who)

    async def keep_boots(self) -> None:
        """Writes what happened every two seconds, a few boots at a time and with a pause between,
        so that leases need not wait for them; forgets what is older than the site says."""
        swept = copied = float("-inf")
        while True:
            if self.clock.monotonic() - copied > _COPY_PAUSE:
                copied = self.clock.monotonic()
                await self._copy()
            await self.clock.sleep(_LOBBY_PAUSE)
            if self.away:
                continue
            until = self.clock.monotonic() + _LEASES_FIRST
            while boots := await self._changed_boots(until):
                await self._write_boots(boots, None)
                await self.clock.sleep(_BETWEEN)
            if self.clock.monotonic() - swept > _SWEEP_PAUSE:
                swept = self.clock.monotonic()
                await self._write_boots([], self.clock.now() - self.site.settings.keep_boots)

    async def _changed_boots(self, until: float) -> list[Boot]:
        """Some of them, when leases are not written just now, or it is `until`."""
        while (now := self.clock.monotonic()) < until and now - self._leased < _STILL:
            await self.clock.sleep(_STILL / 5)
        return self.history.changed(self.clock.now(), _TOGETHER)

    async def _copy(self) -> None:
        """What `daskel store restore` goes back to: from each start, and each day."""
        try:
            await asyncio.get_running_loop().run_in_executor(self._writer, self._store.copy)
        except (MissingRequirementError, OSError) as error:
            _log.warning("no copy of the store could be kept: %s", error)

    async def _write_boots(self, boots: Sequence[Boot], before: float | None) -> None:
        loop, keep = asyncio.get_running_loop(), self._store.keep_boots
        try:  # what has begun is written, also when the server ends meanwhile
            await asyncio.shield(loop.run_in_executor(self._writer, keep, boots, before))
        except Exception:  # a full disk must not end the services  # noqa: BLE001 - a fault of ours ends nothing else
            _log.exception("boots could not be kept")

    def is_kept(self, leases: Sequence[Lease]) -> bool:
        """Whether all of these are on disk already."""
        return all(map(self._on_disk.covers, leases))

    async def keep(self, leases: Sequence[Lease]) -> Collection[IPv4Address]:
        """Returns when the leases are on disk; other services go on meanwhile. The addresses that
        another server gave away meanwhile: those are not. Raises StoreAwayError."""
        if not leases:
            return ()
        if self.away:
            raise StoreAwayError(self.away)
        self._leased = self.clock.monotonic()
        now = self.lease_time()
        rows, loop = self._on_disk.rows(leases, now), asyncio.get_running_loop()
        writing = loop.run_in_executor(self._writer, self._store.keep, rows, now)
        if self._several:
            await asyncio.wait([writing], timeout=_WRITE_LIMIT)
            if not writing.done():
                self._several.cut()
        try:
            found = await writing
        except StoreAwayError as error:
            self._lost(error.why)
            raise
        refused = {lease.address for lease in found}
        self._on_disk.written([row for row in rows if row.address not in refused])
        for lease in found:
            self._on_disk.learn(lease)
            self.leases.put(lease)
        return refused | await self._not_at_home(leases)

    async def _not_at_home(self, leases: Sequence[Lease]) -> set[IPv4Address]:
        """The addresses of machines whose slates another server has claimed just now. Raises
        StoreAwayError."""
        store, peers = self._several, self.peers
        names = peers.homeless(lease.mac for lease in leases) if peers else []
        if not names or not peers or not store:
            return set()
        loop = asyncio.get_running_loop()
        homes = await loop.run_in_executor(self._writer, store.claim_homes, names)
        peers.homes.update(homes)
        gone = {self.site.clients[n].mac for n, at in homes.items() if at.server != store.server}
        return {lease.address for lease in leases if lease.mac in gone}

    def caller(self, server: IPv4Address, peer: str) -> tuple[str, Who]:
        """The segment and the machine that reached `server` from the address of a socket."""
        address, now = self.wire.inside(server, peer), self.lease_time()
        if self.tunnel and server == self.tunnel.server:  # nobody has another's address there
            return INSIDE, by_address(self.site_inside, Leases(), address, now)
        six = server.version != 4
        site = self.site6 if six else self.site
        segment = of_peer(site, server, address)
        interface = self.interfaces.get(segment)
        if interface is None or address not in site.segments[segment].network:
            return segment, by_address(site, self.leases, address, now)  # all that is known
        hardware = self._neighbours.hardware(interface, address)
        if six:
            found = verified_over_ipv6(site, self.leases, segment, address, hardware, now)
        else:
            found = verified(site, self.leases, self._claims, segment, address, hardware, now)
        if found.lease:
            self._believe(found.lease)
        if found.contested:
            self._contest(found.contested)
        return segment, found.who

    def site_of(self, who: Who) -> Site:
        """The site as it is for somebody who came over IPv4, over IPv6, or by the tunnel."""
        rules = self.site.settings.private
        if self.tunnel and rules and who.address and who.address in rules.network:
            return self.site_inside
        return self.site6 if who.address and who.address.version != 4 else self.site

    def computed_for(self, who: Who) -> Files:
        """The files that are computed, for the same."""
        site = self.site_of(who)
        if site is self.site_inside:
            return self._computed_inside
        return self.computed if site is self.site else self._computed6

    def claimed(self, lease: Lease) -> None:
        """A machine asked another DHCP server for an address: it counts when the wire confirms it;
        where there is no wire of this machine's, at once."""
        if lease.segment in self.interfaces:
            self._claims.put(lease)
        else:
            self._believe(lease)

    def _believe(self, lease: Lease) -> None:
        """Nothing is answered that depends on it being on disk."""
        self.leases.put(lease)
        rows = self._on_disk.rows([lease], self.lease_time())
        written = self._writer.submit(self._store.keep, rows)
        written.add_done_callback(_say_failure)

    def _contest(self, event: Contested) -> None:
        """The same once a minute."""
        now = self.clock.monotonic()
        if now - self._contested.get(event, float("-inf")) < _CONTESTED_PAUSE:
            return
        if len(self._contested) >= _MOST_CONTESTED:
            self._contested.clear()
        self._contested[event] = now
        self.emit(event)

    def malformed(self, service: str, reason: str) -> None:
        """Count it, and say so at once the first time, then every ten seconds at most."""
        count, _, said = self._malformed.get(service, (0, "", float("-inf")))
        self._malformed[service] = (count + 1, reason, said)
        if self.clock.monotonic() - said >= _MALFORMED_PAUSE:
            self.say_malformed(service)

    def say_malformed(self, service: str | None = None) -> None:
        """Say what was counted and not said yet, of one service or of all."""
        for name, (count, reason, _) in list(self._malformed.items()):
            if count and service in (None, name):
                self.emit(Malformed(Who(), name, count, reason))
                self._malformed[name] = (0, "", self.clock.monotonic())

    def close(self) -> None:
        """Write what is not kept yet, and close the store."""
        self.say_malformed()
        self._writer.shutdown()
        with suppress(DBAPIError):  # leases matter; a boot that is not kept does not
            self._store.keep_boots(self.history.changed())
        if self.peers:
            self.peers.close()
        self._store.close()
        self.files.close()
