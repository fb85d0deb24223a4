"""HTTP's connections: who may have how many, and which are closed since nothing comes."""

from __future__ import annotations

import asyncio
import itertools
import resource
import socket
import ssl
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from ipaddress import IPv4Address

from aiohttp.web_protocol import RequestHandler

from daskel.core.places import Places
from daskel.service.listening import Listening
from daskel.service.shared import Shared, seat

SILENT, IDLE = 15.0, 60.0  # seconds without a first request, and until the next one
_AFTER_ITS_END = 60.0  # seconds that a client's answer may take that has closed its own side
_MOST, _MOST_EACH = 2048, 32  # of all, and of one address
_SWEEP = 1.0  # seconds

Protocols = Callable[[], RequestHandler]


@dataclass(slots=True)
class _Connection:
    number: int
    since: float  # when it was accepted, or its last request ended
    transport: asyncio.Transport | None = None
    requests: int = 0
    under_way: int = 0


class _AnsweredAtItsEnd(RequestHandler):
    """A client may close its side as soon as it has asked, as nc does: it is answered before its
    connection ends. aiohttp drops the request of one that does so at once."""

    __slots__ = ()

    def eof_received(self) -> bool | None:  # type: ignore[override]
        waiter = self._waiter
        if waiter is not None and not waiter.done():
            return None  # it has asked nothing, or all is answered: the connection ends
        self.close()  # with the answer
        transport = self.transport
        if transport is not None:  # not for ever: what it asked may have been cut
            asyncio.get_running_loop().call_later(_AFTER_ITS_END, transport.abort)
        return True


class Connections:
    """Of one service, on all its addresses. `protocols` makes what reads requests."""

    def __init__(
        self, shared: Shared, sockets: Sequence[socket.socket],
        servers: Mapping[str, IPv4Address], protocols: Protocols, tls: ssl.SSLContext | None,
    ) -> None:  # fmt: skip
        self._shared, self._servers, self._protocols, self._tls = shared, servers, protocols, tls
        self._name = "https" if tls else "http"
        most = min(_MOST, resource.getrlimit(resource.RLIMIT_NOFILE)[0] // 4)
        self._places: Places[int] = Places(most, _MOST_EACH, len(shared.site.served))
        self._numbers = itertools.count()
        self._open: dict[int, _Connection] = {}
        self._by_transport: dict[asyncio.BaseTransport, _Connection] = {}
        self._listening = [
            Listening(sock, self._accepted, self._make_room, self._full) for sock in sockets
        ]
        self._tasks: set[asyncio.Task[None]] = set()

    def start(self) -> None:
        """Begin to accept."""
        for listening in self._listening:
            listening.start()
        self._begin(self._sweep())

    def close(self) -> None:
        """Accept no more; connections are their protocols'."""
        for task in self._tasks:
            task.cancel()
        for listening in self._listening:
            listening.close()

    @contextmanager
    def request(self, transport: asyncio.BaseTransport | None) -> Iterator[None]:
        """A request is answered on a connection, until the block ends."""
        found = self._by_transport.get(transport) if transport else None
        if found is None:
            yield
            return
        found.requests += 1
        found.under_way += 1
        self._places.busy(found.number)
        try:
            yield
        finally:
            found.under_way -= 1
            found.since = self._shared.clock.monotonic()
            if not found.under_way:
                self._places.rest(found.number)

    def _accepted(self, sock: socket.socket, peer: tuple[str, int]) -> None:
        sock.setblocking(False)
        server = self._servers[sock.getsockname()[0]]
        segment, who = self._shared.caller(server, peer[0])
        number = next(self._numbers)
        place, known = seat(who, peer[0]), who.name is not None
        let_in, gives_way = self._places.enter(number, place, segment, known=known)
        if gives_way is not None:
            self._end(self._open[gives_way])
        if not let_in:
            self._full(f"too many connections at once ({who})")
            sock.close()
            return
        found = self._open[number] = _Connection(number, self._shared.clock.monotonic())
        self._begin(self._connect(found, sock))

    def _protocol(self) -> RequestHandler:
        made = self._protocols()
        if self._tls is None:  # over TLS, one side alone cannot be closed
            made.__class__ = _AnsweredAtItsEnd
        return made

    async def _connect(self, found: _Connection, sock: socket.socket) -> None:
        loop = asyncio.get_running_loop()
        patience = SILENT if self._tls else None
        try:
            transport, _ = await loop.connect_accepted_socket(
                self._protocol, sock, ssl=self._tls, ssl_handshake_timeout=patience
            )
        except OSError as error:  # of TLS, too
            if isinstance(error, ssl.SSLError):
                self._shared.malformed(self._name, error.reason or "no TLS")
            sock.close()
            self._forget(found)
            return
        found.transport = transport
        self._by_transport[transport] = found
        if found.number not in self._open:  # it had to give way meanwhile
            self._end(found)

    async def _sweep(self) -> None:
        while True:
            await self._shared.clock.sleep(_SWEEP)
            now = self._shared.clock.monotonic()
            for found in list(self._open.values()):
                if found.transport is None:
                    continue
                patience = IDLE if found.requests else SILENT
                if found.transport.is_closing():
                    self._forget(found)
                elif not found.under_way and now - found.since > patience:
                    self._end(found)

    def _end(self, found: _Connection) -> None:
        if found.transport:
            found.transport.abort()
        self._forget(found)

    def _forget(self, found: _Connection) -> None:
        self._places.leave(found.number)
        self._open.pop(found.number, None)
        if found.transport:
            self._by_transport.pop(found.transport, None)

    def _make_room(self) -> bool:
        number = self._places.resting()
        if number is not None:
            self._end(self._open[number])
        return number is not None

    def _full(self, reason: str) -> None:
        self._shared.malformed(self._name, reason)

    def _begin(self, work: Coroutine[None, None, None]) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
