"""Where raw Ethernet frames come from and go to: an interface, or the practice wire."""

from __future__ import annotations

import ctypes
import socket
import struct
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

from daskel.service.sockets import make_room
from daskel.system.requirements import MissingRequirementError

Rule = tuple[int, int, int, int]  # of classic BPF: code, lines to skip if true, if not, value
LOAD_BYTE, LOAD_HALF, LOAD_WORD, JUMP = 0x30, 0x28, 0x20, 0x05
AND, EQUAL, GREATER, RETURN = 0x54, 0x15, 0x25, 0x06
TAKE, LEAVE = (RETURN, 0, 0, 0x40000), (RETURN, 0, 0, 0)
_SOL_PACKET, _ADD_MEMBERSHIP, _MULTICAST = 263, 1, 0  # packet(7)
_IGNORE_OUTGOING = 23  # PACKET_IGNORE_OUTGOING, packet(7)
_SO_ATTACH_FILTER = 26  # socket(7)
_ALL = 3  # ETH_P_ALL: frames of 802.3 have no protocol of their own


_LARGEST = 2048  # bytes of a frame that are read
_MOST_PEERS = 1000


class Link(Protocol):
    """Frames, whole ones with their addresses. `own`: the server's address."""

    own: bytes

    def fileno(self) -> int:
        """Of the socket, to wait for."""

    def receive(self) -> bytes:
        """The next frame. Raises OSError when none waits."""

    def send(self, frame: bytes) -> None:
        """What cannot be sent now is lost: who needs it asks again."""

    def close(self) -> None:
        """Close its socket."""


@dataclass(frozen=True, slots=True)
class Listens:
    """Which frames of an interface are let through, and to which groups, besides its own."""

    rules: Sequence[Rule]
    groups: Sequence[bytes]


class Interface:
    """Frames of one interface that a filter of the kernel lets through.

    Raises MissingRequirementError.
    """

    def __init__(self, name: str, listens: Listens) -> None:
        self._sock = _opened(name, listens)
        self.own: bytes = self._sock.getsockname()[4]
        self.fileno, self.close = self._sock.fileno, self._sock.close

    def receive(self) -> bytes:
        """See Link."""
        return self._sock.recv(_LARGEST)

    def send(self, frame: bytes) -> None:
        """See Link."""
        with suppress(OSError):
            self._sock.send(frame)


class Datagrams:
    """The practice wire: each datagram is a frame. Needs no right to raw sockets."""

    own = bytes.fromhex("020000000001")

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock
        self._peers: dict[bytes, tuple[str, int]] = {}  # by the address in their frames
        self.fileno, self.close = sock.fileno, sock.close

    def receive(self) -> bytes:
        """See Link."""
        frame, peer = self._sock.recvfrom(_LARGEST)
        if len(self._peers) >= _MOST_PEERS:
            self._peers.clear()
        self._peers[frame[6:12]] = peer
        return frame

    def send(self, frame: bytes) -> None:
        """See Link."""
        if peer := self._peers.get(frame[:6]):
            with suppress(OSError):
                self._sock.sendto(frame, peer)


def _opened(interface: str, listens: Listens) -> socket.socket:
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
    except PermissionError:
        raise MissingRequirementError(
            f"no permission for raw Ethernet frames on {interface}",
            "run as root, or leave out raw = true",
        ) from None
    try:
        _attach(sock, listens.rules)
        make_room(sock)
        with suppress(OSError):  # kernels before 4.20 show our own frames, which nobody asks by
            sock.setsockopt(_SOL_PACKET, _IGNORE_OUTGOING, 1)
        sock.bind((interface, _ALL))
        index = socket.if_nametoindex(interface)
        for group in listens.groups:
            member = struct.pack("=iHH8s", index, _MULTICAST, len(group), group)
            sock.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, member)
    except OSError as error:
        sock.close()
        raise MissingRequirementError(
            f"raw Ethernet frames on {interface}: {error.strerror}",
            "correct interface = ..., or leave out raw = true",
        ) from None
    return sock


def _attach(sock: socket.socket, rules: Sequence[Rule]) -> None:
    code = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *rule) for rule in rules))
    program = struct.pack("HP", len(rules), ctypes.addressof(code))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, program)
