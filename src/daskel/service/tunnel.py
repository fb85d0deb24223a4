"""The tunnel that private roots come through: whose key is admitted, and where its machine is."""

from __future__ import annotations

import asyncio
import json
import logging
import secrets
import socket
import subprocess
import sys
from base64 import b64decode, b64encode
from collections.abc import Callable, Mapping
from dataclasses import replace
from ipaddress import IPv6Address
from pathlib import Path
from typing import Any

from sqlalchemy.exc import DBAPIError

from daskel.core.boot.contact import Contact, ContactError, Contacts, Key
from daskel.core.history.events import Addressed, Who
from daskel.core.site.model import Site
from daskel.core.site.private import INSIDE, inner_address, private_clients
from daskel.service.clock import Clock
from daskel.system.requirements import MissingRequirementError

_AGAIN = 2.0  # seconds until a peer is replaced once more
_START, _PATIENCE = 120.0, 15.0  # seconds until it has begun, on slow machines; for one answer
_AT_ONCE = 100  # peers in one question
_LOOK = 10.0  # seconds between two looks at handshakes
_LOOK_ELSEWHERE = 2.0  # and at what other servers admitted
_RUNS = 180.0 + _LOOK  # seconds: nobody's tunnel goes on for longer without another handshake
_log = logging.getLogger(__name__)

State = dict[str, Any]


def contact_answer(
    tunnel: Tunnel | None, what: str, segment: str, who: Who, said: Mapping[str, str]
) -> dict[str, str]:
    """What a machine is told that asks outside of the tunnel. Raises ContactError."""
    if tunnel is None:
        raise ContactError("this server has no tunnel")
    server = b64encode(tunnel.public).decode()
    if what == "known":
        if segment != INSIDE:
            tunnel.asks(who)
        more = tunnel.told_next(who, said) if segment == INSIDE else tunnel.told_place(who)
        return {"state": tunnel.state(who, _key(said)), "server": server, **more}
    if segment == INSIDE:
        raise ContactError("it is admitted")
    if what == "contact":
        commitment = said.get("commitment", "")
        made = tunnel.contact(who, segment, commitment, said.get("place", ""))
        return {"id": made.id, "nonce": made.nonce, "server": server}
    if what == "key":
        tunnel.told_key(who, said.get("id", ""), _key(said), said.get("seal", ""))
        return {"state": "waiting"}
    raise ContactError("nothing is asked like that")


def _key(said: Mapping[str, str]) -> bytes:
    try:
        return b64decode(said.get("key", ""), validate=True)
    except ValueError:
        raise ContactError("the key is not in base64") from None


class Tunnel:
    """Its interface is there when this returns. `keep`: writes a client's key, or that it has none.
    Raises MissingRequirementError."""

    def __init__(
        self, site: Site, secret: Path, keys: list[Key], clock: Clock,
        keep: Callable[[str, Key | None], None],
    ) -> None:  # fmt: skip
        assert site.settings.private
        self._site, self._clock, self._keep = site, clock, keep
        self._keys = {key.client: key for key in keys}
        self.look: Callable[[], list[Key]] | None = None  # what other servers admit and revoke, too
        self._changes = self._asked = 0
        self._port = site.settings.private.port
        ours, theirs = socket.socketpair()
        command = [sys.executable, "-m", "daskel.service.tunnel_keeper", str(theirs.fileno())]
        self._process = subprocess.Popen(
            command, pass_fds=[theirs.fileno()], start_new_session=True, stdin=subprocess.DEVNULL
        )
        theirs.close()
        ours.settimeout(_START)
        self._sock, self._waiting = ours, b""
        self._outside: dict[str, tuple[str, int]] = {}  # where a client is, by name
        self._replaced: dict[str, float] = {}
        self._states: dict[str, State] = {}  # by public key
        rules = site.settings.private
        self.server: IPv6Address = rules.network[1]
        told = self._ask(
            "open", secret=str(secret), interface=rules.interface, port=rules.port,
            address=f"{self.server}/{rules.network.prefixlen}",
        )  # fmt: skip
        ours.settimeout(_PATIENCE)
        self.public, self.kind = b64decode(told["public"]), str(told["kind"])
        self._next = str(told["next"])  # in base64; empty: no other is to come
        self._contacts = Contacts(self.public)

    @property
    def interface(self) -> str:
        """What services of private roots are bound to."""
        assert self._site.settings.private
        return self._site.settings.private.interface

    def use(self, site: Site) -> None:
        """Another site file: keys of clients that are gone are not heard any more."""
        before = {key.client for key in self._keys.values() if self._counts(key)}
        self._site = site
        counts = [key for key in self._keys.values() if self._counts(key)]
        for key in self._keys.values():
            if key.client in before and key not in counts:
                self._remove(key)
        self._replace([key for key in counts if key.client not in before])

    def _ask(self, what: str, **more: object) -> dict[str, Any]:
        """Raises MissingRequirementError."""
        self._asked += 1
        answer: dict[str, Any] = {"error": "the tunnel's process does not answer"}
        try:
            asked = {"do": what, "number": self._asked, **more}
            self._sock.sendall(json.dumps(asked).encode() + b"\n")
            while line := self._line():
                found = json.loads(line)
                if found["number"] == self._asked:  # else an answer that came too late
                    answer = found
                    break
        except OSError:
            pass
        if "error" in answer:
            remedy = str(answer.get("remedy", "start daskel serve again"))
            raise MissingRequirementError(str(answer["error"]), remedy)
        return dict(answer)

    def _line(self) -> bytes:
        """The next one; empty when its process has ended. Raises OSError after a while."""
        while b"\n" not in self._waiting:
            piece = self._sock.recv(1 << 16)
            if not piece:
                return b""
            self._waiting += piece
        line, _, self._waiting = self._waiting.partition(b"\n")
        return line

    # --- peers ---

    def begin(self, outside: dict[str, str]) -> None:
        """All clients whose key is admitted, with the addresses that they have, by name."""
        for name, address in outside.items():
            if (key := self._keys.get(name)) and self._is_at(key):
                self._outside[name] = address, self._port
        self._replace([key for key in self._keys.values() if self._counts(key)])

    def _counts(self, key: Key) -> bool:
        """It is of the machine that the site means."""
        client = self._site.clients.get(key.client)
        return client is not None and client.mac == key.mac

    def _remove(self, key: Key) -> None:
        try:
            self._ask("remove", public=key.public)
        except MissingRequirementError as error:
            _log.warning("%s; %s", error.problem, error.remedy)

    def _replace(self, keys: list[Key]) -> None:
        if not keys:
            return
        peers = [
            (key.public, str(inner_address(self._site, key.mac)), self._outside.get(key.client))
            for key in keys
        ]
        try:
            for first in range(0, len(peers), _AT_ONCE):
                self._ask("replace", peers=peers[first : first + _AT_ONCE])
        except MissingRequirementError as error:
            _log.warning("%s; %s", error.problem, error.remedy)

    def has_address(self, event: Addressed) -> None:
        """A machine begins, and has an address: what it was before does not matter any more."""
        if event.firmware:  # a system that runs renews its lease, and goes on
            self._is_here(event.who.name, str(event.address))

    def _is_here(self, name: str | None, address: str) -> Key | None:
        """Its key, unless it was here just now: anybody can ask in its name."""
        key, now = self._keys.get(name or ""), self._clock.monotonic()
        if name is None or key is None or not self._counts(key):
            return None
        self._outside[name] = address, self._port
        if now - self._replaced.get(name, float("-inf")) < _AGAIN:
            return None
        self._replaced[name] = now
        self._replace([key])
        return key

    # --- first contact ---

    def state(self, who: Who, public: bytes) -> str:
        """What is known of a machine's key."""
        key = self._keys.get(who.name or "")
        if key and key.public == public.hex() and self._counts(key):
            return "admitted"
        now = self._clock.monotonic()
        waits = any(c.client == who.name and c.key == public for c in self._contacts.waiting(now))
        return "waiting" if waits else "unknown"

    def asks(self, who: Who) -> None:
        """A machine asks outside, whoever gave its address: it is at this server from now on."""
        if (key := self._is_here(who.name, str(who.address))) and not self._is_at(key):
            self._note(replace(key, at=self._site.own or ""))

    def told_place(self, who: Who) -> dict[str, str]:
        """What a client needs to know again that keeps nothing itself."""
        key = self._keys.get(who.name or "")
        return {"place": key.place, "seal": key.seal} if key and key.seal else {}

    def told_next(self, who: Who, said: Mapping[str, str]) -> dict[str, str]:
        """What a client is told through the tunnel, that knows the server's next key already, or
        does not."""
        key = self._keys.get(who.name or "")
        if key is None or key.seal:
            return {}
        knows = self._next if self._next and said.get("next") == self._next else ""
        server = b64decode(knows).hex() if knows else self.public.hex()
        if key.server != server:
            self._note(replace(key, server=server))
        return {"next": self._next}

    def renewal(self, *, finish: bool) -> dict[str, list[str]]:
        """Another key of the server: clients are told it as they come; to `finish` is to have it
        from now on. Raises ValueError, MissingRequirementError."""
        if not self._next:
            if finish:
                raise ValueError("no other key was made: daskel keys renew comes before it")
            self._next = str(self._ask("renew")["next"])
        counts = [key for key in self._keys.values() if self._counts(key)]
        found = {"know": [key.client for key in counts if self._which(key) == "next"],
                 "lack": [key.client for key in counts if self._which(key) != "next"],
                 "run": [key.client for key in counts if self._runs(key)]}  # fmt: skip
        if finish:
            self.public = b64decode(self._ask("finish")["public"])
            self._next = ""
            self._contacts = Contacts(self.public)
            self._replace(counts)
        return found

    def _which(self, key: Key) -> str:
        if self._next and key.server == b64decode(self._next).hex():
            return "next"
        return "now" if key.server in ("", self.public.hex()) else "before"

    def _runs(self, key: Key) -> bool:
        at = self._states.get(key.public, {}).get("handshake", 0.0)
        return bool(self._clock.now() - at < _RUNS)

    def contact(self, who: Who, segment: str, commitment: str, place: str) -> Contact:
        """A machine has committed itself to a key. Raises ContactError."""
        if who.name is None or who.mac is None:  # others may be assigned a private root for once
            raise ContactError("it is not a client of this site")
        id_, nonce = secrets.token_hex(8), secrets.token_hex(16)
        now = self._clock.monotonic()
        made = Contact(id_, who.name, who.mac, segment, commitment, place, nonce, now)
        self._contacts.begin(made)
        return made

    def told_key(self, who: Who, id_: str, public: bytes, seal: str) -> Contact:
        """It has told its key. Raises ContactError."""
        self._must_be_its_own(who.name, public)
        now = self._clock.monotonic()
        told = self._contacts.told(id_, str(who.mac), public, now, seal)
        self._outside[told.client] = str(who.address), self._port
        return told

    def _must_be_its_own(self, client: str | None, public: bytes) -> None:
        for other in self._keys.values():
            if other.public == public.hex() and other.client != client:
                raise ContactError(f"this key is {other.client}'s: a medium of that one?")

    def waiting(self) -> list[Contact]:
        """Who waits to be admitted."""
        return list(self._contacts.waiting(self._clock.monotonic()))

    def admit(self, client: str, word: str) -> Key:
        """The machine shows this word. Raises ValueError."""
        found = next((c for c in self.waiting() if c.client == client), None)
        if found is None:
            raise ValueError(f"{client} does not wait with a key")
        if not secrets.compare_digest(found.word, word.upper().replace("-", "")):
            raise ValueError(f"{client} waits with another word: somebody may be between")
        self._must_be_its_own(client, found.key)
        now, server = self._clock.now(), self.public.hex()
        at = self._site.own or ""
        key = Key(client, found.mac, found.key.hex(), found.place, now, server, at, found.seal)
        before = self._keys.get(client)
        self._admitted(key)
        if before:
            self._remove(before)
        self._contacts.over(found)
        self._replace([key])
        return key

    def revoke(self, client: str) -> None:
        """Its key is not heard any more. Raises ValueError."""
        key = self._keys.get(client)
        if key is None:
            raise ValueError(f"{client} has no key")
        self._changes += 1
        self._keep(client, None)
        self._remove(key)
        del self._keys[client]

    def _admitted(self, key: Key) -> None:
        self._changes += 1
        self._keep(key.client, key)
        self._keys[key.client] = key

    def _note(self, key: Key) -> None:
        """What is new of a key; a machine is not kept waiting for the store."""
        try:
            self._admitted(key)
        except ValueError as error:
            _log.warning("%s", error)

    def _learn(self, keys: list[Key]) -> None:
        """What is in the store that other servers write, too."""
        found = {key.client: key for key in keys}
        before, self._keys = self._keys, found
        for key in before.values():
            if key.client not in found or found[key.client].public != key.public:
                self._remove(key)
        changed = []
        for key in keys:
            old = before.get(key.client)
            left = not self._is_at(key) and key.client in self._outside
            if left:
                del self._outside[key.client]
            if self._counts(key) and (left or old is None or old.public != key.public):
                changed.append(key)
        self._replace(changed)

    def _is_at(self, key: Key) -> bool:
        """Of several servers, which have one key, one alone begins with a machine: it would take
        its tunnel from another."""
        return not self.look or key.at == self._site.own

    def keys(self) -> list[State]:
        """All keys, with the last handshake of each in seconds since 1970, 0 for none."""
        return [
            {
                "client": key.client, "mac": key.mac, "place": key.place, "since": key.since,
                "public": key.public, "fits": self._counts(key),
                "server": self._which(key), "runs": self._runs(key),
                "handshake": self._states.get(key.public, {}).get("handshake", 0.0),
            }
            for key in self._keys.values()
        ]  # fmt: skip

    def counts(self) -> dict[str, int]:
        """How many clients with private roots there are, by what their keys are."""
        counts = [key for key in self._keys.values() if self._counts(key)]
        own = private_clients(self._site)
        return {
            "running": sum(map(self._runs, counts)),
            "admitted": len(counts),
            "waiting": len(self.waiting()),
            "without": len(own - {key.client for key in counts}),
        }

    async def serve(self) -> None:
        """Looks at handshakes now and then, until it is cancelled."""
        while True:
            try:
                states = self._ask("states")["states"]
            except MissingRequirementError as error:
                _log.warning("%s; %s", error.problem, error.remedy)
            else:
                self._states = {one["public"]: one for one in states}
            for _ in range(int(_LOOK / _LOOK_ELSEWHERE)):
                await self._clock.sleep(_LOOK_ELSEWHERE)
                if self.look:
                    await self._look_elsewhere(self.look)

    async def _look_elsewhere(self, look: Callable[[], list[Key]]) -> None:
        changes = self._changes
        try:
            keys = await asyncio.to_thread(look)
        except (DBAPIError, MissingRequirementError):
            return  # the store is away, which is said
        if changes == self._changes:
            self._learn(keys)

    def close(self) -> None:
        """End the process; the interface stays."""
        self._sock.close()
        self._process.wait()
