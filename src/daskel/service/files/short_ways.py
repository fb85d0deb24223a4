"""The short ways of TFTP: the acknowledgement that nearly always comes is answered here, by as
little as can be; `rest` gets everything else, and is the general way (service/files/tftp).

A window that is acknowledged whole is followed by the next one, in one call. Clients that take one
block at a time have one place where the kernel says who of them answered, and one look at the clock
for all.
"""

from __future__ import annotations

import asyncio
import select
import socket
from collections.abc import Callable, Generator
from time import monotonic

from daskel.core.tftp.packet import Opcode
from daskel.core.tftp.transfer import State, Transfer
from daskel.service.files.blocks import TOGETHER, Image, Sender, most_at_once

_LARGEST = 2048  # bytes of an acknowledgement or an error
_MOST_ANSWERS = 256  # of clients that take one block at a time, until others have their turn
_FEW = 4  # transfers of one block at a time
_ACK = int(Opcode.ACK)

Rest = Callable[[bytes, float], None]  # a packet, and when it came
Lost = Callable[[], None]  # the client's port is closed


def windows(
    sock: socket.socket, transfer: Transfer, image: Image, sender: Sender, rest: Rest, lost: Lost
) -> Callable[[], None] | None:
    """What reads the socket of a transfer in windows; None where the kernel cuts no datagrams."""
    size, last = image.size, transfer.last_block
    if not sender.always_cut(sock, size):
        return None
    receive, send, whole, ready = sock.recv, sock.send, image.whole, image.ready
    step = most_at_once(size)
    next_window, take = transfer.next_window, rest

    def read() -> None:
        try:
            data = receive(_LARGEST)
        except BlockingIOError:
            return
        except OSError:
            lost()
            return
        sent = transfer.sent
        if len(data) == 4 and data[1] == _ACK and sender.cuts and _is_ready(sent, transfer.window):
            end = next_window(data[2] << 8 | data[3], monotonic())
            if end:
                at, stop = sent * size, end * size
                try:
                    while stop - at > step:
                        send(whole[at : at + step])
                        at += step
                    send(whole[at:stop])
                except OSError as error:
                    sender.refused(sock, error)  # the clock sends it again
                return
        take(data, monotonic())

    def _is_ready(before: int, count: int) -> bool:
        end = before + count
        end = end if end < last else last
        first, final = before // TOGETHER, (end - 1) // TOGETHER
        return bool(ready[first] and (first == final or all(ready[first : final + 1])))

    return read


class LockStep:
    """All transfers of one server that take one block at a time. A few are looked at by the event
    loop, each by itself: one more look at the kernel's list only pays for many."""

    def __init__(self) -> None:
        self._poll = select.epoll()
        self._buffer = bytearray(_LARGEST)
        self._steps: dict[int, Callable[[float], int | None]] = {}  # by descriptor
        self._rests: dict[int, tuple[Rest, Lost]] = {}
        self._alone: set[int] = set()

    def open(self) -> None:
        """Begin to look who answers."""
        asyncio.get_running_loop().add_reader(self._poll.fileno(), self._answered)

    def close(self) -> None:
        """Look no more."""
        asyncio.get_running_loop().remove_reader(self._poll.fileno())
        self._poll.close()

    def add(
        self, sock: socket.socket, transfer: Transfer, image: Image, rest: Rest, lost: Lost
    ) -> None:
        """A transfer whose window is one block."""
        steps = _steps(sock, transfer, image, self._buffer)
        next(steps)
        number = sock.fileno()
        self._steps[number], self._rests[number] = steps.send, (rest, lost)
        if len(self._steps) <= _FEW:
            self._alone.add(number)
            asyncio.get_running_loop().add_reader(sock, self._step, number)
        else:
            self._poll.register(number, select.EPOLLIN)

    def remove(self, sock: socket.socket) -> None:
        """It has ended; before its socket is closed."""
        number = sock.fileno()
        if not self._steps.pop(number, None):
            return
        self._rests.pop(number)
        if number in self._alone:
            self._alone.remove(number)
            asyncio.get_running_loop().remove_reader(sock)
        else:
            self._poll.unregister(number)

    def _answered(self) -> None:
        """One look at the kernel's list, and at the clock, for many of them."""
        steps, now = self._steps, monotonic()
        for number, _ in self._poll.poll(0, _MOST_ANSWERS):
            step = steps.get(number)
            if step and (length := step(now)) is not None:
                self._pass_on(number, length, now)

    def _step(self, number: int) -> None:
        now = monotonic()
        length = self._steps[number](now)
        if length is not None:
            self._pass_on(number, length, now)

    def _pass_on(self, number: int, length: int, now: float) -> None:
        """What the general way deals with."""
        rest, lost = self._rests[number]
        if length < 0:
            lost()
        else:
            rest(bytes(self._buffer[:length]), now)


def _steps(
    sock: socket.socket, transfer: Transfer, image: Image, buffer: bytearray
) -> Generator[int | None, float, None]:
    """Is sent the time whenever the socket can be read. Gives None when all is done, the length of
    what is in `buffer` for the general way, -1 when the client's port is closed. Its state is in
    locals, and in `transfer` before each of its steps."""
    receive, send, whole, ready = sock.recv_into, sock.send, image.whole, image.ready
    size, last, trip, recovery = image.size, transfer.last_block, transfer.trip, transfer.recovery
    now = yield None
    while True:
        try:
            length = receive(buffer)
        except BlockingIOError:
            now = yield None
            continue
        except OSError:
            now = yield -1
            continue
        sent = transfer.sent
        if (
            length != 4
            or buffer[1] != _ACK
            or buffer[2] << 8 | buffer[3] != sent & 0xFFFF
            or sent == transfer.acknowledged
            or sent >= last
            or not ready[sent // TOGETHER]
            or recovery.resent
            or transfer.state is not State.SENDING
        ):
            now = yield length
            continue
        if not sent & trip.seldom:
            trip.learn(now - transfer.sent_at, sent)
        transfer.acknowledged = sent
        transfer.heard_at = transfer.sent_at = now
        transfer.answered = True
        transfer.deadline = now + trip.wait
        at = sent * size
        transfer.sent = sent + 1
        try:  # noqa: SIM105 - a context costs more than all the rest
            send(whole[at : at + size])
        except OSError:
            pass  # as when it is lost: the clock sends it again
        now = yield None
