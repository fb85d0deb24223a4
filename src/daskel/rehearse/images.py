"""What the initrd of a root that is an image does, as a simulated client does it."""

from __future__ import annotations

import re
import socket
import struct
from collections.abc import Iterator, Mapping
from hashlib import sha256
from ipaddress import IPv4Address

from daskel.core.boot import images
from daskel.core.boot.wire import Wire
from daskel.core.content import image_steps
from daskel.core.history.events import ImageFailure, ImageStep
from daskel.core.nbd.numbers import (
    GREETING,
    OPTION_REPLY,
    OPTIONS,
    SIMPLE,
    Command,
    Info,
    Offers,
    Option,
    Reply,
)
from daskel.core.nbd.requests import Request, serialise
from daskel.core.roots.magic import SQUASHFS
from daskel.rehearse.fetch import BootError, http_get, http_pieces, http_tell
from daskel.rehearse.multicast import ManyReceiver

_URL = re.compile(r"(nbd|http)://([\d.]+):(\d+)/(.+)")
_ROOT = re.compile(r"(.+)@\d+|published/(.+)/\d+/[^/]+")
_PIECE = 128 << 10  # bytes of one READ
_READ = 1 << 20  # bytes that are read of an image, of its beginning and its end
_TIME = 20.0  # seconds


class BlockDevice:
    """An export, opened as Linux does it. Raises BootError."""

    def __init__(self, wire: Wire, own: IPv4Address, target: tuple[str, int], name: str) -> None:
        self._name = name
        host = wire.outside(IPv4Address(target[0]))
        source = (wire.outside(own), 0)
        try:
            self._sock = socket.create_connection((host, target[1]), _TIME, source)
        except OSError as error:
            raise BootError(f"NBD {name}: {(error.strerror or str(error)).lower()}") from error
        greeting, options, _ = struct.unpack(">QQH", self._take(18))
        if (greeting, options) != (GREETING, OPTIONS):
            raise BootError(f"NBD {name}: the server does not speak NBD")
        asked = struct.pack(">I", len(name)) + name.encode() + bytes(2)
        head = struct.pack(">QII", OPTIONS, Option.GO, len(asked))
        flags = Offers.FIXED_NEWSTYLE | Offers.NO_ZEROES
        self._sock.sendall(int(flags).to_bytes(4, "big") + head + asked)
        self.size = self._told()

    def _told(self) -> int:
        """The size; raises BootError for a refusal."""
        size = 0
        while True:
            magic, _, kind, length = struct.unpack(">QIII", self._take(20))
            data = self._take(length)
            if magic != OPTION_REPLY or kind >= 1 << 31:
                said = data.decode("utf-8", "replace") or f"refused ({kind:#x})"
                raise BootError(f"NBD {self._name}: {said}")
            if kind == Reply.ACK:
                return size
            if kind == Reply.INFO and int.from_bytes(data[:2], "big") == Info.EXPORT:
                size = int.from_bytes(data[2:10], "big")

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of it. Raises BootError."""
        self._sock.sendall(serialise(Request(Command.READ, 0, 1, offset, length)))
        magic, error, _ = struct.unpack(">IIQ", self._take(16))
        if magic != SIMPLE or error:
            raise BootError(f"NBD {self._name}: READ at {offset} failed ({error})")
        return self._take(length)

    def close(self) -> None:
        """End its connection."""
        self._sock.sendall(serialise(Request(Command.DISCONNECT, 0, 2, 0, 0)))
        self._sock.close()

    def _take(self, count: int) -> bytes:
        found = b""
        while len(found) < count:
            piece = self._sock.recv(count - len(found))
            if not piece:
                raise BootError(f"NBD {self._name}: the server closed the connection")
            found += piece
        return found


class ImageRoot:
    """A root that comes as an image, as the kernel's `arguments` say. Raises BootError."""

    def __init__(self, wire: Wire, own: IPv4Address, arguments: Mapping[str, str]) -> None:
        self._wire, self._own, self._arguments = wire, own, arguments
        self.url = arguments[images.ROOT]
        match = _URL.fullmatch(self.url)
        if match is None:
            raise BootError(f"{images.ROOT}={self.url} is not a URL of an image")
        self.many: ManyReceiver | None = None  # when it was sent to many
        self._by, self._target, self._path = match[1], (match[2], int(match[3])), match[4]

    def pieces(self) -> Iterator[bytes]:
        """What is read of the image: all of it, or its beginning and end; then what is kept."""
        if self._by == "http":
            yield from self._whole()
            return
        device = BlockDevice(self._wire, self._own, self._target, self._path)
        try:
            yield from _begins(device.read(at, n) for at, n in _places(device.size))
        finally:
            device.close()
        if kept := self._arguments.get(images.KEEP):
            BlockDevice(self._wire, self._own, self._target, kept).close()

    def _whole(self) -> Iterator[bytes]:
        digest = sha256()
        fetched = http_pieces(self._wire, self._own, self.url)
        if images.MULTICAST in self._arguments:
            self.many = ManyReceiver(self._wire, self._own, self.url)
            fetched = self.many.pieces()
        for piece in _begins(fetched):
            digest.update(piece)
            yield piece
        wanted = self._arguments.get(images.DIGEST, digest.hexdigest())
        if digest.hexdigest() != wanted:
            text = f"the image has the digest {digest.hexdigest()}, not {wanted}"
            self._tell_step(ImageStep.FAILED, reason=ImageFailure.DIGEST.value, text=text)
            raise BootError(f"{self.url}: {text}")

    def own_files(self) -> bytes:
        """The files that the server makes for this client."""
        match = _ROOT.fullmatch(self._path)
        root = (match[1] or match[2]) if match else ""
        return http_get(self._wire, self._own, f"{self._tell}/{image_steps.OWN_AT}{root}")

    def tell_mounted(self, seconds: float) -> None:
        """As the initrd does."""
        self._tell_step(ImageStep.MOUNTED, seconds=f"{seconds:.1f}")

    def _tell_step(self, step: ImageStep, **more: object) -> None:
        body = image_steps.told(step, **more)
        http_tell(self._wire, self._own, f"{self._tell}/{image_steps.TOLD_AT}", body)

    @property
    def _tell(self) -> str:
        return f"http://{self._arguments.get(images.TELL, '')}"


def _places(size: int) -> list[tuple[int, int]]:
    """Offsets and lengths of the first and last bytes of an image."""
    starts = [*range(0, min(size, _READ), _PIECE), *range(max(0, size - _READ), size, _PIECE)]
    return [(at, min(_PIECE, size - at)) for at in starts]


def _begins(pieces: Iterator[bytes]) -> Iterator[bytes]:
    first = next(pieces, b"")
    if not first.startswith(SQUASHFS):
        raise BootError("what came is not an image of a root")
    yield first
    yield from pieces
