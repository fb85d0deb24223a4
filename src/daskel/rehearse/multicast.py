"""A file that is sent to many at once (docs/multicast.md), as simulated clients receive it: those
of one process hear it with one pair of ears, and each of them asks and reports for itself."""

from __future__ import annotations

import os
import re
import socket
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from ipaddress import IPv4Address
from urllib.parse import urlsplit

import numpy as np

from daskel.core.boot.wire import Wire
from daskel.core.content.image_steps import MANY_AT
from daskel.core.multicast.datagrams import END, Report, parse
from daskel.core.multicast.transmission import ranges
from daskel.core.reader import MalformedError
from daskel.rehearse.fetch import BootError, http_ask, http_pieces

_SILENT = 1.5  # seconds until a pass is over for who hears nothing
_REPORT = 0.25  # seconds
_ROOM = 8 << 20  # bytes of datagrams that wait in the kernel
_SO_RCVBUFFORCE = 33  # socket(7)
_PIECE = 1 << 20  # bytes
_TOLD = re.compile(r"transmission=(\d+)\ngroup=([\d.]+)\nport=(\d+)\nsize=(\d+)\nblock=(\d+)\n")


@dataclass(frozen=True, slots=True)
class _Place:
    """What the server tells of a transmission. Sizes in bytes."""

    number: int
    group: str
    port: int
    size: int
    block: int

    @property
    def blocks(self) -> int:
        return -(-self.size // self.block)


class _Ears:
    """What is heard of one transmission: for each block, the number of the datagram that brought it
    last, counted from 1 on."""

    def __init__(self, place: _Place, server: str) -> None:
        self.place, self.users = place, 0
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - closed by `close`
        self._heard = np.zeros(place.blocks, dtype=np.int64)
        self.count = self.sequence = 0
        self._ended, self._last = -1, 0.0
        self._sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        for option in (socket.SO_RCVBUF, _SO_RCVBUFFORCE):
            with suppress(OSError):
                self._sock.setsockopt(socket.SOL_SOCKET, option, _ROOM)
        self._sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self._sock.bind((place.group, place.port))
        member = socket.inet_aton(place.group) + socket.inet_aton(server)
        self._sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
        self._sock.settimeout(_REPORT)
        self._thread = threading.Thread(target=self._listen, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Listen no more."""
        self._thread.join()
        self._sock.close()
        self._file.close()

    def _listen(self) -> None:
        while self.users >= 0:
            with suppress(TimeoutError, MalformedError):
                self._take(self._sock.recv(2048))

    def _take(self, data: bytes) -> None:
        number, block, sequence, body = parse(data)
        if number != self.place.number:
            return
        self._last = time.monotonic()
        if block == END:
            self._ended = max(self._ended, sequence)
        elif block < self.place.blocks:
            os.pwrite(self._file.fileno(), body, block * self.place.block)
            self.count += 1
            self._heard[block], self.sequence = self.count, sequence

    def over(self, sequence: int, since: float) -> bool:
        """A pass that began with `sequence` is over, or nothing comes any more."""
        silent = time.monotonic() - max(self._last, since) > _SILENT
        return self._ended >= sequence or silent

    def missing(self, since: int) -> int:
        """A bit for each block that no datagram after number `since` brought."""
        bits = np.packbits(self._heard <= since, bitorder="little")
        return int.from_bytes(bits.tobytes(), "little")

    def fill(self, missing: int, data: bytes) -> None:
        """What came alone. Raises BootError."""
        at = 0
        for first, behind in ranges(missing):
            begin, end = first * self.place.block, min(behind * self.place.block, self.place.size)
            os.pwrite(self._file.fileno(), data[at : at + end - begin], begin)
            at += end - begin
        if at != len(data):
            raise BootError(f"multicast: {len(data)} bytes came for {at} that were missed")

    def whole(self) -> Iterator[bytes]:
        """The file."""
        for at in range(0, self.place.size, _PIECE):
            yield os.pread(self._file.fileno(), min(_PIECE, self.place.size - at), at)


_ears: dict[tuple[_Place, str], _Ears] = {}
_lock = threading.Lock()


@contextmanager
def _listening(place: _Place, server: str) -> Iterator[_Ears]:
    """Open as long as somebody uses them."""
    key = place, server
    with _lock:
        ears = _ears.get(key) or _ears.setdefault(key, _Ears(place, server))
        ears.users += 1
    try:
        yield ears
    finally:
        with _lock:
            ears.users -= 1
            if not ears.users:
                del _ears[key]
                ears.users = -1
        if ears.users < 0:
            ears.close()


class ManyReceiver:
    """One simulated client. `alone`: bytes that came to it alone."""

    def __init__(self, wire: Wire, own: IPv4Address, url: str) -> None:
        self._wire, self._own, self._url, self.alone = wire, own, url, 0
        parts = urlsplit(url)
        self._asks = f"{parts.scheme}://{parts.netloc}/{MANY_AT}{parts.path.lstrip('/')}"
        self._server = wire.outside(IPv4Address(parts.hostname or ""))

    def pieces(self) -> Iterator[bytes]:
        """The file. Raises BootError."""
        status, told = http_ask(self._wire, self._own, "GET", self._asks)
        found = _TOLD.fullmatch(told.decode("ascii", "replace"))
        if status != 200 or not found:
            raise BootError(f"{self._asks}: status {status} ({told[:200]!r})")
        place = _Place(int(found[1]), found[2], *(int(found[n]) for n in (3, 4, 5)))
        with _listening(place, self._server) as ears:
            if self._heard(ears):
                yield from ears.whole()
                return
        self.alone = place.size
        yield from http_pieces(self._wire, self._own, self._url)

    def _heard(self, ears: _Ears) -> bool:
        """Listen until it is whole; False when it is to be fetched."""
        since, blocks = ears.count, ears.place.blocks
        every = (1 << blocks) - 1
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind((self._wire.outside(self._own), 0))
            sock.connect((self._server, ears.place.port))
            while True:
                missing = ears.missing(since) & every
                have = (every & ~missing).to_bytes(-(-blocks // 8), "little")
                have = b"" if missing == every else have
                status, told = http_ask(self._wire, self._own, "POST", self._asks, have)
                if status == 204:
                    return False
                if status == 200:
                    ears.fill(missing, told)
                    self.alone = len(told)
                    return True
                if status != 202:
                    raise BootError(f"{self._asks}: status {status} ({told[:200]!r})")
                self._listen(ears, sock, int(told.partition(b"=")[2]))

    def _listen(self, ears: _Ears, sock: socket.socket, begun: int) -> None:
        since, told = time.monotonic(), (time.monotonic(), ears.count, ears.sequence)
        while not ears.over(begun, since):
            time.sleep(0.02)
            now, count, sequence = time.monotonic(), ears.count, ears.sequence
            if now - told[0] > _REPORT and count > told[1]:
                got = count - told[1]
                missed = max(0, sequence - told[2] - got)
                told = now, count, sequence
                with suppress(OSError):
                    sock.send(Report(ears.place.number, got, missed, sequence).serialise())
