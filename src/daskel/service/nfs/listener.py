"""NFS and MOUNT on one TCP port, NBD on another: connections are accepted here, and served by
workers."""

from __future__ import annotations

import socket
from ipaddress import IPv4Address

from daskel.core.boot.wire import Wire
from daskel.service.listening import Listening
from daskel.service.nfs.grants import Exports
from daskel.service.sockets import tcp


class NfsService:
    """The site's roots on one server address; with `blocks` by NBD."""

    def __init__(
        self, exports: Exports, server: IPv4Address, wire: Wire, *, blocks: bool = False,
        interface: str | None = None,
    ) -> None:  # fmt: skip
        self._exports, self._server, self._blocks = exports, server, blocks
        port = wire.ports.nbd if blocks else wire.ports.nfs
        sock = tcp(wire.outside(server), port, interface)
        self._listening = Listening(sock, self._accepted, exports.make_room, exports.full)

    async def serve(self) -> None:
        """Begin to accept connections."""
        self._listening.start()

    def _accepted(self, sock: socket.socket, peer: tuple[str, int]) -> None:
        self._exports.hand_over(self._server, sock, peer, blocks=self._blocks)

    async def close(self) -> None:
        """Accept no more; connections are the workers'."""
        self._listening.close()
