"""Accepts the connections of a TCP socket; where no descriptor is left, it waits, and says so."""

from __future__ import annotations

import asyncio
import errno
import socket
from collections.abc import Callable

_AT_ONCE = 64  # connections accepted in one turn
_PAUSE = 0.5  # seconds until it is tried again
_NO_ROOM = (errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM)

Accepted = Callable[[socket.socket, tuple[str, int]], None]


class Listening:
    """`accepted` gets each connection; `make_room` closes one that does nothing and says whether
    there was one; `full` is told in words that there was none."""

    def __init__(
        self, sock: socket.socket, accepted: Accepted, make_room: Callable[[], bool],
        full: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._sock, self._accepted, self._make_room, self._full = sock, accepted, make_room, full
        self._waits: asyncio.TimerHandle | None = None

    def start(self) -> None:
        """Begin to accept."""
        self._waits = None
        asyncio.get_running_loop().add_reader(self._sock, self._readable)

    def close(self) -> None:
        """Accept no more."""
        if self._waits:
            self._waits.cancel()
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()

    def _readable(self) -> None:
        for _ in range(_AT_ONCE):
            try:
                sock, peer = self._sock.accept()
            except BlockingIOError:
                return
            except OSError as error:
                if error.errno not in _NO_ROOM:
                    continue  # it was closed before it was accepted
                if not self._make_room():
                    self._wait(error)
                    return
                continue
            self._accepted(sock, peer)

    def _wait(self, error: OSError) -> None:
        loop = asyncio.get_running_loop()
        self._full(f"no connection can be accepted ({error.strerror})")
        loop.remove_reader(self._sock)
        self._waits = loop.call_later(_PAUSE, self.start)
