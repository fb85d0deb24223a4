"""The port mapper on port 111, over UDP and TCP: for clients that ask where MOUNT and NFS are.

Some initrds ask, whatever they are told. Where another program has port 111, it is told.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from ipaddress import IPv4Address

from daskel.core.boot.wire import Ports
from daskel.core.nfs import mount, nfs3, portmap
from daskel.core.nfs.rpc import Records, Refusal, mark, parse_call, refuse, success
from daskel.core.places import Places
from daskel.core.reader import MalformedError
from daskel.service.shared import Shared
from daskel.service.sockets import tcp, udp
from daskel.system.requirements import MissingRequirementError

_LARGEST = 4096  # bytes of a datagram, and of a call over TCP
_MOST, _MOST_EACH = 256, 8  # connections, of all and of one address
_PATIENCE = 10.0  # seconds that a connection may last


def served(ports: Ports) -> dict[tuple[int, int], int]:
    """Ports by program and version."""
    known = ((nfs3.PROGRAM, nfs3.VERSION), (mount.PROGRAM, mount.VERSION))
    return dict.fromkeys(known, ports.nfs)


class PortMapper:
    """On one server address. Raises MissingRequirementError when the port is taken."""

    def __init__(self, shared: Shared, server: IPv4Address) -> None:
        wire, self._shared = shared.wire, shared
        own = {(portmap.PROGRAM, portmap.VERSION): wire.ports.portmap}
        self._ports: Mapping[tuple[int, int], int] = own | served(wire.ports)
        address = wire.outside(server)
        self._datagrams = udp(address, wire.ports.portmap)
        try:
            self._stream = tcp(address, wire.ports.portmap)
        except MissingRequirementError:
            self._datagrams.close()
            raise
        self._server: asyncio.Server | None = None
        self._places: Places[asyncio.StreamWriter] = Places(_MOST, _MOST_EACH)

    async def serve(self) -> None:
        """Begin to answer."""
        asyncio.get_running_loop().add_reader(self._datagrams, self._readable)
        self._server = await asyncio.start_server(self._client, sock=self._stream)

    async def close(self) -> None:
        """Close its sockets."""
        asyncio.get_running_loop().remove_reader(self._datagrams)
        self._datagrams.close()
        if self._server:
            self._server.close()

    def _readable(self) -> None:
        try:
            data, peer = self._datagrams.recvfrom(_LARGEST)
            self._datagrams.sendto(self._answer(data), peer)
        except MalformedError as error:
            self._shared.malformed("portmap", str(error))
        except OSError:
            return  # nothing is there, or an ICMP error of an earlier reply

    async def _client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        records, peer = Records(_LARGEST), writer.get_extra_info("peername")
        let_in, gives_way = self._places.enter(writer, peer[0] if peer else "", "", known=False)
        if gives_way is not None:
            self._places.leave(gives_way)
            gives_way.transport.abort()
        try:
            async with asyncio.timeout(_PATIENCE if let_in else 0):
                while data := await reader.read(_LARGEST):
                    for record in records.feed(data):
                        writer.write(mark(self._answer(record)))
                    await writer.drain()
        except MalformedError as error:
            self._shared.malformed("portmap", str(error))
        except (TimeoutError, OSError):
            return
        finally:
            self._places.leave(writer)
            writer.close()

    def _answer(self, record: bytes) -> bytes:
        call = parse_call(record)
        if call.program != portmap.PROGRAM:
            return refuse(call.xid, Refusal.PROGRAM_UNAVAILABLE)
        if call.version != portmap.VERSION:  # newer ones are tried first, and then this one
            versions = (portmap.VERSION, portmap.VERSION)
            return refuse(call.xid, Refusal.PROGRAM_MISMATCH, versions)
        results = portmap.answer(call.procedure, call.arguments, self._ports)
        if results is None:
            return refuse(call.xid, Refusal.PROCEDURE_UNAVAILABLE)
        return success(call.xid, results)
