"""The client's side of DHCP, TFTP, HTTP and NFS over real sockets, for simulated clients."""

from __future__ import annotations

import errno
import http.client
import os
import socket
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from ipaddress import IPv4Address
from urllib.parse import urlsplit

from daskel.core.boot.segments import behind_relays
from daskel.core.boot.wire import Wire
from daskel.core.dhcp import packet as dhcp
from daskel.core.dhcp.client_messages import Face, discover, renewal, request
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet
from daskel.core.nfs import calls, mount, nfs3, results
from daskel.core.nfs.nfs3 import FileType, Procedure
from daskel.core.nfs.results import DirectoryEntry
from daskel.core.nfs.rpc import Records, mark, parse_reply, serialise_call
from daskel.core.nfs.xdr import pack_opaque
from daskel.core.reader import Reader
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.tftp import packet as tftp
from daskel.core.tftp.packet import Ack, Data, Error, Opcode, Options, Request
from daskel.core.values import mac_text

_OTHER = IPv4Address("192.0.2.1")  # the other DHCP server that a simulated client says it took
_TRIES, _FIRST_WAIT = 5, 1.0  # TFTP: sendings, and seconds before the second one
_RESERVED = 1023, 664, -1  # as Linux takes them (xprtsock.c), the highest first
_TCP_WAIT = 30.0  # seconds
_PIECE = 256 << 10  # bytes
_MOST_LINKS = 40


@dataclass(frozen=True, slots=True)
class Way:
    """How a simulated client comes to its address: as it is (`DIRECT`), through a relay agent, or
    from another DHCP server that gives it `address`, Daskel being a proxy or silent."""

    relay: IPv4Address = NOWHERE
    address: IPv4Address | None = None

    @classmethod
    def of(cls, site: Site, name: str) -> Way:
        """The way of a client of `site`. Raises ValueError when it would need an address that
        the site file does not say."""
        found = effective(site, name)
        if found.segment is None:
            raise ValueError(f"client {name} is on no segment")
        segment = site.segments[found.segment.value]
        relay = segment.relays[0] if behind_relays(segment) else NOWHERE
        if segment.dhcp == "full":
            return cls(relay)
        if found.address is None:
            raise ValueError(f"{name} gets its address elsewhere; write it down: address = ...")
        return cls(relay, found.address.value)


DIRECT = Way()


class BootError(Exception):
    """A simulated client could not go on: what it asked for, and what came."""


def get_address(
    wire: Wire, server: IPv4Address, face: Face, mac: str, xid: int, way: Way = DIRECT,
    again: list[str] | None = None,
) -> Packet:  # fmt: skip
    """DISCOVER, OFFER, REQUEST, ACK; the ACK. `again` gets what had to be asked again. Raises
    BootError."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("127.0.0.1", 0))
        target = (wire.outside(server), wire.ports.dhcp)
        ask = partial(_exchange, sock, face.waits, [] if again is None else again)
        asked = replace(discover(face, mac, xid), giaddr=way.relay)
        if way.address is not None:
            taken = partial(_tell, sock, target)
            return _beside_another(wire, ask, taken, target, face, asked, way.address)
        offer = ask(target, asked)
        if offer.message_type is not MessageType.OFFER:
            raise BootError(f"DISCOVER was answered with {offer.message_type!r}")
        acknowledged = ask(target, replace(request(face, offer), giaddr=way.relay))
        if acknowledged.message_type is not MessageType.ACK:
            raise BootError(f"REQUEST for {offer.yiaddr} was answered with a NAK")
        if not face.by_port or not _asks_port(acknowledged):
            return acknowledged
        return _by_port(wire, ask, target, face, asked, acknowledged)


Ask = Callable[[tuple[str, int], Packet], Packet]


def _tell(sock: socket.socket, target: tuple[str, int], message: Packet) -> None:
    sock.sendto(dhcp.serialise(message)[0], target)


def _asks_port(reply: Packet) -> bool:
    """UEFI firmware that reads `PXEClient` and nothing of how to boot asks port 4011."""
    told = reply.options.get(Code.VENDOR_CLASS, b"").startswith(b"PXEClient")
    return told and Code.VENDOR_SPECIFIC not in reply.options


def _by_port(
    wire: Wire, ask: Ask, target: tuple[str, int], face: Face, asked: Packet, given: Packet
) -> Packet:
    """The boot file from port 4011, whatever else the reply says. Raises BootError."""
    mac = mac_text(asked.chaddr)
    question = replace(renewal(face, mac, asked.xid, given.yiaddr), giaddr=NOWHERE)
    try:
        answer = ask((target[0], wire.ports.pxe), question)
    except BootError as error:
        raise BootError(f"PXE-E16: port 4011: {error}") from None
    return replace(answer, yiaddr=given.yiaddr)


def _beside_another(
    wire: Wire, ask: Ask, tell: Callable[[Packet], None], target: tuple[str, int], face: Face,
    asked: Packet, address: IPv4Address,
) -> Packet:  # fmt: skip
    """What firmware makes of an offer without an address: it tells the other server what it
    takes, and asks port 4011 when the offer names no boot file. A system only does the former."""
    given = replace(asked, op=2, yiaddr=address, options={Code.SERVER_ID: _OTHER.packed})
    if face.architecture is None:
        tell(request(face, given))
        return given
    offer = ask(target, asked)
    tell(replace(request(face, given), giaddr=asked.giaddr))
    nameless = not offer.file and Code.BOOT_FILE not in offer.options
    if nameless or (face.by_port and _asks_port(offer)):
        return _by_port(wire, ask, target, face, asked, given)
    return replace(offer, yiaddr=address)


def _exchange(
    sock: socket.socket, waits: Sequence[float], again: list[str], target: tuple[str, int],
    message: Packet,
) -> Packet:  # fmt: skip
    data = dhcp.serialise(message)[0]
    kind = message.message_type
    for attempt, wait in enumerate(waits):
        if attempt:
            again.append(f"DHCP {kind.name if kind else ''}")
        sock.sendto(data, target)
        until = time.monotonic() + wait
        while (left := until - time.monotonic()) > 0:
            sock.settimeout(left)
            try:
                reply = dhcp.parse(sock.recv(2048))
            except TimeoutError:
                break
            if reply.xid == message.xid and reply.op == 2:
                return reply
    raise BootError(f"no answer to DHCP {kind.name if kind else ''}")


def tftp_get(wire: Wire, own: IPv4Address, server: IPv4Address, path: str, face: Face) -> bytes:
    """A file whole. Raises BootError."""
    return b"".join(tftp_pieces(wire, own, server, path, face, []))


def tftp_pieces(
    wire: Wire, own: IPv4Address, server: IPv4Address, path: str, face: Face, again: list[str]
) -> Iterator[bytes]:
    """A file in blocks. Firmware that asks for the size first does so. Raises BootError."""
    options = {"blksize": str(face.block_size)} if face.block_size else {}
    options |= {"tsize": "0"} if options and face.size_asked else {}
    options |= {"windowsize": str(face.window)} if face.window else {}
    fetch = partial(_tftp, wire, own, server, again)
    if face.size_first:
        for _ in fetch(Request(Opcode.READ, path.encode(), "octet", options), False):
            pass
    yield from fetch(Request(Opcode.READ, path.encode(), "octet", options), True)


def _tftp(
    wire: Wire, own: IPv4Address, server: IPv4Address, again: list[str], ask: Request, whole: bool
) -> Iterator[bytes]:
    """The blocks; without `whole`, only the size is asked for."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind((wire.outside(own), 0))
        peer: tuple[str, int] = (wire.outside(server), wire.ports.tftp)
        receiving = _Receiving(ask, whole)
        message: bytes | None = ask.serialise()
        while True:
            packet, peer = _tftp_exchange(sock, peer, message, receiving, again)
            message = receiving.reply_to(packet)
            if receiving.payload is not None:
                yield receiving.payload
            if receiving.ended:
                if message:
                    sock.sendto(message, peer)
                return


class _Receiving:
    """What a client makes of the packets of one transfer (RFC 1350, 2347 to 2349, 7440)."""

    def __init__(self, ask: Request, whole: bool) -> None:
        self.path, self._whole, self.ended = ask.path.decode(), whole, False
        self._wants_size = "tsize" in ask.options and not whole
        self._block_size, self._window, self._expected = 512, 1, 1
        self.payload: bytes | None = None  # what the last packet brought
        self.last = b""  # to be sent again when nothing comes

    def reply_to(self, packet: tftp.TftpPacket) -> bytes | None:
        """None in the middle of a window. Raises BootError."""
        self.payload, reply = None, None
        if isinstance(packet, Error):
            raise BootError(f"TFTP {self.path}: {packet.message} (error {packet.code})")
        if isinstance(packet, Options):
            reply = self._granted(packet.options)
        elif isinstance(packet, Data):
            reply = self._data(packet)
        self.last = reply or self.last
        return reply

    def _granted(self, options: Mapping[str, str]) -> bytes:
        self._block_size = int(options.get("blksize", 512))
        self._window = int(options.get("windowsize", 1))
        if self._whole:
            return Ack(0).serialise()
        self.ended = True
        return Error(8, "User aborted the transfer").serialise()

    def _data(self, packet: Data) -> bytes | None:
        if self._wants_size:
            raise BootError(f"PXE-E99: the server does not say how large {self.path} is (tsize)")
        if packet.block != self._expected & 0xFFFF:  # the one before it was lost
            return Ack(self._expected - 1 & 0xFFFF).serialise()
        self.payload, self.ended = packet.payload, len(packet.payload) < self._block_size
        self._expected += 1
        last_of_window = (self._expected - 1) % self._window == 0
        if not (self.ended or last_of_window):
            self.last = Ack(packet.block).serialise()  # sent when no more comes
            return None
        return Ack(packet.block).serialise()


def _tftp_exchange(
    sock: socket.socket, peer: tuple[str, int], message: bytes | None, receiving: _Receiving,
    again: list[str],
) -> tuple[tftp.TftpPacket, tuple[str, int]]:  # fmt: skip
    for attempt in range(_TRIES):
        if attempt:
            again.append(f"TFTP {receiving.path}")
            message = receiving.last or message
        if message:
            sock.sendto(message, peer)
        sock.settimeout(_FIRST_WAIT * 2**attempt)
        try:
            data, sender = sock.recvfrom(65535)
        except TimeoutError:
            continue
        return tftp.parse(data), sender
    raise BootError(f"TFTP {receiving.path}: no answer")


def http_get(wire: Wire, own: IPv4Address, url: str) -> bytes:
    """A file whole. Raises BootError."""
    return b"".join(http_pieces(wire, own, url))


def http_pieces(wire: Wire, own: IPv4Address, url: str) -> Iterator[bytes]:
    """HEAD, then GET, as firmware does; both need a Content-Length. Raises BootError."""
    connection, path = _connect(wire, own, url)
    try:
        for method in ("HEAD", "GET"):
            connection.request(method, path)
            response = connection.getresponse()
            length = response.headers.get("Content-Length")
            if response.status != 200 or length is None:
                said = response.read(200).decode("utf-8", "replace").strip() or "nothing"
                raise BootError(f"{method} {url}: status {response.status} ({said})")
            while method == "GET" and (piece := response.read(_PIECE)):
                yield piece
            response.read()
    except (OSError, http.client.HTTPException) as error:
        raise BootError(f"{url}: {error}") from error
    finally:
        connection.close()


def http_tell(wire: Wire, own: IPv4Address, url: str, body: bytes) -> None:
    """POST. Raises BootError."""
    status, _ = http_ask(wire, own, "POST", url, body)
    if status != 200:
        raise BootError(f"POST {url}: status {status}")


def http_ask(
    wire: Wire, own: IPv4Address, method: str, url: str, body: bytes = b""
) -> tuple[int, bytes]:
    """Status and body of an answer. Raises BootError."""
    connection, path = _connect(wire, own, url)
    try:
        connection.request(method, path, body)
        response = connection.getresponse()
        return response.status, response.read()
    except (OSError, http.client.HTTPException) as error:
        raise BootError(f"{url}: {error}") from error
    finally:
        connection.close()


def _connect(wire: Wire, own: IPv4Address, url: str) -> tuple[http.client.HTTPConnection, str]:
    parts = urlsplit(url)
    host, source = wire.outside(IPv4Address(parts.hostname or "")), (wire.outside(own), 0)
    port = parts.port or (wire.ports.http if wire.loopback else 80)
    return http.client.HTTPConnection(host, port, _TCP_WAIT, source), parts.path


def from_reserved_port(own: str, target: tuple[str, int]) -> socket.socket:
    """A connection as a kernel makes it, from a port below 1024; from another one for who may not.
    Raises OSError."""
    for port in range(*_RESERVED):
        try:
            return socket.create_connection(target, _TCP_WAIT, source_address=(own, port))
        except PermissionError:
            break
        except OSError as error:
            if error.errno not in (errno.EADDRINUSE, errno.EADDRNOTAVAIL):
                raise
    return socket.create_connection(target, _TCP_WAIT, source_address=(own, 0))


class NfsRoot:
    """A mounted root: files by path. Raises BootError."""

    def __init__(self, wire: Wire, own: IPv4Address, server: IPv4Address, path: str) -> None:
        target = (wire.outside(server), wire.ports.nfs)
        self._records, self._xid = Records(), 0
        self._where = f"{server}:{path}"
        try:
            self._sock = from_reserved_port(wire.outside(own), target)
        except OSError as error:
            words = (error.strerror or str(error)).lower()
            raise BootError(f"mount {self._where}: {words}") from error
        got = self._call(mount.PROGRAM, mount.Procedure.MOUNT, mount.serialise_path(path))
        top = mount.parse_mounted(got)
        if isinstance(top, mount.Status):
            self._sock.close()
            raise BootError(f"mount {self._where}: {os.strerror(top).lower()}")
        self.top = top

    def close(self) -> None:
        """End its connection."""
        self._sock.close()

    def entries(self, directory: bytes) -> Iterator[DirectoryEntry]:
        """Everything in a directory but `.` and `..`."""
        cookie, last = 0, False
        while not last:
            arguments = calls.serialise_readdirplus(directory, cookie, 8192)
            got = self.call(Procedure.READDIRPLUS, arguments)
            entries, last = results.parse_listed_plus(got)
            yield from (entry for entry in entries if entry.name not in (b".", b".."))
            cookie = entries[-1].cookie if entries else cookie

    def files(self, directory: bytes | None = None, above: str = "") -> Iterator[tuple[str, bytes]]:
        """Path and content of every regular file."""
        for entry in self.entries(directory or self.top):
            path = above + entry.name.decode()
            if entry.attributes is None or entry.handle is None:
                continue
            if entry.attributes.type is FileType.DIRECTORY:
                yield from self.files(entry.handle, path + "/")
            elif entry.attributes.type is FileType.REGULAR:
                yield path, self.read(entry.handle)

    def read_file(self, handle: bytes) -> bytes | None:
        """The same of a regular file; None for anything else."""
        try:
            return self.read(handle)
        except BootError:
            return None

    def read(self, handle: bytes) -> bytes:
        """The whole content of a file. Raises BootError."""
        data, last = bytearray(), False
        while not last:
            got = self.call(Procedure.READ, calls.serialise_read(handle, len(data), 65536))
            results.parse_post_op(got)
            count, last = got.number(4), bool(got.number(4))
            got.number(4)
            data += got.take(count)
        return bytes(data)

    def resolve(self, path: str) -> bytes | None:
        """The handle of what is at a path, symbolic links followed; None when nothing is."""
        found = self._follow(path)
        return found[0] if found else None

    def real(self, path: str) -> str | None:
        """The path behind all links; None when nothing is there."""
        found = self._follow(path)
        return found[1] if found else None

    def _follow(self, path: str) -> tuple[bytes, str] | None:
        """The handle of what is at a path, and its path without links."""
        left, at, links = path.strip("/").split("/"), [self.top], 0
        names: list[str] = []
        while left:
            name = left.pop(0)
            if name in ("", "."):
                continue
            if name == "..":
                at, names = at[:-1] or [self.top], names[:-1]
                continue
            got = self._call(
                nfs3.PROGRAM, Procedure.LOOKUP, calls.serialise_lookup(at[-1], name.encode())
            )
            if got.number(4):
                return None
            handle = got.opaque(64)
            target = self._link(handle)
            if target is None:
                at.append(handle)
                names.append(name)
                continue
            links += 1
            if links > _MOST_LINKS:
                return None
            left = [*target.strip("/").split("/"), *left]
            if target.startswith("/"):
                at, names = [self.top], []
        return at[-1], "/" + "/".join(names)

    def names(self, path: str) -> list[str]:
        """What is in a folder; nothing when there is none."""
        handle = self.resolve(path)
        try:
            return [e.name.decode("utf-8", "replace") for e in self.entries(handle or b"")]
        except BootError:
            return []

    def _link(self, handle: bytes) -> str | None:
        """Where a symbolic link leads; None for anything else."""
        got = self._call(nfs3.PROGRAM, Procedure.READLINK, pack_opaque(handle))
        if got.number(4):
            return None
        results.parse_post_op(got)
        return got.opaque(4096).decode("utf-8", "replace")

    def call(self, procedure: Procedure, arguments: bytes) -> Reader:
        """The results behind the status. Raises BootError for any other than OK."""
        got = self._call(nfs3.PROGRAM, procedure, arguments)
        status = got.number(4)
        if status:
            raise BootError(f"NFS {procedure.name} on {self._where}: status {status}")
        return got

    def _call(self, program: int, procedure: int, arguments: bytes) -> Reader:
        self._xid += 1
        self._sock.sendall(mark(serialise_call(self._xid, program, 3, procedure, arguments)))
        while True:
            data = self._sock.recv(1 << 20)
            if not data:
                raise BootError(f"{self._where}: the server closed the connection")
            for record in self._records.feed(data):
                return parse_reply(record)[1]
