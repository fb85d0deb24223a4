"""HTTP: the same tree of files as TFTP, with ranges."""

from __future__ import annotations

import asyncio
import logging
import os
import socket
import ssl
import struct
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, suppress
from email.utils import formatdate

from aiohttp import web
from aiohttp.http_exceptions import HttpProcessingError

from daskel.core.boot.contact import ContactError
from daskel.core.boot.segments import servers
from daskel.core.content import image_steps, up
from daskel.core.content.bandwidth import Bandwidth
from daskel.core.history.events import (
    Abort,
    Event,
    FileAborted,
    FileAsked,
    FileKind,
    FileSent,
    Seen,
    Up,
    Who,
)
from daskel.core.http.conditions import (
    NOT_MODIFIED,
    PART,
    UNSATISFIABLE,
    WHOLE,
    Wanted,
    wanted,
)
from daskel.core.reader import MalformedError
from daskel.core.roots.views import own_files
from daskel.core.site.private import INSIDE
from daskel.service.files.conditions import conditions_of
from daskel.service.files.connections import IDLE, SILENT, Connections
from daskel.service.files.content import Contents
from daskel.service.files.multicast import OVER, Listen, Multicast, Place, Rest, read_all, rest_of
from daskel.service.files.opened import NotOpened, Opened
from daskel.service.files.secret import secrets_of
from daskel.service.files.tags import Tags
from daskel.service.shared import Moving, Shared
from daskel.service.sockets import tcp
from daskel.service.tunnel import contact_answer
from daskel.system.requirements import MissingRequirementError

_PIECE = 64 << 10  # bytes: the turn of one transfer among others
_SENT_AT_ONCE = 4 << 20  # bytes that the kernel sends between two looks at how far it is
_CLOSED, _SHORTER = "the client closed the connection", "the file has become shorter"
_UNANSWERED = 12_000  # milliseconds
_CONTACT = 1000  # bytes of what a machine says about its key
_RESET = struct.pack("ii", 1, 0)  # SO_LINGER: no farewell, so that nothing of it is left
_log = logging.getLogger(__name__)


class HttpService:
    """The files of one site on every server address."""

    def __init__(
        self, shared: Shared, contents: Contents, tls: ssl.SSLContext | None = None
    ) -> None:
        self._shared, self._contents, self._tls = shared, contents, tls
        self._tags = Tags()
        self._under_way: list[Moving] = []
        port = shared.wire.ports.https if tls else shared.wire.ports.http
        here = [*servers(shared.site), *(() if shared.wire.loopback else servers(shared.site6))]
        self._servers = {shared.wire.outside(server): server for server in here}
        tunnel = shared.tunnel if tls is None else None
        interfaces = {str(tunnel.server): tunnel.interface} if tunnel else {}
        self._servers |= {str(one): one for one in servers(shared.site_inside) if tunnel}
        self._sockets: list[socket.socket] = []
        try:
            for address in self._servers:
                sock = tcp(address, port, interfaces.get(address))
                self._sockets.append(sock)
                # Inherited by its connections: one whose last packet a machine no longer answers,
                # since its kernel has started, is gone before that machine boots again.
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, _UNANSWERED)
        except BaseException:
            self._close_sockets()
            raise
        application = web.Application(client_max_size=up.LIMIT)
        application.router.add_post(f"/{up.TOLD_AT}", self._up)
        application.router.add_post(f"/{image_steps.TOLD_AT}", self._step)
        application.router.add_get(f"/{image_steps.OWN_AT}{{root:.*}}", self._own)
        self._multicast = Multicast(shared)
        if tls is None:  # what goes to all is not private
            many = f"/{image_steps.MANY_AT}{{path:.*}}"
            application.router.add_get(many, self._place)
            application.router.add_post(many, self._many)
        application.router.add_post("/daskel/private/{what}", self._private)
        application.router.add_get("/daskel/secrets", self._secrets)
        application.router.add_get("/{path:.*}", self._get)
        self._runner = web.AppRunner(
            application, access_log=None, handle_signals=False, logger=_protocol_log(shared),
            keepalive_timeout=IDLE,
        )  # fmt: skip
        self._connections: Connections | None = None

    def _begins(self, event: Seen) -> None:
        if event.firmware and event.who.name and event.who.mac:
            self._forget(event.who.mac)

    def _forget(self, mac: str) -> None:
        """End what a machine left open that now begins anew. GRUB closes no connection and counts
        its ports from the same number at every boot: it would meet its old ones, and wait."""
        server = self._runner.server
        for connection in list(server.connections) if server else ():
            transport = connection.transport
            if transport is None:
                continue
            bound, peer = (transport.get_extra_info(end) for end in ("sockname", "peername"))
            if not (bound and peer):
                continue
            _, who = self._shared.caller(self._servers[bound[0]], peer[0])
            if who.mac == mac:
                sock = transport.get_extra_info("socket")
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
                transport.abort()

    async def serve(self) -> None:
        """Begin to answer."""
        await self._runner.setup()
        self._shared.bus.listen(Seen, self._begins)
        assert self._runner.server
        self._connections = Connections(
            self._shared, self._sockets, self._servers, self._runner.server, self._tls
        )
        self._connections.start()

    async def close(self) -> None:
        """End all connections."""
        if self._connections:
            self._connections.close()
        await self._runner.cleanup()
        self._multicast.close()
        self._tags.close()
        self._close_sockets()

    def _close_sockets(self) -> None:
        for sock in self._sockets:
            sock.close()

    def _caller(self, request: web.Request) -> tuple[str, Who]:
        assert request.transport
        bound = request.transport.get_extra_info("sockname")[0]
        return self._shared.caller(self._servers[bound], request.remote or "0.0.0.0")

    async def _up(self, request: web.Request) -> web.StreamResponse:
        with self._under_request(request):
            return await self._told(request, lambda who, body: Up(who, *up.parse(body)))

    async def _step(self, request: web.Request) -> web.StreamResponse:
        with self._under_request(request):
            return await self._told(request, image_steps.parse)

    async def _own(self, request: web.Request) -> web.StreamResponse:
        """The files that a client gets over the image of its root."""
        with self._under_request(request):
            segment, who = self._caller(request)
            root, assigned = request.match_info["root"], self._shared.once.assigned
            found = own_files(self._shared.site_of(who), who, segment, root, assigned)
            return _several((path.strip("/"), text.encode()) for path, text in found.items())

    async def _secrets(self, request: web.Request) -> web.StreamResponse:
        """The same for a client's secret files, which are there inside of the tunnel alone."""
        with self._under_request(request):
            segment, who = self._caller(request)
            if segment != INSIDE:
                return web.Response(status=404, text="secret files come through the tunnel alone\n")
            return _several(secrets_of(self._shared, who))

    async def _private(self, request: web.Request) -> web.StreamResponse:
        """First contact (`tunnel`): a machine that has a key of its own says so, outside."""
        with self._under_request(request):
            segment, who = self._caller(request)
            body = (await request.content.read(_CONTACT))[:_CONTACT].decode(errors="replace")
            pairs = (line.partition("=") for line in body.splitlines())
            said = {key.strip(): value.strip() for key, _, value in pairs}
            try:
                answer = contact_answer(
                    self._shared.tunnel, request.match_info["what"], segment, who, said
                )
            except (ContactError, ValueError) as error:
                return web.Response(status=403, text=f"{error}\n")
            lines = "".join(f"{key}={value}\n" for key, value in answer.items())
            return web.Response(text=lines)

    async def _get(self, request: web.Request) -> web.StreamResponse:
        with self._under_request(request):
            return await self._content(request)

    async def _place(self, request: web.Request) -> web.StreamResponse:
        """Where a file is sent to many (docs/multicast.md)."""
        with self._under_request(request):
            segment, _, opened = self._open(request)
            if segment == INSIDE and not isinstance(opened, NotOpened):  # all would hear it
                opened.close()
                return _not_to_many()
            if isinstance(opened, NotOpened):
                return _not_opened(opened)
            place = self._multicast.place(segment, opened)
            opened.close()
            return web.Response(text=place.told()) if place else _not_to_many()

    async def _many(self, request: web.Request) -> web.StreamResponse:
        """What one of many has of a file: it is to listen (202), has to fetch the whole (204), or
        gets what it misses (200)."""
        with self._under_request(request):
            segment, who, opened = self._open(request)
            if isinstance(opened, NotOpened):
                return _not_opened(opened)
            place = None if segment == INSIDE else self._multicast.place(segment, opened)
            try:
                if place is None or who.mac is None:
                    return _not_to_many()
                return await self._ask(request, segment, who, opened, place)
            finally:
                opened.close()

    async def _ask(
        self, request: web.Request, segment: str, who: Who, opened: Opened, place: Place
    ) -> web.StreamResponse:
        size = request.content_length or 0
        if size not in (0, -(-place.blocks // 8)):
            return web.Response(status=400, text="a bit for each block is needed\n")
        try:
            have = b""
            if size:
                have = await asyncio.wait_for(request.content.readexactly(size), SILENT)
            rest = await self._multicast.ask(segment, who, opened, place, have)
        except (TimeoutError, asyncio.IncompleteReadError):
            return web.Response(status=408, text="the rest did not come\n")
        except (OSError, MissingRequirementError) as error:
            self._multicast.say_why_not(opened.path, error)
            return web.Response(status=503, text="fetch it by HTTP\n")
        if isinstance(rest, Listen):
            return web.Response(status=202, text=rest.told())
        if have:
            return await self._rest(request, segment, who, opened, place, rest)
        if rest.since is not None:
            told = FileAborted(who, opened.path, OVER, "nothing reached it", Abort.SILENT)
            self._shared.emit(told)
        return web.Response(status=204)

    async def _rest(
        self, request: web.Request, segment: str, who: Who, opened: Opened, place: Place,
        rest: Rest,
    ) -> web.StreamResponse:  # fmt: skip
        response = web.StreamResponse(headers={"Content-Type": "application/octet-stream"})
        response.content_length = rest.size(place)
        bandwidth, clock = self._shared.bandwidth.get(segment), self._shared.clock
        loop, began = asyncio.get_running_loop(), clock.monotonic()
        try:
            await response.prepare(request)
            for places in rest_of(opened, rest.missing):
                piece = await loop.run_in_executor(None, read_all, opened, places)
                if bandwidth:
                    await clock.sleep(bandwidth.wait(len(piece), clock.monotonic()))
                await response.write(piece)
            await response.write_eof()
        except (ConnectionError, EOFError) as error:
            why = Abort.BY_SERVER if isinstance(error, EOFError) else Abort.CLOSED
            self._shared.emit(FileAborted(who, opened.path, OVER, str(error) or _CLOSED, why))
            return response
        seconds = clock.monotonic() - (began if rest.since is None else rest.since)
        self._shared.emit(FileSent(who, opened.path, opened.kind, opened.size, seconds, OVER))
        return response

    def _under_request(self, request: web.Request) -> AbstractContextManager[None]:
        assert self._connections
        return self._connections.request(request.transport)

    async def _told(
        self, request: web.Request, parse: Callable[[Who, bytes], Event]
    ) -> web.Response:
        """A client tells how far its system, or its initrd, is."""
        who = self._caller(request)[1]
        if who.mac is None:
            return web.Response(status=403, text=f"nobody knows who {who.address} is\n")
        try:
            told = parse(who, await asyncio.wait_for(request.read(), SILENT))
        except TimeoutError:
            return web.Response(status=408, text="the rest did not come\n")
        except MalformedError as error:
            self._shared.malformed("http", str(error))
            return web.Response(status=400, text=f"{error}\n")
        self._shared.emit(told)
        return web.Response(text="good\n")

    def _open(self, request: web.Request) -> tuple[str, Who, Opened | NotOpened]:
        name, who = self._caller(request)
        asked = request.match_info["path"].encode("utf-8", "surrogateescape")
        return name, who, self._contents.open(name, asked, who, "http")

    async def _content(self, request: web.Request) -> web.StreamResponse:
        name, who, opened = self._open(request)
        if isinstance(opened, NotOpened):
            return _not_opened(opened)
        moving = Moving(who, opened.path, 0, opened.size)
        self._under_way.append(moving)
        if request.method == "GET" and not opened.quiet:
            self._shared.emit(FileAsked(who, opened.path, opened.kind, opened.size, "http"))
        try:
            return await self._send(request, opened, moving, self._shared.bandwidth.get(name))
        finally:
            self._under_way.remove(moving)
            opened.close()

    @property
    def under_way(self) -> list[Moving]:
        """Files that are being sent now."""
        return [*self._under_way, *self._multicast.under_way]

    async def _send(
        self, request: web.Request, opened: Opened, moving: Moving, bandwidth: Bandwidth | None
    ) -> web.StreamResponse:
        began, who = self._shared.clock.monotonic(), moving.who
        if opened.ready:
            try:
                await asyncio.shield(opened.ready)
            except (OSError, EOFError) as error:
                self._shared.emit(FileAborted(who, opened.path, OVER, str(error), Abort.BY_SERVER))
                return web.Response(status=503, text="it could not be read\n")
        asked = conditions_of(request)
        tag = await self._tags.of(opened, needed=asked.needs_tag)
        part = wanted(asked, opened.size, tag, _modified(opened))
        response = web.StreamResponse(status=part.status, headers=_headers(opened, part, tag))
        if part.status != NOT_MODIFIED:
            response.content_length = part.count
        try:
            await response.prepare(request)
            if request.method == "GET" and part.count:
                await self._body(request, response, opened, part, moving, bandwidth)
            await response.write_eof()
        except (ConnectionError, EOFError) as error:
            ours = isinstance(error, EOFError)
            reason, why = (str(error), Abort.BY_SERVER) if ours else (_CLOSED, Abort.CLOSED)
            self._shared.emit(FileAborted(who, opened.path, "http", reason, why))
            return response
        if request.method == "GET" and part.status in (WHOLE, PART) and not opened.quiet:
            seconds = self._shared.clock.monotonic() - began
            self._shared.emit(FileSent(who, opened.path, opened.kind, part.count, seconds, "http"))
        return response

    async def _body(
        self, request: web.Request, response: web.StreamResponse, opened: Opened, part: Wanted,
        moving: Moving, bandwidth: Bandwidth | None,
    ) -> None:  # fmt: skip
        """By the kernel where nothing has to pass through this process. Raises EOFError when the
        file has become shorter: the connection is closed then."""
        loop, transport, sent = asyncio.get_running_loop(), request.transport, 0
        if transport is None:
            raise ConnectionResetError
        if opened.data is None and bandwidth is None:
            with suppress(NotImplementedError):
                for one in opened.parts(part.start, part.count):
                    if isinstance(one, bytes):
                        await response.write(one)
                        sent += len(one)
                        continue
                    at, end = one.offset, one.offset + one.length
                    with os.fdopen(os.dup(one.descriptor), "rb") as file:
                        while at < end:
                            count = min(_SENT_AT_ONCE, end - at)
                            done = await loop.sendfile(transport, file, at, count)
                            at, sent = at + done, sent + done
                            if done < count:
                                transport.abort()
                                raise EOFError(_SHORTER)
                            moving.done = sent
        while sent < part.count:
            size = min(_PIECE, part.count - sent)
            if bandwidth:
                await self._shared.clock.sleep(bandwidth.wait(size, self._shared.clock.monotonic()))
            piece = await loop.run_in_executor(None, opened.read, part.start + sent, size)
            if not piece:
                transport.abort()
                raise EOFError(_SHORTER)
            await response.write(piece)
            sent += len(piece)
            moving.done = sent


def _protocol_log(shared: Shared) -> logging.Logger:
    """Where aiohttp says what went wrong with a connection."""
    logger = logging.Logger("daskel.http")
    logger.addHandler(_ProtocolErrors(shared))
    return logger


class _ProtocolErrors(logging.Handler):
    """Malformed requests are counted; clients that left are not news; the rest is our fault."""

    def __init__(self, shared: Shared) -> None:
        super().__init__(logging.WARNING)
        self._shared = shared

    def emit(self, record: logging.LogRecord) -> None:
        error = record.exc_info[1] if record.exc_info else None
        if isinstance(error, ssl.SSLError):
            self._shared.malformed("https", error.reason or "no TLS")
        elif isinstance(error, HttpProcessingError):
            self._shared.malformed("http", " ".join(error.message.split()))
        elif not isinstance(error, ConnectionError):
            _log.warning("HTTP: %s", record.getMessage(), exc_info=record.exc_info)


def _not_opened(found: NotOpened) -> web.Response:
    return web.Response(status=403 if found.refused else 404, text=found.reason + "\n")


def _several(parts: Iterable[tuple[str, bytes]]) -> web.Response:
    """Files: length and path in a line, and the content, for each."""
    lines = (f"{len(data)} {path}\n".encode() + data for path, data in parts)
    return web.Response(body=b"".join(lines))


def _not_to_many() -> web.Response:
    return web.Response(status=404, text="this file is not sent to many\n")


def _headers(opened: Opened, part: Wanted, tag: str | None) -> dict[str, str]:
    computed = opened.data is not None and opened.kind is not FileKind.LOADER
    kind = "text/plain; charset=utf-8" if computed else "application/octet-stream"
    headers = {"Content-Type": kind, "Accept-Ranges": "bytes"}
    if tag is not None:
        headers["ETag"] = f'"{tag}"'
    if opened.stored:
        headers["Last-Modified"] = formatdate(_modified(opened), usegmt=True)
    if part.status == PART:
        last = part.start + part.count - 1
        headers["Content-Range"] = f"bytes {part.start}-{last}/{opened.size}"
    elif part.status == UNSATISFIABLE:
        headers["Content-Range"] = f"bytes */{opened.size}"
    return headers


def _modified(opened: Opened) -> int | None:
    """Seconds since 1970; None for what is computed, or made of several files."""
    return int(os.fstat(opened.descriptor).st_mtime) if opened.stored else None
