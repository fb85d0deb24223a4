"""TFTP's short ways send what the general way sends, datagram by datagram."""

from __future__ import annotations

import errno
import random
import socket
from collections.abc import Callable
from typing import Any

import pytest

from daskel.core.tftp.packet import Ack
from daskel.core.tftp.transfer import State, Transfer
from daskel.service.files import short_ways
from daskel.service.files.blocks import Image, Sender
from daskel.service.files.opened import Opened
from daskel.service.files.short_ways import LockStep, windows

BLOCK = 600
CONTENT = random.Random(16).randbytes(BLOCK * 150 + 17)


class Fetch:
    """A transfer between two sockets, and what the client got; `rest` is the general way."""

    def __init__(self, opened: Opened, window: int) -> None:
        self.options = {"blksize": str(BLOCK), "windowsize": str(window)}
        self.transfer, self.image = Transfer(len(CONTENT), self.options), Image(len(CONTENT), BLOCK)
        self.sender, self._opened, self.generally = Sender(), opened, 0
        self.here, self.there = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in "ab")
        for sock in (self.here, self.there):
            sock.bind(("127.0.0.1", 0))
            sock.setblocking(False)
        self.here.connect(self.there.getsockname())
        self.there.connect(self.here.getsockname())
        self.got: list[bytes] = []

    def rest(self, data: bytes, now: float) -> None:
        self.generally += 1
        blocks = self.transfer.acknowledge(data[2] << 8 | data[3], now)
        if blocks:
            datagrams = self.image.datagrams(blocks, self._opened)
            self.sender.send(self.here, datagrams, self.image.size)

    def run(self, read: Callable[[], Any], odd: random.Random) -> None:
        """Acknowledge all windows; some twice, some too early, some of what never was."""
        self.transfer.start(0.0)
        for output in self.transfer.receive(Ack(0), 0.0):
            assert not isinstance(output, bytes)
            self.sender.send(self.here, self.image.datagrams(output, self._opened), self.image.size)  # type: ignore[arg-type]
        while self.transfer.state is State.SENDING:
            new = self._receive()
            at = self.transfer.sent
            for block in ([at + 9000] if odd.random() < 0.1 else []) + [at] * (
                1 + (odd.random() < 0.1)
            ):
                self.there.send(Ack(block & 0xFFFF).serialise())
                read()
            assert new

    def _receive(self) -> int:
        before = len(self.got)
        while True:
            try:
                self.got.append(self.there.recv(2048))
            except BlockingIOError:
                return len(self.got) - before

    def close(self) -> None:
        self.here.close()
        self.there.close()


@pytest.fixture(autouse=True)
def all_in_one_place(monkeypatch: pytest.MonkeyPatch) -> None:
    """Readers are called by the tests; all of one block at a time have one place."""
    monkeypatch.setattr(short_ways, "_FEW", 0)


@pytest.mark.parametrize("window", [1, 4, 16, 64])
def test_the_same_datagrams(opened: Opened, window: int, monkeypatch: pytest.MonkeyPatch) -> None:
    whole = [CONTENT[n : n + BLOCK] for n in range(0, len(CONTENT), BLOCK)]
    expected = [b"\0\3" + n.to_bytes(2, "big") + part for n, part in enumerate(whole, 1)]
    runs: list[list[bytes]] = []
    for short in (False, True):
        fetch, step, clock = Fetch(opened, window), LockStep(), iter(range(1_000_000))
        monkeypatch.setattr(short_ways, "monotonic", lambda clock=clock: next(clock) / 1000)

        def lost() -> None:
            raise AssertionError("the port is open")

        def general(fetch: Fetch = fetch) -> None:
            fetch.rest(fetch.here.recv(2048), short_ways.monotonic())

        read: Callable[[], Any] | None = general
        if short and window == 1:
            step.add(fetch.here, fetch.transfer, fetch.image, fetch.rest, lost)
            read = step._answered
        elif short:
            read = windows(fetch.here, fetch.transfer, fetch.image, fetch.sender, fetch.rest, lost)
        assert read
        fetch.run(read, random.Random(window))
        assert fetch.transfer.state is State.DONE
        assert sorted(set(fetch.got)) == sorted(expected)
        runs.append(fetch.got)
        steps = -(-len(expected) // window)
        assert not short or fetch.generally < steps / 2 + 8, "it was the short way"
        step.remove(fetch.here)
        fetch.close()
    assert runs[0] == runs[1]


def test_a_kernel_that_cuts_no_more(opened: Opened) -> None:
    """In the middle, for any of the transfers: each block is a datagram of its own from then on."""
    fetch = Fetch(opened, 16)
    read = windows(fetch.here, fetch.transfer, fetch.image, fetch.sender, fetch.rest, lambda: None)
    assert read
    calls = iter(range(1000))

    def reads() -> None:
        if next(calls) == 3:
            fetch.sender.refused(fetch.here, OSError(errno.EIO, "no checksums here"))
        read()

    fetch.run(reads, random.Random(3))
    assert not fetch.sender.cuts and fetch.transfer.state is State.DONE
    assert {len(data) for data in fetch.got[:-1]} == {BLOCK + 4}
    assert len(set(fetch.got)) == len(CONTENT) // BLOCK + 1
    fetch.close()


def test_a_client_that_is_gone(opened: Opened) -> None:
    for window in (1, 16):
        fetch, step, gone = Fetch(opened, window), LockStep(), [0]

        def lost(gone: list[int] = gone) -> None:
            gone[0] += 1

        fetch.transfer.start(0.0)
        fetch.transfer.receive(Ack(0), 0.0)
        fetch.there.close()
        fetch.here.send(b"nobody reads this")
        step.add(fetch.here, fetch.transfer, fetch.image, fetch.rest, lost)
        read = windows(fetch.here, fetch.transfer, fetch.image, fetch.sender, fetch.rest, lost)
        assert read
        (step._answered if window == 1 else read)()
        assert gone == [1] and not fetch.generally
        step.remove(fetch.here)
        fetch.close()
