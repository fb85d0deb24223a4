"""The other servers of a site: who of them is alive, and what they have changed, every half second
by way of the store that they share."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from ipaddress import IPv4Address, IPv6Address
from typing import TYPE_CHECKING

from daskel.core.boot.turns import Turns
from daskel.core.dhcp.client_messages import LOOK
from daskel.core.dhcp.packet import MessageType, kind_and_server
from daskel.core.history.boots import Boot
from daskel.core.history.events import Event, Refusal, Refused, Seen
from daskel.core.site.model import Site
from daskel.core.site.several import peers
from daskel.core.site.slate_rules import keeps_slates
from daskel.core.values import mac_text
from daskel.service.clock import Clock
from daskel.store.beats import (
    Applied,
    Beat,
    Home,
    NameTakenError,
    ServerRow,
    StoreAwayError,
    Told,
)
from daskel.system.requirements import MissingRequirementError

if TYPE_CHECKING:
    from daskel.store.shared_store import SharedStore

_PAUSE = 0.5  # seconds between two beats
_WATCHED, _LOOK_AGAIN = 30.0, 2.0  # seconds that boots elsewhere are looked at; between looks
_LATE, _RECENT = 30.0, 86400.0  # seconds: clocks may differ; what is shown
_LIMIT, _FOLLOW = 3.0, 5.0  # seconds that one may take; in which others follow
_CHADDR, _XID, _CIADDR, _GIADDR = slice(28, 34), slice(4, 8), slice(12, 16), slice(24, 28)
_NOWHERE, _LOOK = bytes(4), LOOK.to_bytes(4, "big")
NO_PROMISE = (
    "the store of the site does not answer, and no address can be promised meanwhile",
    Refusal.NO_STORE,
)
_log = logging.getLogger(__name__)


class Peers:
    """`changed` is told of each beat; `lost` of what keeps the database from answering."""

    def __init__(
        self, store: SharedStore, clock: Clock, changed: Callable[[Beat], None],
        lost: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._store, self._clock, self._changed, self._lost = store, clock, changed, lost
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="beats")
        self._turns = Turns(store.server)
        self._addresses: dict[bytes, str] = {}  # of the others, as they stand in messages
        self._said: dict[str, str] = {}  # by server: the site file that was said to be another one
        self.told = Told("", 0.0, {}, {}, "", 0)
        self.servers: Sequence[ServerRow] = ()
        self.held: Mapping[str, int] = {}  # addresses that machines have, by server
        self.homes: dict[str, Home] = {}  # of clients that keep slates
        self._site: Site | None = None
        self.follow: Callable[[Applied], None] | None = None  # another server's site file
        self._following: float | None = None  # when the last one was taken over
        self._texts: Mapping[str, str] | None = None  # to be written with the next beat
        self.elsewhere: dict[str, tuple[str, Boot]] = {}  # at other servers, by MAC address
        self._watched = self._looked = float("-inf")  # when somebody wanted to see them
        self._seen_until = 0.0

    def use(self, site: Site) -> None:
        """The servers of another site file."""
        self._site = site
        self._addresses = {
            address.packed: name for name, all_of in peers(site).items() for address in all_of
        }

    def tell(self, told: Told, texts: Mapping[str, str]) -> None:
        """Which site file this server has from now on."""
        self.told, self._texts = told, texts

    def watch(self) -> Mapping[str, tuple[str, Boot]]:
        """The last boots of machines at other servers, with the server of each: what is known of
        them, and, for some seconds from now on, what is new."""
        self._watched = self._clock.monotonic()
        return self.elsewhere

    def _look_elsewhere(self) -> None:
        now = self._clock.monotonic()
        if now - self._watched > _WATCHED or now - self._looked < _LOOK_AGAIN:
            return
        self._looked = now
        since = max(self._seen_until - _LATE, self._clock.now() - _RECENT)
        found, old = dict(self.elsewhere), self._clock.now() - _RECENT
        for server, boot in reversed(self._store.boots_elsewhere(since)):
            found[boot.mac] = server, boot
            self._seen_until = max(self._seen_until, boot.last)
        self.elsewhere = {mac: one for mac, one in found.items() if one[1].last > old}

    async def texts(self, server: str) -> dict[str, str]:
        """The site file of one of the servers. Raises ValueError."""
        try:
            found = await asyncio.to_thread(self._store.texts, server)
        except StoreAwayError as error:
            raise ValueError(error.problem) from None
        if not found:
            raise ValueError(f"there is no server {server}")
        return found

    @property
    def others(self) -> list[ServerRow]:
        """All servers but this one, as they were half a second ago."""
        return [one for one in self.servers if one.name != self._store.server]

    def has(self, address: IPv4Address | IPv6Address) -> bool:
        """It is one of the other servers'."""
        return address.packed in self._addresses

    def is_mine(self, data: bytes, *, unicast: bool) -> bool:
        """Whether this server is to look at a DHCP message."""
        if data[_XID] == _LOOK:
            return False  # another server looks who answers
        kind, server = kind_and_server(data)
        mac, number, now = data[_CHADDR], data[_XID], self._clock.monotonic()
        if server is not None:
            if server in self._addresses:
                self._turns.answered(mac, number, now)
            return True
        if kind not in (MessageType.DISCOVER, MessageType.REQUEST, MessageType.INFORM):
            return True
        if unicast and data[_CIADDR] != _NOWHERE and data[_GIADDR] == _NOWHERE:
            return True  # it renews what this server gave
        begins = kind == MessageType.DISCOVER
        return self._has_turn(mac, number, begins=begins)

    def _has_turn(self, mac: bytes, number: bytes, *, begins: bool) -> bool:
        """Who begins to boot, and has its slates somewhere, is answered there alone."""
        home = self._home(mac) if begins else None
        if home is not None and not home.target and self._is_alive(home.server):
            return home.server == self._store.server
        return self._turns.is_mine(mac, number, self._clock.monotonic())

    def _home(self, mac: bytes) -> Home | None:
        site = self._site
        if not self.homes or site is None:
            return None
        name = site.by_mac.get(mac_text(mac))
        home = self.homes.get(name) if name else None
        return home if home and name and keeps_slates(site, name) else None

    def _is_alive(self, server: str) -> bool:
        return server == self._store.server or any(
            one.name == server and one.alive for one in self.servers
        )

    def stranded(self, mac: bytes) -> tuple[str, Refusal] | None:
        """Why who begins to boot is to wait: the one server that has its slates is away, or they
        are being moved."""
        home, site = self._home(mac), self._site
        if home is None or site is None:
            return None
        if home.target:
            moving = f"its slates are being moved from {home.server} to {home.target}"
            return moving, Refusal.SLATE_MOVES
        if self._is_alive(home.server) or site.settings.keep_elsewhere == "fresh":
            return None
        return f"its slates are on the server {home.server}, which is away", Refusal.SLATE_AWAY

    def begin_anew(self) -> frozenset[str]:
        """The clients that begin with a fresh slate here: what they keep, another server has."""
        site, own = self._site, self._store.server
        if site is None or site.settings.keep_elsewhere != "fresh":
            return frozenset()
        return frozenset(name for name, home in self.homes.items() if home.server != own)

    def homeless(self, macs: Iterable[str]) -> list[str]:
        """Of these machines the clients that keep slates, and have them nowhere yet."""
        site = self._site
        if site is None:
            return []
        names = filter(None, map(site.by_mac.get, macs))
        return [name for name in names if name not in self.homes and keeps_slates(site, name)]

    def is_mine6(self, mac: str | None, xid: int, *, begins: bool) -> bool:
        """The same of a DHCPv6 message that names no server."""
        if mac is None:
            return True
        return self._has_turn(hardware(mac), xid.to_bytes(3, "big"), begins=begins)

    def is_mine_raw(self, mac: str, over: str) -> bool:
        """The same of a machine that asks everybody for a system in raw Ethernet frames."""
        return self._has_turn(hardware(mac), over.encode(), begins=False)

    async def serve(self) -> None:
        """Until it is cancelled. Raises MissingRequirementError when another process has this
        server's name."""
        while True:
            try:
                beat = await self._beat()
            except StoreAwayError as error:
                self._lost(error.why)
            except NameTakenError:
                problem = f"another process is the server {self._store.server} now"
                remedy = "start this one under its own name: daskel serve --as NAME"
                raise MissingRequirementError(problem, remedy) from None
            except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
                _log.exception("what other servers changed could not be read")
            else:
                self._heard(beat)
            await self._clock.sleep(_PAUSE)

    async def _beat(self) -> Beat:
        loop = asyncio.get_running_loop()
        texts, self._texts = self._texts, None
        beat = loop.run_in_executor(self._thread, self._exchange, texts)
        await asyncio.wait([beat], timeout=_LIMIT)
        if not beat.done():
            self._store.cut()
        try:
            return await beat
        except StoreAwayError:
            self._texts = self._texts or texts
            raise

    def _exchange(self, texts: Mapping[str, str] | None) -> Beat:
        if texts is not None:
            self._store.keep_texts(texts)
        self._look_elsewhere()
        return self._store.beat(self.told)

    def _heard(self, beat: Beat) -> None:
        self.servers, self.held = beat.servers, beat.held
        self.homes.update(beat.homes)
        self._turns.use([one.name for one in beat.servers if one.alive])
        self._changed(beat)
        for one in beat.servers:
            self._compare(one)
        applied, before = beat.applied, self._following
        self._following = applied.at if applied else 0.0
        if not applied or before is None or applied.at == before or not self.follow:
            return
        if applied.digest != self.told.digest:
            self.follow(applied)

    def _compare(self, one: ServerRow) -> None:
        """Say once that another server has another site file."""
        own = self.told.digest
        if one.name == self._store.server or not one.alive or not one.digest or not own:
            return
        if one.digest == own:
            self._said.pop(one.name, None)
        elif self._said.get(one.name) != one.digest + own:
            self._said[one.name] = one.digest + own
            newer = "an older" if one.written < self.told.written else "a newer"
            files = ", ".join(differing(self.told.texts, one.texts))
            _log.warning("server %s has %s site file than this one: %s", one.name, newer, files)

    async def move_home(self, client: str, home: Home) -> Home | None:
        """Where the slates of a client are from now on; where they were. Raises ValueError."""
        known = {one.name for one in self.servers}
        if missing := {home.server, home.target} - known - {""}:
            raise ValueError(f"there is no server {missing.pop()}")
        before = self.homes.get(client)
        try:
            await asyncio.to_thread(self._store.move_home, client, home)
        except StoreAwayError as error:
            raise ValueError(error.problem) from None
        self.homes[client] = home
        return before

    async def tell_applied(self) -> None:
        """This server has taken its site file over. Raises StoreAwayError."""
        loop = asyncio.get_running_loop()
        told = loop.run_in_executor(self._thread, self._store.apply, self.told.digest)
        await asyncio.wait([told], timeout=_LIMIT)
        if not told.done():
            self._store.cut()
        await told

    async def who_followed(self) -> dict[str, bool]:
        """By name, of the other servers that are alive: whether they have the same site file; some
        seconds after they were told."""
        until = self._clock.monotonic() + _FOLLOW
        while True:
            alive = [one for one in self.others if one.alive]
            found = {one.name: one.digest == self.told.digest for one in alive}
            if all(found.values()) or self._clock.monotonic() > until:
                return found
            await self._clock.sleep(_PAUSE / 2)

    def close(self) -> None:
        """Leave what is under way."""
        self._thread.shutdown(wait=False, cancel_futures=True)


def hardware(mac: str) -> bytes:
    """A MAC address as it stands in messages."""
    return bytes.fromhex(mac.replace(":", ""))


def refusing(events: Sequence[Event], words: str, why: Refusal) -> list[Event]:
    """What is told in the place of `events` when a machine that asks is to wait."""
    seen = next((event for event in events if isinstance(event, Seen)), None)
    if seen is None:
        return []
    return [replace(seen, offered=None), Refused(seen.who, seen.segment, words, why)]


def differing(mine: Mapping[str, str], theirs: Mapping[str, str]) -> list[str]:
    """The names of files that are not the same."""
    return [n for n in sorted({*mine, *theirs}) if mine.get(n) != theirs.get(n)]
