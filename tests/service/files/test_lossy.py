"""TFTP through a relay that loses, doubles, holds back and swaps datagrams: every file arrives
whole, with clients of several kinds."""

from __future__ import annotations

import random
import selectors
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.core.tftp.packet import Ack, Data, Error, Opcode, Options, Request, parse
from tests.conftest import PATIENCE, Serve, Serving

Address = tuple[str, int]


class Relay(threading.Thread):
    """Between clients and a server, one transfer for each client's port. `bad` and `lost` are parts
    of all datagrams; each takes `delay` seconds."""

    def __init__(
        self, server: Address, bad: float, seed: int, delay: float = 0.0, lost: float = 0.0
    ) -> None:
        super().__init__(daemon=True)
        self._server, self._bad, self._random = server, bad, random.Random(seed)
        self._delay, self._loses = delay, lost
        self._front = _socket()
        self.address: Address = self._front.getsockname()
        self._selector = selectors.DefaultSelector()
        self._selector.register(self._front, selectors.EVENT_READ)
        self._other: dict[socket.socket, socket.socket] = {}
        self._ends: dict[socket.socket, Address] = {}  # where what it sends goes
        self._held: list[tuple[float, socket.socket, bytes]] = []
        self.lost = 0

    def run(self) -> None:
        while True:
            for ready, _ in self._selector.select(0.001):
                sock: socket.socket = ready.fileobj  # type: ignore[assignment]
                data, peer = sock.recvfrom(65535)
                if sock is self._front:
                    self._begin(data, peer)
                else:
                    self._ends[sock] = peer
                    self._pass_on(self._other[sock], data)
            now = time.monotonic()
            due = [held for held in self._held if held[0] <= now]
            self._held = [held for held in self._held if held[0] > now]
            for _, sock, data in due:
                sock.sendto(data, self._ends[sock])

    def _begin(self, data: bytes, peer: Address) -> None:
        to_client, to_server = _socket(), _socket()
        self._other |= {to_client: to_server, to_server: to_client}
        self._ends |= {to_client: peer, to_server: self._server}
        for sock in (to_client, to_server):
            self._selector.register(sock, selectors.EVENT_READ)
        to_server.sendto(data, self._server)

    def _pass_on(self, sock: socket.socket, data: bytes) -> None:
        if self._delay:
            if self._random.random() >= self._loses:
                self._held.append((time.monotonic() + self._delay, sock, data))
            return
        fate = self._random.random() / self._bad if self._bad else 1
        if fate < 0.5:
            self.lost += 1
            return
        if fate < 1:  # later than those behind it, or once more
            self._held.append((time.monotonic() + self._random.random() / 50, sock, data))
        if not 0.5 <= fate < 0.75:
            sock.sendto(data, self._ends[sock])


def _socket() -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind(("127.0.0.1", 0))
    return sock


def fetch(
    server: Address, path: str, window: int, block: int = 1000, holds: int = 65535
) -> tuple[bytes, int]:
    """The file, and the window that was granted. As RFC 7440 has it: acknowledges a window, or what
    came before a gap; asks again by itself. Its buffer `holds` so many datagrams that come at once."""
    options = {"blksize": str(block), "windowsize": str(window)}
    message = Request(Opcode.READ, path.encode(), "octet", options).serialise()
    received, blocks, unanswered, peer = bytearray(), 0, 0, server
    burst, heard = 0, 0.0  # datagrams that came one after the other
    with _socket() as sock:
        sock.settimeout(0.3)
        for _ in range(100_000):
            sock.sendto(message, peer)
            while True:
                try:
                    data, peer = sock.recvfrom(65535)
                except TimeoutError:
                    unanswered = 0
                    break
                packet = parse(data)
                now = time.monotonic()
                burst, heard = (burst if now - heard < 0.01 else 0) + 1, now
                if isinstance(packet, Data) and burst > holds:
                    continue
                assert not isinstance(packet, Error), packet
                if isinstance(packet, Options):
                    window = int(packet.options["windowsize"])
                    message = Ack(blocks & 0xFFFF).serialise()
                    break
                assert isinstance(packet, Data)
                in_order = packet.block == (blocks + 1) & 0xFFFF
                if in_order:
                    received += packet.payload
                    blocks, unanswered = blocks + 1, unanswered + 1
                message = Ack(blocks & 0xFFFF).serialise()
                if in_order and len(packet.payload) < block:
                    sock.sendto(message, peer)
                    return bytes(received), window
                if not in_order or unanswered == window:
                    burst = 0 if in_order else burst  # it has taken all of it
                    unanswered = 0
                    break
    raise AssertionError("no end")


@pytest.fixture(scope="module")
def content() -> bytes:
    return random.Random(1).randbytes(700_123)


@pytest.fixture
def serving(serve: Serve, demo_folder: Path, content: bytes) -> Iterator[Serving]:
    (demo_folder / "files/large").write_bytes(content)
    yield serve(demo_folder)


@pytest.mark.parametrize("bad", [0.0, 0.06])
@pytest.mark.parametrize("window", [1, 4, 16])
def test_every_file_arrives_whole(
    serving: Serving, content: bytes, window: int, bad: float
) -> None:
    relay = Relay((serving.address(), serving.wire.ports.tftp), bad, seed=window)
    relay.start()
    assert fetch(relay.address, "large", window) == (content, window)
    assert bool(relay.lost) == bool(bad)
    if not bad:
        resent = serving.wait_for("file-sent", path="large")["resent"]
        assert resent < 200, "some when this machine pauses, of 701; no storm"


def test_small_buffers_get_smaller_windows(serving: Serving) -> None:
    """A client that loses the end of every window gets half of it the next time."""
    small = bytes(60_500)
    (serving.folder / "files/small").write_bytes(small)
    address = (serving.address(), serving.wire.ports.tftp)
    fetched = [fetch(address, "small", 16, holds=6) for _ in range(4)]
    assert all(data == small for data, _ in fetched)
    granted = [window for _, window in fetched]
    assert granted[:3] == [16, 8, 4] and granted[3] > 1, "no less than what it holds is needed"


CLIENTS = [
    "curl -s -o {0} tftp://{1}:{2}/large",
    "curl -s -o {0} --tftp-blksize 1428 tftp://{1}:{2}/large",
    "curl -s -o {0} --tftp-no-options tftp://{1}:{2}/large",
    "busybox tftp -g -l {0} -r large {1} {2}",
    "busybox tftp -g -b 1400 -l {0} -r large {1} {2}",
]


@pytest.mark.parametrize("command", CLIENTS)
def test_real_clients(serving: Serving, content: bytes, command: str, tmp_path: Path) -> None:
    for bad in (0.0, 0.01):
        relay = Relay((serving.address(), serving.wire.ports.tftp), bad, seed=3)
        relay.start()
        got = tmp_path / f"got-{bad}"
        words = command.format(got, *relay.address).split()
        subprocess.run(words, check=True, timeout=PATIENCE, capture_output=True)
        assert got.read_bytes() == content
