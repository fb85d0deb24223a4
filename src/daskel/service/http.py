"""HTTP: the same tree of files as TFTP, with ranges."""

from __future__ import annotations

import logging
import socket
import ssl
import struct
import time

from aiohttp import web
from aiohttp.abc import AbstractStreamWriter
from aiohttp.http_exceptions import HttpProcessingError
from aiohttp.web import BaseRequest

from daskel.core.boot.files import FileKind
from daskel.core.boot.identity import Who
from daskel.core.boot.segments import servers
from daskel.core.boot.stages import FileAborted, FileSent
from daskel.service.content import NotOpened, Opened, open_content
from daskel.service.shared import Shared
from daskel.service.sockets import tcp

_UNANSWERED = 12_000  # milliseconds
_RESET = struct.pack("ii", 1, 0)  # SO_LINGER: no farewell, so that nothing of it is left
_log = logging.getLogger(__name__)


class HttpService:
    """The files of one site on every server address."""

    def __init__(self, shared: Shared, tls: ssl.SSLContext | None = None) -> None:
        self._shared, self._tls = shared, tls
        self.under_way = 0  # files that are being sent
        port = shared.wire.ports.https if tls else shared.wire.ports.http
        self._servers = {shared.wire.outside(server): server for server in servers(shared.site)}
        self._sockets: list[socket.socket] = []
        try:
            for address in self._servers:
                sock = tcp(address, port)
                self._sockets.append(sock)
                # Inherited by its connections: one whose last packet a machine no longer answers,
                # since its kernel has started, is gone before that machine boots again.
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, _UNANSWERED)
        except BaseException:
            self._close_sockets()
            raise
        application = web.Application()
        application.router.add_get("/{path:.*}", self._get)
        self._runner = web.AppRunner(
            application, access_log=None, handle_signals=False, logger=_protocol_log(shared)
        )

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
        await self._runner.setup()
        self._shared.on_boot.append(self._forget)
        for sock in self._sockets:
            await web.SockSite(self._runner, sock, backlog=256, ssl_context=self._tls).start()

    async def close(self) -> None:
        await self._runner.cleanup()
        self._close_sockets()

    def _close_sockets(self) -> None:
        for sock in self._sockets:
            sock.close()

    async def _get(self, request: web.Request) -> web.StreamResponse:
        assert request.transport
        bound = request.transport.get_extra_info("sockname")[0]
        server = self._servers[bound]
        name, who = self._shared.caller(server, request.remote or "0.0.0.0")
        asked = request.match_info["path"].encode("utf-8", "surrogateescape")
        opened = open_content(self._shared, name, asked, who, "http")
        if isinstance(opened, NotOpened):
            status = 403 if opened.refused else 404
            return web.Response(status=status, text=opened.reason + "\n")
        self.under_way += 1
        try:
            return await self._send(request, opened, who)
        finally:
            self.under_way -= 1
            opened.close()

    async def _send(self, request: web.Request, opened: Opened, who: Who) -> web.StreamResponse:
        began = time.monotonic()
        response = _computed(request, opened) if opened.data is not None else _on_disk(opened)
        try:
            await response.prepare(request)
            await response.write_eof()
        except ConnectionError:
            self._shared.emit(
                FileAborted(who, opened.path, "http", "the client closed the connection")
            )
            return response
        if request.method == "GET" and response.status in (200, 206) and not opened.quiet:
            size = response.content_length or 0
            seconds = time.monotonic() - began
            self._shared.emit(FileSent(who, opened.path, opened.kind, size, seconds, "http"))
        return response


def _protocol_log(shared: Shared) -> logging.Logger:
    """Where aiohttp says what went wrong with a connection."""
    logger = logging.Logger("daskel.http")
    logger.addHandler(_ProtocolErrors(shared))
    return logger


class _ProtocolErrors(logging.Handler):
    """Requests that are none are counted; clients that left are no news; the rest is our fault."""

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


class _OpenFile(web.FileResponse):
    """aiohttp's own file response: ranges, conditions, sendfile; of the file that is open.

    It is prepared (and with that sent) by the handler, so that the handler knows when it has
    ended; aiohttp prepares what a handler returns once more.
    """

    async def prepare(self, request: BaseRequest) -> AbstractStreamWriter | None:
        return None if self.prepared else await super().prepare(request)


def _on_disk(opened: Opened) -> web.StreamResponse:
    headers = {"Content-Type": "application/octet-stream"}
    return _OpenFile(f"/proc/self/fd/{opened.descriptor}", headers=headers)


def _computed(request: web.Request, opened: Opened) -> web.StreamResponse:
    data = opened.data or b""
    loads = opened.kind is FileKind.LOADER
    kind = "application/octet-stream" if loads else "text/plain; charset=utf-8"
    headers = {"Content-Type": kind, "Accept-Ranges": "bytes"}
    try:
        wanted = request.http_range
        start, stop, _ = wanted.indices(len(data))
    except ValueError:
        wanted, start, stop = slice(None), 0, 0
        headers["Content-Range"] = f"bytes */{len(data)}"
        return web.Response(status=416, headers=headers)
    if wanted.start is None and wanted.stop is None:
        return web.Response(body=data, headers=headers)
    if start >= stop:
        headers["Content-Range"] = f"bytes */{len(data)}"
        return web.Response(status=416, headers=headers)
    headers["Content-Range"] = f"bytes {start}-{stop - 1}/{len(data)}"
    return web.Response(status=206, body=data[start:stop], headers=headers)
