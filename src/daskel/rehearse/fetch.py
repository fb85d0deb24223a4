"""The client's side of DHCP, TFTP, HTTP and NFS over real sockets, for simulated clients."""

from __future__ import annotations

import http.client
import socket
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from urllib.parse import urlsplit

from daskel.core.boot.segments import behind_relays
from daskel.core.boot.wire import Wire
from daskel.core.dhcp import packet as dhcp
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet
from daskel.core.nfs import calls, mount, nfs3, results
from daskel.core.nfs.nfs3 import FileType, Procedure
from daskel.core.nfs.results import Entry
from daskel.core.nfs.rpc import Records, mark, parse_reply, serialise_call
from daskel.core.reader import Reader
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.tftp import packet as tftp
from daskel.core.tftp.packet import Ack, Data, Error, Opcode, Options, Request
from daskel.core.values import mac_text
from daskel.rehearse.firmware import Face, discover, renewal, request

_OTHER = IPv4Address("192.0.2.1")  # the other DHCP server that a simulated client says it took
_TRIES, _FIRST_WAIT = 5, 1.0  # DHCP and TFTP: sendings, and seconds before the second one
_TCP_WAIT = 10.0  # seconds


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
    wire: Wire, server: IPv4Address, face: Face, mac: str, xid: int, way: Way = DIRECT
) -> Packet:
    """DISCOVER, OFFER, REQUEST, ACK; the ACK. Raises BootError."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("127.0.0.1", 0))
        target = (wire.outside(server), wire.ports.dhcp)
        asked = replace(discover(face, mac, xid), giaddr=way.relay)
        if way.address is not None:
            return _beside_another(wire, sock, target, face, asked, way.address)
        offer = _exchange(sock, target, asked)
        if offer.message_type is not MessageType.OFFER:
            raise BootError(f"DISCOVER was answered with {offer.message_type!r}")
        acknowledged = _exchange(sock, target, replace(request(face, offer), giaddr=way.relay))
    if acknowledged.message_type is not MessageType.ACK:
        raise BootError(f"REQUEST for {offer.yiaddr} was answered with a NAK")
    return acknowledged


def _beside_another(
    wire: Wire, sock: socket.socket, target: tuple[str, int], face: Face, asked: Packet,
    address: IPv4Address,
) -> Packet:  # fmt: skip
    """What firmware makes of an offer without an address: it tells the other server what it
    takes, and asks port 4011 when the offer names no boot file. A system only does the former."""
    given = replace(asked, op=2, yiaddr=address, options={Code.SERVER_ID: _OTHER.packed})
    if face.architecture is None:
        sock.sendto(dhcp.serialise(request(face, given))[0], target)
        return given
    offer = _exchange(sock, target, asked)
    sock.sendto(dhcp.serialise(replace(request(face, given), giaddr=asked.giaddr))[0], target)
    if not offer.file and Code.BOOT_FILE not in offer.options:
        ask = replace(renewal(face, mac_text(asked.chaddr), asked.xid, address), giaddr=NOWHERE)
        offer = _exchange(sock, (target[0], wire.ports.pxe), ask)
    return replace(offer, yiaddr=address)


def _exchange(sock: socket.socket, target: tuple[str, int], message: Packet) -> Packet:
    data = dhcp.serialise(message)[0]
    for attempt in range(_TRIES):
        sock.sendto(data, target)
        until = time.monotonic() + _FIRST_WAIT * 2**attempt
        while (left := until - time.monotonic()) > 0:
            sock.settimeout(left)
            try:
                reply = dhcp.parse(sock.recv(2048))
            except TimeoutError:
                break
            if reply.xid == message.xid and reply.op == 2:
                return reply
    raise BootError(f"no answer to a DHCP {message.message_type!r}")


def tftp_get(wire: Wire, own: IPv4Address, server: IPv4Address, path: str, face: Face) -> bytes:
    """Fetch a file. Firmware that asks for the size first does so. Raises BootError."""
    options = {"tsize": "0", "blksize": str(face.block_size)}
    if face.size_first:
        _tftp(wire, own, server, Request(Opcode.READ, path.encode(), "octet", options), False)
    ask = Request(Opcode.READ, path.encode(), "octet", options)
    return _tftp(wire, own, server, ask, True)


def _tftp(wire: Wire, own: IPv4Address, server: IPv4Address, ask: Request, whole: bool) -> bytes:
    path = ask.path.decode()
    received, expected = bytearray(), 1
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind((wire.outside(own), 0))
        peer: tuple[str, int] = (wire.outside(server), wire.ports.tftp)
        message, block_size = ask.serialise(), 512
        while True:
            packet, peer = _tftp_exchange(sock, peer, message, path)
            if isinstance(packet, Error):
                raise BootError(f"TFTP {path}: {packet.message} (error {packet.code})")
            if isinstance(packet, Options):
                block_size = int(packet.options.get("blksize", 512))
                if not whole:
                    sock.sendto(Error(8, "User aborted the transfer").serialise(), peer)
                    return b""
                message = Ack(0).serialise()
            elif isinstance(packet, Data) and packet.block == expected & 0xFFFF:
                received += packet.payload
                message = Ack(packet.block).serialise()
                expected += 1
                if len(packet.payload) < block_size:
                    sock.sendto(message, peer)
                    return bytes(received)


def _tftp_exchange(
    sock: socket.socket, peer: tuple[str, int], message: bytes, path: str
) -> tuple[tftp.TftpPacket, tuple[str, int]]:
    for attempt in range(_TRIES):
        sock.sendto(message, peer)
        sock.settimeout(_FIRST_WAIT * 2**attempt)
        try:
            data, sender = sock.recvfrom(65535)
        except TimeoutError:
            continue
        return tftp.parse(data), sender
    raise BootError(f"TFTP {path}: no answer")


def http_get(wire: Wire, own: IPv4Address, url: str) -> bytes:
    """HEAD, then GET, as firmware does; both need a Content-Length. Raises BootError."""
    parts = urlsplit(url)
    host = wire.outside(IPv4Address(parts.hostname or ""))
    source = (wire.outside(own), 0)
    connection = http.client.HTTPConnection(host, parts.port or 80, _TCP_WAIT, source)
    try:
        for method in ("HEAD", "GET"):
            connection.request(method, parts.path)
            response = connection.getresponse()
            body = response.read()
            length = response.headers.get("Content-Length")
            if response.status != 200 or length is None:
                raise BootError(f"{method} {url}: status {response.status}, length {length}")
        return body
    except (OSError, http.client.HTTPException) as error:
        raise BootError(f"{url}: {error}") from error
    finally:
        connection.close()


class NfsRoot:
    """A mounted root: files by path. Raises BootError."""

    def __init__(self, wire: Wire, own: IPv4Address, server: IPv4Address, path: str) -> None:
        target = (wire.outside(server), wire.ports.nfs)
        self._records, self._xid = Records(), 0
        self._where = f"{server}:{path}"
        try:
            source = (wire.outside(own), 0)
            self._sock = socket.create_connection(target, _TCP_WAIT, source_address=source)
        except OSError as error:
            raise BootError(f"mount {self._where}: {error}") from error
        got = self._call(mount.PROGRAM, mount.Procedure.MOUNT, mount.serialise_path(path))
        top = mount.parse_mounted(got)
        if isinstance(top, mount.Status):
            self._sock.close()
            raise BootError(f"mount {self._where}: {top.name.lower()}")
        self.top = top

    def close(self) -> None:
        self._sock.close()

    def entries(self, directory: bytes) -> Iterator[Entry]:
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

    def read(self, handle: bytes) -> bytes:
        data, last = bytearray(), False
        while not last:
            got = self.call(Procedure.READ, calls.serialise_read(handle, len(data), 65536))
            results.parse_post_op(got)
            count, last = got.number(4), bool(got.number(4))
            got.number(4)
            data += got.take(count)
        return bytes(data)

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
