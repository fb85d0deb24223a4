"""TFTP: one listening socket per server address, one connected socket per transfer."""

from __future__ import annotations

import asyncio
import resource
import socket
from collections.abc import Iterable
from functools import partial
from ipaddress import IPv4Address

from daskel.core.content.bandwidth import Bandwidth
from daskel.core.content.paths import PathRefusedError
from daskel.core.history.aborts import aborted
from daskel.core.history.events import Abort, FileAborted, FileAsked, FileSent, FileSized, Who
from daskel.core.places import Places
from daskel.core.reader import MalformedError
from daskel.core.tftp.packet import Error, ErrorCode, Opcode, Request, parse
from daskel.core.tftp.reception import Reception, accepted
from daskel.core.tftp.transfer import Blocks, Output, State, Transfer, granted
from daskel.service.files.blocks import Image, Images, Sender
from daskel.service.files.content import Contents
from daskel.service.files.opened import NotOpened, Opened
from daskel.service.files.receiving import Receiving, code_of, reason_of
from daskel.service.files.short_ways import LockStep, windows
from daskel.service.shared import Moving, Shared, seat
from daskel.service.sockets import udp

_LARGEST = 65535  # bytes of a request; a path that is too long is answered, too
_LARGEST_ACK = 2048  # bytes of an acknowledgement or an error
_BATCH = 64  # packets read at once from one socket
_MOST_TRANSFERS, _MOST_EACH = 4096, 32  # of all, and of one address
_MOST_HELD, _MOST_HELD_EACH = 256, 4  # requests for images that are being worked out
_SWEEP, _IDLE = 0.02, 0.1  # seconds between looks at the clock for all transfers
_MOST_WINDOWS = 4096  # clients that are remembered for losing the ends of windows
# Bytes of IP, UDP and TFTP headers around a block, and Linux's socket option: ip(7), ipv6(7)
_HEADERS, _IP_MTU = {4: 32, 6: 52}, {4: (socket.IPPROTO_IP, 14), 6: (socket.IPPROTO_IPV6, 24)}

Peer = tuple[str, int]


class TftpService:
    """The files of one site on one server address."""

    def __init__(self, shared: Shared, contents: Contents, server: IPv4Address) -> None:
        self._shared, self._contents, self._server = shared, contents, server
        self._address = shared.wire.outside(server)
        self._sock = udp(self._address, shared.wire.ports.tftp, roomy=True)
        self._sessions: dict[Peer, _Session | Receiving] = {}
        most = min(_MOST_TRANSFERS, resource.getrlimit(resource.RLIMIT_NOFILE)[0] // 4)
        self._places: Places[Peer] = Places(most, _MOST_EACH, len(shared.site.served))
        self._windows: dict[str, int] = {}  # by address: blocks that its buffers hold
        self._held: set[Peer] = set()  # that wait for an image
        self.sender, self.images, self.lock_step = Sender(), Images(), LockStep()

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        loop = asyncio.get_running_loop()
        loop.add_reader(self._sock, self._receive)
        self.lock_step.open()
        while True:
            await self._shared.clock.sleep(_SWEEP if self._sessions else _IDLE)
            now = self._shared.clock.monotonic()
            for session in list(self._sessions.values()):
                session.tick(now)

    def close(self) -> None:
        """Close its socket, and end all transfers."""
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
        for session in list(self._sessions.values()):
            session.close()
        self.lock_step.close()

    @property
    def under_way(self) -> list[Moving]:
        """Transfers now."""
        return [session.moving for session in self._sessions.values()]

    def forget(self, peer: Peer, transfer: Transfer) -> None:
        """A client that lost the ends of its windows again and again has small buffers."""
        self._end(peer)
        windows = transfer.acknowledged // transfer.window
        if transfer.window > 1 and transfer.timeouts > max(2, windows // 10):
            if len(self._windows) >= _MOST_WINDOWS:
                self._windows.clear()
            self._windows[peer[0]] = max(1, transfer.window // 2)

    def _receive(self) -> None:
        for _ in range(_BATCH):
            try:
                data, peer = self._sock.recvfrom(_LARGEST)
            except BlockingIOError:
                return
            except OSError:
                continue
            try:
                packet = parse(data)
            except MalformedError as error:
                self._shared.malformed("tftp", str(error))
                if data[:2] == Opcode.READ.to_bytes(2, "big"):
                    self._refuse(peer, ErrorCode.ILLEGAL, "not a request")
                continue
            if isinstance(packet, Request):
                self._request(packet, peer)
            else:
                self._refuse(peer, ErrorCode.UNKNOWN_TRANSFER, "requests only on this port")

    def _request(self, request: Request, peer: Peer) -> None:
        if (before := self._sessions.get(peer)) is not None:
            if before.is_answer_to(request):
                return None  # the same request again: its transfer will send again by itself
            before.close()  # the machine was reset, and its firmware begins at the same port
        if request.mode != "octet":
            return self._refuse(peer, ErrorCode.ILLEGAL, f"mode {request.mode[:20]}: ask for octet")
        segment, who = self._shared.caller(self._server, peer[0])
        if request.opcode is Opcode.WRITE:
            return self._write(request, peer, segment, who)
        opened = self._contents.open(segment, request.path, who, "tftp")
        if isinstance(opened, NotOpened):
            code = ErrorCode.ACCESS if opened.refused else ErrorCode.NOT_FOUND
            return self._refuse(peer, code, opened.reason)
        if opened.ready and not opened.ready.done():
            return self._hold(request, peer, segment, who, opened)
        return self._begin(request, peer, segment, who, opened)

    def _hold(self, request: Request, peer: Peer, segment: str, who: Who, opened: Opened) -> None:
        """Until the last of its bytes are known; who asks again meanwhile has asked already."""
        assert opened.ready
        own = sum(address == peer[0] for address, _ in self._held)
        if peer in self._held or len(self._held) >= _MOST_HELD or own >= _MOST_HELD_EACH:
            opened.close()
            return

        def ready(ended: asyncio.Future[None]) -> None:
            self._held.discard(peer)
            if ended.cancelled() or ended.exception() or self._sock.fileno() < 0:
                opened.close()
            else:
                self._begin(request, peer, segment, who, opened)

        self._held.add(peer)
        opened.ready.add_done_callback(ready)

    def _write(self, request: Request, peer: Peer, segment: str, who: Who) -> None:
        """A client delivers a file, where a rule of the site lets it."""
        shown = request.path[:200].decode("utf-8", "backslashreplace")
        try:
            path, rule = self._shared.written.rule(request.path, who)
            part = self._shared.uploads.begin(path, rule.files)
        except PathRefusedError as error:
            self._shared.emit(FileAborted(who, shown, "tftp", f"write: {error}", Abort.NOT_ALLOWED))
            return self._refuse(peer, ErrorCode.ACCESS, str(error))
        except OSError as error:
            where = f" ({error.filename})" if error.filename else ""
            reason = f"write: {reason_of(error)}{where}"
            self._shared.emit(FileAborted(who, shown, "tftp", reason, Abort.BY_SERVER))
            return self._refuse(peer, code_of(error), reason_of(error))
        if not self._enter(peer, segment, who):
            return part.close()
        try:
            sock, largest = self._connected(peer)
        except OSError:
            self._end(peer)
            return part.close()
        reception = Reception(rule.size, accepted(request, largest))
        session = Receiving(
            self._shared, who, path, part, sock, reception, request, partial(self._end, peer),
            partial(self.heard, peer),
        )  # fmt: skip
        self._sessions[peer] = session
        return session.start()

    def _end(self, peer: Peer) -> None:
        self._sessions.pop(peer, None)
        self._places.leave(peer)

    def heard(self, peer: Peer) -> None:
        """Something came back: the peer is there, and takes what it asked for."""
        self._places.busy(peer)

    def _enter(self, peer: Peer, segment: str, who: Who) -> bool:
        """Whether there is a place for one more transfer; who takes nothing gives way."""
        known = who.name is not None
        let_in, gives_way = self._places.enter(peer, seat(who, peer[0]), segment, known=known)
        if gives_way is not None and (session := self._sessions.get(gives_way)):
            session.close()
        if not let_in:
            self._shared.malformed("tftp", f"too many transfers at once ({who})")
        return let_in

    def _connected(self, peer: Peer) -> tuple[socket.socket, int]:
        """A socket of a transfer's own, and the bytes of a block that fit its path. Raises
        OSError."""
        sock = udp(self._address, 0)
        try:
            sock.connect(peer)
            version = self._server.version
            return sock, sock.getsockopt(*_IP_MTU[version]) - _HEADERS[version]
        except OSError:
            sock.close()
            raise

    def _begin(self, request: Request, peer: Peer, segment: str, who: Who, opened: Opened) -> None:
        if not self._enter(peer, segment, who):
            opened.close()
            return
        try:
            sock, largest = self._connected(peer)
        except OSError:
            self._end(peer)
            opened.close()
            return
        window = self._windows.get(peer[0], self._shared.site.settings.tftp_window)
        options = granted(request, opened.size, largest, window)
        transfer = Transfer(opened.size, options)
        session = _Session(self, self._shared, peer, who, opened, sock, transfer, request)
        session.bandwidth = self._shared.bandwidth.get(segment)
        self._sessions[peer] = session
        if not opened.quiet:
            self._shared.emit(FileAsked(who, opened.path, opened.kind, opened.size, "tftp"))
        session.start()

    def _refuse(self, peer: Peer, code: ErrorCode, reason: str) -> None:
        try:
            self._sock.sendto(Error(code, reason).serialise(), peer)
        except OSError:
            return  # whoever asked is gone


class _Session:
    """One transfer: its socket, its file, its state machine."""

    def __init__(  # noqa: PLR0913 - all that it stands on, by name
        self,
        service: TftpService,
        shared: Shared,
        peer: Peer,
        who: Who,
        opened: Opened,
        sock: socket.socket,
        transfer: Transfer,
        request: Request,
    ) -> None:
        self._service, self._shared, self._peer, self._who = service, shared, peer, who
        self._opened, self._sock, self._transfer = opened, sock, transfer
        self._request = request
        self._image = service.images.of(opened, transfer.block_size, transfer.window)
        self._monotonic = shared.clock.monotonic
        self._began = self._monotonic()
        self.bandwidth: Bandwidth | None = None  # of its segment, when there is a limit
        self._held: asyncio.TimerHandle | None = None  # blocks that wait for their turn
        self._heard = False  # something came back
        self._short = False  # the short way was looked for

    @property
    def moving(self) -> Moving:
        done = min(self._transfer.acknowledged * self._transfer.block_size, self._opened.size)
        return Moving(self._who, self._opened.path, done, self._opened.size)

    def is_answer_to(self, request: Request) -> bool:
        """`request` may be the one that began this transfer, sent again."""
        return request == self._request and self._transfer.acknowledged == 0

    def start(self) -> None:
        asyncio.get_running_loop().add_reader(self._sock, self._receive)
        self._send(self._transfer.start(self._monotonic()))

    def tick(self, now: float) -> None:
        if self._held or now < self._transfer.deadline:
            return
        self._receive()  # the answer may be here, and we were late
        if self._sock.fileno() >= 0:
            self._send(self._transfer.tick(now))

    def close(self) -> None:
        if self._held:
            self._held.cancel()
        self._service.lock_step.remove(self._sock)
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
        self._opened.close()
        self._service.forget(self._peer, self._transfer)

    def _receive(self) -> None:
        """One packet: there is seldom another."""
        try:
            data = self._sock.recv(_LARGEST_ACK)
        except BlockingIOError:
            return
        except OSError:
            self._refused()
            return
        self._take(data, self._monotonic())

    def _take(self, data: bytes, now: float) -> None:
        transfer = self._transfer
        if not self._heard:
            self._heard = True
            self._service.heard(self._peer)
        if len(data) == 4 and data[1] == Opcode.ACK and transfer.state is State.SENDING:
            if not self._held:  # else of what was sent before
                self._acknowledged(data[2] << 8 | data[3], now)
            return
        try:
            packet = parse(data)
        except MalformedError as error:
            self._shared.malformed("tftp", str(error))
            return
        offering = transfer.state is State.OFFERING and "tsize" in transfer.options
        self._send(transfer.receive(packet, now), offering)

    def _go_short(self) -> None:
        """From now on, what nearly always comes is answered by a short way, if there is one."""
        self._short = True
        image, loop = self._image, asyncio.get_running_loop()
        if self.bandwidth or not isinstance(image, Image):
            return
        sock, transfer, service = self._sock, self._transfer, self._service
        if transfer.window == 1:
            loop.remove_reader(sock)
            service.lock_step.add(sock, transfer, image, self._take, self._refused)
        elif reader := windows(sock, transfer, image, service.sender, self._take, self._refused):
            loop.add_reader(sock, reader)

    def _acknowledged(self, block: int, now: float) -> None:
        """The general way goes on; the short one begins behind the first blocks."""
        blocks = self._transfer.acknowledge(block, now)
        if not self._short and self._transfer.state is State.SENDING:
            self._go_short()
        if blocks is not None and blocks.amount == 1 and not self.bandwidth:
            try:
                self._sock.send(self._image.datagrams(blocks, self._opened))
            except (OSError, EOFError):
                return  # as when it is lost: the clock sends it again
        else:
            self._send(() if blocks is None else (blocks,))

    def _refused(self) -> None:
        """The client's port is closed (ICMP): nobody is there to send to any more."""
        self._transfer.gone()
        self._send([])

    def _send(self, outputs: Iterable[Output], offering: bool = False) -> None:
        for output in outputs:
            try:
                self._put(output)
            except OSError:
                continue  # a full buffer or a closed port: the clock sends it again
            except EOFError:
                self._put(self._transfer.end("the file has become shorter"))
        state = self._transfer.state
        if state is State.DONE or state is State.FAILED:
            self._finish(only_asked=offering)

    def _put(self, output: Output) -> None:
        if isinstance(output, Blocks):
            if self.bandwidth and self._hold(self.bandwidth, output):
                return
            data = self._image.datagrams(output, self._opened)
            self._service.sender.send(self._sock, data, self._image.size)
        else:
            self._sock.send(output.serialise())

    def _hold(self, bandwidth: Bandwidth, blocks: Blocks) -> bool:
        """Whether they must wait for their turn; they are sent then."""
        if self._held:
            self._held = None
            return False
        seconds = bandwidth.wait(blocks.length, self._monotonic())
        if seconds:
            self._transfer.later(seconds)
            self._held = asyncio.get_running_loop().call_later(seconds, self._send, [blocks])
        return bool(seconds)

    def _finish(self, *, only_asked: bool) -> None:
        """Say how it ended, unless the client only asked for the size and took no block."""
        transfer, opened = self._transfer, self._opened
        if opened.quiet:
            return self.close()
        if transfer.state is State.DONE:
            seconds = self._monotonic() - self._began
            self._shared.emit(
                FileSent(
                    self._who,
                    opened.path,
                    opened.kind,
                    opened.size,
                    seconds,
                    "tftp",
                    transfer.resent,
                )
            )
        elif only_asked:
            self._shared.emit(FileSized(self._who, opened.path, "tftp"))
        else:
            blocks = transfer.acknowledged
            self._shared.emit(aborted(self._who, opened.path, transfer.failure, blocks))
        return self.close()
