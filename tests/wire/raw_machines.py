"""Simulated machines that ask for a system by MOP and by RPL, on one interface. They need root."""

from __future__ import annotations

import socket
import time
from dataclasses import dataclass, field

from daskel.core.mop.messages import (
    LOAD_GROUP,
    Code,
    Frame,
    Framing,
    Protocol,
    parse_frame,
    request_load,
    request_program,
    serialise_frame,
)
from daskel.core.reader import MalformedError
from daskel.core.rpl import messages as rpl
from daskel.rehearse.fetch import BootError

_ALL = 3  # ETH_P_ALL
_ANSWERS = 2.0  # seconds until it asks again
_TRIES = 5
_SILENT = 64.0  # seconds without a block, after which it begins anew


@dataclass
class MopClient:
    """`mac` is its own address, 6 bytes. It loads as a VAX's ROM does: it never asks again for a
    block that did not come."""

    interface: str
    mac: bytes
    framing: Framing = Framing.SNAP
    image: bytearray = field(default_factory=bytearray)
    address: int | None = None  # of the first block
    transfer: int | None = None

    def boot(self, name: str) -> None:
        """Load what `name` is; an empty one: any system. Raises BootError."""
        with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as sock:
            sock.bind((self.interface, _ALL))
            server = self._server(sock, name)
            self._send(sock, server, request_program(name))
            self._load(sock, server)

    def _server(self, sock: socket.socket, name: str) -> bytes:
        """The first that answers."""
        for _ in range(_TRIES):
            self._send(sock, LOAD_GROUP, request_program(name))
            until = time.monotonic() + _ANSWERS
            while frame := self._next(sock, until):
                if frame.message[0] == Code.VOLUNTEER:
                    return frame.source
        raise BootError("MOP: nobody answers")

    def _load(self, sock: socket.socket, server: bytes) -> None:
        wants = 0
        while True:
            frame = self._next(sock, time.monotonic() + _SILENT)
            if frame is None:
                raise BootError(f"MOP: block {wants} did not come")
            message = frame.message
            if frame.source != server or len(message) < 2 or message[1] != wants & 0xFF:
                continue
            if message[0] == Code.LOAD:
                if self.address is None:
                    self.address = int.from_bytes(message[2:6], "little")
                self.image += message[6:]
            elif message[0] == Code.PARAMETERS:
                self.transfer = int.from_bytes(message[-4:], "little")
            else:
                continue
            wants += 1
            self._send(sock, server, request_load(wants))
            if self.transfer is not None:
                return

    def _next(self, sock: socket.socket, until: float) -> Frame | None:
        while (left := until - time.monotonic()) > 0:
            sock.settimeout(left)
            try:
                frame = parse_frame(sock.recv(2048))
            except (TimeoutError, MalformedError):
                continue
            if frame and frame.target == self.mac and frame.protocol is Protocol.LOAD:
                return frame
        return None

    def _send(self, sock: socket.socket, target: bytes, message: bytes) -> None:
        sock.send(serialise_frame(Frame(target, self.mac, Protocol.LOAD, self.framing, message)))


@dataclass
class RplClient:
    """The same by RPL. Where blocks are missing, it asks for the first of them."""

    interface: str
    mac: bytes
    sap: int = 0xFC  # where it looks for a server
    image: bytearray = field(default_factory=bytearray)
    address: int | None = None
    transfer: int | None = None

    def boot(self, name: str) -> None:
        """Load a system; `name` is what its boot ROM calls itself. Raises BootError."""
        with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as sock:
            sock.bind((self.interface, _ALL))
            look = rpl.serialise_frame(rpl.GROUP, self.mac, rpl.find(self.mac, name), self.sap)
            for _ in range(_TRIES):
                sock.send(look)
                answer = self._next(sock, time.monotonic() + _ANSWERS)
                if answer:
                    return self._load(sock, answer.source, name)
            raise BootError("RPL: nobody answers")

    def _load(self, sock: socket.socket, server: bytes, name: str) -> None:
        wants, tries = 0, 0
        self._ask(sock, server, name, wants)
        while tries < _TRIES:
            frame = self._next(sock, time.monotonic() + _ANSWERS)
            told = rpl.parse(frame.message) if frame and frame.source == server else None
            if not isinstance(told, rpl.FileData):
                tries += 1
                self._ask(sock, server, name, wants)
                continue
            tries = 0
            if told.sequence == wants:
                self.address = told.place if self.address is None else self.address
                self.image += told.data
                wants += 1
            if told.flags & rpl.Flags.BEGIN and told.sequence == wants - 1:
                self.transfer = told.begin
                return
            if told.flags & rpl.Flags.ACKNOWLEDGE or told.sequence > wants:
                self._ask(sock, server, name, wants)
        raise BootError(f"RPL: block {wants} did not come")

    def _ask(self, sock: socket.socket, server: bytes, name: str, sequence: int) -> None:
        message = rpl.send_file(self.mac, sequence, name)
        sock.send(rpl.serialise_frame(server, self.mac, message))

    def _next(self, sock: socket.socket, until: float) -> rpl.Frame | None:
        while (left := until - time.monotonic()) > 0:
            sock.settimeout(left)
            try:
                frame = rpl.parse_frame(sock.recv(2048))
            except (TimeoutError, MalformedError):
                continue
            if frame and frame.target == self.mac:
                return frame
        return None
