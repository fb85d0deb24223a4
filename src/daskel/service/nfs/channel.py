"""Messages between the processes of one server, over a Unix socket pair, with descriptors."""

from __future__ import annotations

import os
import socket
from collections.abc import Sequence

from daskel.service.nfs.messages import Envelope, Message, decode, encode

_LARGEST = 1 << 20  # bytes of a message
_BUFFER = 4 << 20


def pair() -> tuple[socket.socket, socket.socket]:
    """Both ends of a channel that keeps messages apart."""
    ends = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for end in ends:
        for option in (socket.SO_SNDBUF, socket.SO_RCVBUF):
            end.setsockopt(socket.SOL_SOCKET, option, _BUFFER)
    return ends


def send(
    channel: socket.socket, message: Message, number: int = 0, descriptors: Sequence[int] = ()
) -> None:
    """Waits when the other end does not read. Raises OSError when it is gone."""
    socket.send_fds(channel, [encode(Envelope(message, number))], list(descriptors))


def receive(channel: socket.socket) -> tuple[Envelope, list[int]] | None:
    """The next message; None when the other end is gone. Raises BlockingIOError."""
    try:
        data, descriptors, _, _ = socket.recv_fds(channel, _LARGEST, 4)
    except ConnectionError:
        return None
    if not data:
        return None
    for descriptor in descriptors:
        os.set_inheritable(descriptor, False)
    return decode(data), descriptors
