"""NFS and MOUNT on one TCP port: connections are accepted here, and served by workers."""

from __future__ import annotations

import asyncio
import logging
from ipaddress import IPv4Address

from daskel.core.boot.wire import Wire
from daskel.service.nfs.grants import Exports
from daskel.service.sockets import tcp

_log = logging.getLogger(__name__)


class NfsService:
    """The site's roots on one server address."""

    def __init__(self, exports: Exports, server: IPv4Address, wire: Wire) -> None:
        self._exports, self._server = exports, server
        self._sock = tcp(wire.outside(server), wire.ports.nfs)

    async def serve(self) -> None:
        """Begin to accept connections."""
        asyncio.get_running_loop().add_reader(self._sock, self._accept)

    def _accept(self) -> None:
        try:
            sock, peer = self._sock.accept()
        except BlockingIOError:
            return
        except OSError as error:
            _log.warning("an NFS connection could not be accepted: %s", error.strerror)
            return
        self._exports.hand_over(self._server, sock, peer)

    async def close(self) -> None:
        """Accept no more; connections are the workers'."""
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
