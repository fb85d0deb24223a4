"""The running server's own socket: a Unix socket with a line of JSON for each question and answer.

Everybody in the socket's group may ask what runs; changing needs the server's user or root.
"""

from __future__ import annotations

import asyncio
import gc
import hashlib
import json
import logging
import os
import socket
import struct
from collections import Counter
from collections.abc import Awaitable, Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from daskel.core.audit.diff import Change, differences
from daskel.core.formats import VERSION
from daskel.core.formats.notes import Note
from daskel.core.history.encoding import as_json
from daskel.core.history.events import DETAILS
from daskel.core.history.outcome import result
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.model import Site
from daskel.core.site.several import lacking
from daskel.core.site.toml import LETS_OTHERS_RUN, read_toml
from daskel.core.values import counted
from daskel.service.clock import Clock
from daskel.service.peers import differing
from daskel.service.server import Server
from daskel.service.tunnel import Tunnel
from daskel.service.watching import Watching
from daskel.store.beats import Applied, Home, StoreAwayError, Told
from daskel.system.bootloader import build_missing
from daskel.system.control_client import Answer
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.slates import is_slate_name
from daskel.system.site_check import load_checked
from daskel.system.sitefile import SiteFile, digests

_log = logging.getLogger(__name__)
_LINE = 65536  # bytes of a question
_ROWS_AT_ONCE = 20
_ROOTS_AGAIN = 10.0  # seconds between two looks at which versions of roots are here
_CREDENTIALS = struct.Struct("3i")  # process, user, group: unix(7), SO_PEERCRED


class Running:
    """The server, and the site file that it runs: what can be asked and changed."""

    def __init__(
        self, server: Server, file: SiteFile,
        note: Callable[[Note, str], None], taken_over: Callable[[Site], None],
    ) -> None:  # fmt: skip
        self.clock = self._clock = server.clock
        self._server, self._path = server, file.path.absolute()
        self._texts, self._note = file.texts, note
        self._watching = Watching(server.history, server.clock)
        self._taken_over = taken_over  # is told of a site that is another one from now on
        self._tasks: set[asyncio.Task[None]] = set()
        self._tell_peers(file)
        if server.peers:
            server.peers.follow = self._follow
        self._since = self._begun = self._clock.now()

    @property
    def _site(self) -> Site:
        return self._server.site

    async def renew(self) -> None:
        """A command has changed what roots boot with, or slates."""
        await self._server.look_again()

    async def tell_roots(self) -> None:
        """Which versions of roots are here, for the other servers, again and again."""
        while peers := self._server.peers:
            try:
                roots = await self._server.told_of_roots()
                peers.told = replace(peers.told, roots=roots)
            except Exception:  # noqa: BLE001 - a fault of ours ends nothing else
                _log.exception("which roots are here could not be told")
            await self._clock.sleep(_ROOTS_AGAIN)

    def watch(self, since: float) -> list[Answer]:
        """The machines to which something happened since then."""
        peers = self._server.peers
        return self._watching.rows(self._server.under_way, since, peers.watch() if peers else {})

    def events(self) -> list[list[object]]:
        """What happened last, with times."""
        recent = list(self._server.history.recent)
        shown = ((at, event) for at, event in recent if not isinstance(event, DETAILS))
        return [[at, as_json(event)] for at, event in shown]

    def boot(self, name: str) -> Answer:
        """The current boot of a client, whole."""
        peers = self._server.peers
        return self._watching.boot(name, peers.watch() if peers else {})

    def status(self) -> Answer:
        """What runs, since when, and how far its clients are."""
        boots = [b for b in self._server.history.current.values() if b.last >= self._begun]
        stages = {boot.client: boot.stage for boot in boots if boot.client}
        counts = Counter(stage.value for stage in stages.values())
        results = Counter(result(boot, self._clock.now()) for boot in boots if boot.client)
        on_disk = {path: _text(path.absolute()) for path in self._texts}
        away, tunnel = self._server.away, self._server.tunnel
        return {
            "interface": VERSION,
            "site": str(self._path),
            "name": self._site.settings.name,
            "since": self._since,
            "process": os.getpid(),
            "clients": len(self._site.clients),
            "segments": list(self._site.served),
            "stages": dict(counts),
            "by_client": {name: stage.value for name, stage in stages.items()},
            "results": dict(results),
            "transfers": len(self._server.under_way),
            "aside": [
                {"address": str(lease.address), "segment": lease.segment, "until": lease.expires}
                for lease in self._server.aside()
            ],
            "differs": on_disk != self._texts,
            "server": self._site.own,
            "away": {"since": away[1], "why": away[0]} if away else None,
            "private": {"by": tunnel.kind, **tunnel.counts()} if tunnel else None,
        }

    def servers(self) -> list[Answer]:
        """All servers of the site, as the store that they share has them."""
        peers = self._server.peers
        if peers is None:
            return []
        return [
            {
                "name": one.name, "alive": one.alive, "seen": self._clock.now() - one.age,
                "since": one.began, "version": one.version, "host": one.host,
                "clients": one.clients, "lag": one.lag, "written": one.written,
                "leases": self._server.held_by(one.name), "this": one.name == self._site.own,
                "site": one.site,
                "differs": differing(peers.told.texts, one.texts) if one.texts else [],
                "newer": one.written > peers.told.written,
                "lacks": [
                    {"root": root, "version": version, "how": how.value}
                    for root, version, how in lacking(peers.told.roots, one.roots)
                ] if one.texts else [],
            }
            for one in peers.servers
        ]  # fmt: skip

    def _tell_peers(self, file: SiteFile) -> None:
        """Which site file is served, for the other servers."""
        if self._server.peers:
            texts = digests(file)
            by_name = dict(zip(texts, file.texts.values(), strict=True))
            if self._server.tunnel and file.secret:  # of which each server has a copy
                texts[file.secret.name] = self._server.tunnel.public.hex()
            whole = hashlib.sha256(json.dumps(texts, sort_keys=True).encode()).hexdigest()
            times = [os.stat(path).st_mtime for path in file.texts if path.exists()]
            roots = self._server.peers.told.roots
            newest = max(times, default=0.0)
            told = Told(whole, newest, texts, roots, str(self._path), 0)
            self._server.peers.tell(told, by_name)

    def _follow(self, applied: Applied) -> None:
        """Another server has taken a site file over: this one's own is looked at again."""
        task = asyncio.create_task(self._follow_to(applied))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _follow_to(self, applied: Applied) -> None:
        await self.apply(alone=True)
        peers = self._server.peers
        if peers and peers.told.digest != applied.digest:
            why = f"{applied.server} has taken over another site file than this machine has"
            self._note("kept", f"{why}: copy it here, then: daskel apply")

    def assign_once(self, client: str, boot: str | None) -> None:
        """The store has it already."""
        self._server.assign_once(client, boot)
        self._note("once", f"{client} boots {boot} next" if boot else f"{client} boots as always")

    def forget(self, macs: Collection[str]) -> None:
        """Machines that the lobby need not remember."""
        self._server.forget(macs)

    async def texts(self, server: str) -> dict[str, str]:
        """The site file of one of the servers. Raises ValueError."""
        if self._server.peers is None:
            raise ValueError("the store is a file: there is one server")
        return await self._server.peers.texts(server)

    async def rows(self, asked: Answer) -> list[dict[str, Any]]:
        """Of a table of the store, where that is a database: see `SharedStore.rows`. Raises
        ValueError."""
        return await self._server.rows(
            _name(asked, "table"), clients=asked.get("clients"),
            since=float(asked.get("began", 0)), until=float(asked.get("until") or "inf"),
            number=asked.get("number"), most=int(asked.get("most", 100_000)),
        )  # fmt: skip

    def home(self, client: str) -> Answer:
        """Which server has the slates of a client. Raises ValueError."""
        if self._server.peers is None:
            raise ValueError("the store is a file: there is one server")
        home = self._server.peers.homes.get(client, Home(self._site.own or ""))
        return {"home": home.server, "target": home.target or None}

    async def move_home(self, client: str, server: str, target: str) -> Answer:
        """Where the slates of a client are from now on; `target`: to which server they are being
        moved, which nobody boots them from meanwhile. Raises ValueError."""
        if self._server.peers is None:
            raise ValueError("the store is a file: there is one server")
        if client not in self._site.clients:
            raise ValueError(f"there is no client {client}")
        before = await self._server.peers.move_home(client, Home(server, target))
        self._server.look_at_homes()
        said = f"on the server {server} from now on"
        self._note("slate", f"of {client}: {f'being moved to {target}' if target else said}")
        return {"home": server, "before": before.server if before else None}

    def keys(self) -> Answer:
        """Whose keys are admitted, and who waits with one. Raises ValueError."""
        tunnel = self._tunnel()
        waiting = [
            {"client": c.client, "mac": c.mac, "segment": c.segment, "place": c.place,
             "word": c.word}
            for c in tunnel.waiting()
        ]  # fmt: skip
        return {"keys": tunnel.keys(), "waiting": waiting, "by": tunnel.kind}

    def admit_key(self, client: str, word: str) -> Answer:
        """The machine shows this word: its root comes from now on. Raises ValueError."""
        key = self._tunnel().admit(client, word)
        self._note("key", f"of {client} is admitted ({key.place})")
        return {"admitted": client, "place": key.place}

    def revoke_key(self, client: str) -> Answer:
        """Its key is not heard any more. Raises ValueError."""
        self._tunnel().revoke(client)
        self._note("key", f"of {client} is revoked")
        return {"revoked": client}

    def renew_key(self, *, finish: bool) -> Answer:
        """Another key of the server's own. Raises ValueError."""
        try:
            found = self._tunnel().renewal(finish=finish)
        except MissingRequirementError as error:
            raise ValueError(f"{error.problem}; {error.remedy}") from None
        if finish:
            self._note("key", "of the server is another one now")
        return {"finished": finish, **found}

    def _tunnel(self) -> Tunnel:
        if self._server.tunnel is None:
            raise ValueError("the site has no tunnel: it has no private = ... in [site]")
        return self._server.tunnel

    def connected(self) -> list[Answer]:
        """Clients with an NFS connection, and what they have mounted."""
        return self._server.exports.connected()

    async def take_away(self, asked: Answer) -> Answer:
        """Close or wipe a slate."""
        how = "wipe" if asked.get("how") == "wipe" else "close"
        root, client = str(asked["root"]), str(asked["client"])
        if root not in self._site.roots or not is_slate_name(client):
            return {"error": f"there is no slate of {client} on {root}"}
        answer = await self._server.exports.take_away(root, client, how)
        self._note("slate", f"of {client} on {root}: {'wiped' if how == 'wipe' else 'closed'}")
        return {"done": "error" not in answer, **answer}

    async def compare(self) -> Answer:
        """What would change for whom if the site file were taken over now."""
        with _no_collections(kept=False):
            return await self._compare()

    async def _compare(self) -> Answer:
        new = await self._load()
        if not new.usable or new.site is None:
            found = [_finding(f) for f in _bad(new)]
            return {"findings": found, "changes": [], "differs": True, "restart": False}
        as_here = replace(new.site, elsewhere=self._site.elsewhere)
        changes = await asyncio.to_thread(differences, self._site, as_here)
        return {
            "findings": [],
            "changes": [_change(change) for change in changes],
            "differs": new.texts != self._texts or new.site.published != self._site.published,
            "restart": not self._server.fits(new.site),
        }

    async def apply(self, *, alone: bool = False) -> Answer:
        """Take the site file over; one with an error changes nothing that runs. The other servers
        look at theirs then, but where this one is `alone`."""
        with _no_collections(kept=True):
            answer = await self._apply()
        peers = self._server.peers
        if alone or peers is None or not answer["applied"]:
            return answer
        try:
            await peers.tell_applied()
        except StoreAwayError as error:
            return answer | {"servers": {}, "said": f"{answer['said']}; {error.problem}"}
        return answer | {"servers": await peers.who_followed()}

    async def _apply(self) -> Answer:
        try:
            new = await self._load()
        except MissingRequirementError as error:
            return self._kept(str(error))
        if not new.usable or new.site is None:
            bad = _bad(new)
            for finding in bad:
                self._note("finding", f"{finding.origin}: {finding.problem}; {finding.remedy}")
            answer = self._kept(f"{counted(len(bad), 'finding')} in {self._path}")
            return answer | {"findings": [_finding(finding) for finding in bad]}
        return await self._use(new, new.site)

    async def _load(self) -> SiteFile:
        """The site file as it is now. Raises MissingRequirementError."""
        LETS_OTHERS_RUN.set(True)
        own = self._site.own
        return await asyncio.to_thread(load_checked, self._path, roots=False, own=own)

    async def _use(self, new: SiteFile, site: Site) -> Answer:
        try:
            made = await asyncio.to_thread(build_missing, new.files, site.settings.loaders)
            if not await self._server.use(site):
                return self._kept("its segments or folders changed; start daskel serve again")
        except MissingRequirementError as error:
            return self._kept(f"{error.problem}; {error.remedy}")
        for path in made:
            self._note("built", f"boot loader {path}")
        self._texts, self._since = new.texts, self._clock.now()
        self._tell_peers(new)
        self._taken_over(site)
        read_toml.cache_clear()
        said = f"{self._path}: {counted(len(site.clients), 'client')}"
        self._note("taken over", said)
        return {"applied": True, "said": said}

    def _kept(self, reason: str) -> Answer:
        self._note("kept", f"the site as it was: {reason}")
        return {"applied": False, "said": reason}


@contextmanager
def _no_collections(*, kept: bool) -> Iterator[None]:
    """Python's collector would look through all of a large site while it is read, and nobody be
    answered meanwhile. What was read and is `kept` is left alone afterwards, too."""
    gc.disable()
    try:
        yield
    finally:
        if kept:
            gc.freeze()
        gc.enable()


def _text(path: Path) -> str | None:
    try:
        return path.read_text().replace("\r\n", "\n")
    except (OSError, UnicodeDecodeError):
        return None


def _change(change: Change) -> Answer:
    reason = change.unnoticed.value if change.unnoticed else None
    return {
        "what": change.what, "clients": list(change.clients),
        "unknown_machines_on": list(change.strangers), "unnoticed": reason,
    }  # fmt: skip


def _bad(file: SiteFile) -> list[Finding]:
    return [f for f in file.findings if f.severity in (Severity.INVALID, Severity.ERROR)]


def _finding(finding: Finding) -> Answer:
    return {"place": str(finding.origin), "problem": finding.problem, "remedy": finding.remedy}


class ControlService:
    """Listens on the socket. Raises MissingRequirementError when another server has it."""

    def __init__(self, running: Running, path: Path) -> None:
        self._running, self._path = running, path
        self._server: asyncio.Server | None = None

    async def serve(self) -> None:
        """Begin to listen. Raises MissingRequirementError."""
        if _answers(self._path):
            raise MissingRequirementError(f"another server runs with {self._path}", "end it first")
        self._path.unlink(missing_ok=True)
        mask = os.umask(0o117)  # the user and the group, nobody else
        try:
            self._server = await asyncio.start_unix_server(self._client, self._path, limit=_LINE)
        except OSError as error:
            remedy = "check the permissions of its folder"
            raise MissingRequirementError(
                f"cannot make {self._path} ({error.strerror})", remedy
            ) from None
        finally:
            os.umask(mask)

    async def close(self) -> None:
        """Stop listening, and remove the socket's file."""
        if self._server:
            self._server.close()
            self._path.unlink(missing_ok=True)

    async def _client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            line = await asyncio.wait_for(reader.readline(), 10)
            answer = await self._answer(line, _user(writer))
            rows = answer.pop("rows", None)
            if rows is None:
                writer.write(json.dumps(answer, default=str).encode() + b"\n")
            else:
                await _write_rows(writer, rows, self._running.clock)
            await writer.drain()
        except (TimeoutError, ValueError, ConnectionError):
            return  # a question too long or too slow
        finally:
            writer.close()

    async def _answer(self, line: bytes, user: int) -> Answer:
        try:
            asked = json.loads(line)
            question = _QUESTIONS.get(asked.get("do"))
        except (ValueError, AttributeError, TypeError):
            return {"error": "not a line of JSON"}
        if question is None:
            return {"error": f"unknown: {asked.get('do')!r}"}
        if question.changes and not _may_change(user):
            return {"error": "only the server's user may change what runs"}
        if unknown := asked.keys() - {"do", *question.keys}:
            return {"error": f"{asked['do']}: unknown key {', '.join(sorted(unknown))}"}
        try:
            return await question.answer(self._running, asked)
        except (KeyError, TypeError, ValueError) as error:
            return {"error": f"{asked['do']}: {error.__class__.__name__}: {error}"}


async def _write_rows(writer: asyncio.StreamWriter, rows: Sequence[object], clock: Clock) -> None:
    """Some at a time: there can be many, and machines are answered meanwhile."""
    for number, row in enumerate(rows):
        begin = '{"rows": [' if number == 0 else ", "
        writer.write(begin.encode() + json.dumps(row, default=str).encode())
        if number % _ROWS_AT_ONCE == 0:
            await writer.drain()
            await clock.sleep(0)
    writer.write(b"]}\n" if rows else b'{"rows": []}\n')


def _name(asked: Answer, key: str) -> str:
    """Raises ValueError for one that is empty, or no text."""
    value = asked[key]
    if not isinstance(value, str) or not value:
        raise ValueError(f"{key} must be a name")
    return value


async def _status(running: Running, _: Answer) -> Answer:
    return running.status()


async def _watch(running: Running, asked: Answer) -> Answer:
    return {"machines": running.watch(float(asked.get("since", 0)))}


async def _events(running: Running, _: Answer) -> Answer:
    return {"events": running.events()}


async def _boot(running: Running, asked: Answer) -> Answer:
    return running.boot(_name(asked, "client"))


async def _connected(running: Running, _: Answer) -> Answer:
    return {"clients": running.connected()}


async def _servers(running: Running, _: Answer) -> Answer:
    return {"servers": running.servers()}


async def _rows(running: Running, asked: Answer) -> Answer:
    return {"rows": await running.rows(asked)}


async def _texts(running: Running, asked: Answer) -> Answer:
    return {"texts": await running.texts(_name(asked, "server"))}


async def _home(running: Running, asked: Answer) -> Answer:
    target = asked.get("target")
    if "server" not in asked:
        return running.home(_name(asked, "client"))
    server, to = _name(asked, "server"), _name(asked, "target") if target else ""
    return await running.move_home(_name(asked, "client"), server, to)


async def _keys(running: Running, _: Answer) -> Answer:
    return running.keys()


async def _key(running: Running, asked: Answer) -> Answer:
    return running.admit_key(_name(asked, "client"), _name(asked, "word"))


async def _revoke(running: Running, asked: Answer) -> Answer:
    return running.revoke_key(_name(asked, "client"))


async def _next_key(running: Running, asked: Answer) -> Answer:
    return running.renew_key(finish=asked.get("finish") is True)


async def _compare(running: Running, _: Answer) -> Answer:
    return await running.compare()


async def _forget(running: Running, asked: Answer) -> Answer:
    running.forget([str(mac) for mac in asked["macs"]])
    return {"forgotten": True}


async def _once(running: Running, asked: Answer) -> Answer:
    boot = asked.get("boot")
    running.assign_once(_name(asked, "client"), None if boot is None else _name(asked, "boot"))
    return {"assigned": True}


async def _slate(running: Running, asked: Answer) -> Answer:
    return await running.take_away(asked)


async def _renew(running: Running, _: Answer) -> Answer:
    await running.renew()
    return {"done": True}


async def _apply(running: Running, _: Answer) -> Answer:
    return await running.apply()


@dataclass(frozen=True, slots=True)
class _Question:
    """How a question is answered; one that `changes` something is for the server's user alone."""

    answer: Callable[[Running, Answer], Awaitable[Answer]]
    keys: tuple[str, ...] = ()  # that a line may have beside "do"; all that change are needed
    changes: bool = False


_QUESTIONS = {  # what a line says in "do"
    "status": _Question(_status),
    "watch": _Question(_watch, ("since",)),
    "events": _Question(_events),
    "boot": _Question(_boot, ("client",)),
    "connected": _Question(_connected),
    "servers": _Question(_servers),
    "texts": _Question(_texts, ("server",), changes=True),  # passwords may be in them
    "rows": _Question(_rows, ("table", "clients", "began", "until", "number", "most")),
    "compare": _Question(_compare),
    "forget": _Question(_forget, ("macs",), changes=True),
    "once": _Question(_once, ("client", "boot"), changes=True),
    "home": _Question(_home, ("client", "server", "target"), changes=True),
    "keys": _Question(_keys, changes=True),  # words that are to be compared are in it
    "key": _Question(_key, ("client", "word"), changes=True),
    "revoke": _Question(_revoke, ("client",), changes=True),
    "next_key": _Question(_next_key, ("finish",), changes=True),
    "slate": _Question(_slate, ("root", "client", "how"), changes=True),
    "renew": _Question(_renew, changes=True),
    "apply": _Question(_apply, changes=True),
}


def _may_change(user: int) -> bool:
    return user in (0, os.geteuid())


def _user(writer: asyncio.StreamWriter) -> int:
    """The user at the other end."""
    sock = writer.get_extra_info("socket")
    data = sock.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _CREDENTIALS.size)
    return int(_CREDENTIALS.unpack(data)[1])


def _answers(path: Path) -> bool:
    """A server listens there; a socket left over from one that was killed does not answer."""
    with socket.socket(socket.AF_UNIX) as sock:
        try:
            sock.connect(str(path))
        except OSError:
            return False
    return True
