"""Simulated machines that ask for a system in raw Ethernet frames, by MOP and by RPL."""

from __future__ import annotations

import socket
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from hashlib import sha256
from ipaddress import IPv4Address
from typing import Protocol as Shape

from daskel.core.boot.wire import Wire
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
from daskel.rehearse.client import Got, SimulatedBoot
from daskel.rehearse.fetch import BootError

MOP, RPL = "mop", "rpl"
_ANSWERS = 2.0  # seconds until it asks again
_TRIES = 5
_SILENT = 64.0  # seconds without a block, after which a machine begins anew


class Line(Shape):
    """What carries frames to a server and back."""

    def send(self, frame: bytes) -> None:
        """Send a frame."""

    def receive(self, seconds: float) -> bytes:
        """The next frame. Raises TimeoutError."""


class PracticeLine:
    """Frames in datagrams, to a server that is practised with on loopback. Close it."""

    def __init__(self, wire: Wire, server: IPv4Address, kind: str) -> None:
        self._sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        port = wire.ports.rpl if kind == RPL else wire.ports.mop
        self._server = (wire.outside(server), port)

    def send(self, frame: bytes) -> None:
        """See Line."""
        self._sock.sendto(frame, self._server)

    def receive(self, seconds: float) -> bytes:
        """See Line."""
        self._sock.settimeout(seconds)
        return self._sock.recv(2048)

    def close(self) -> None:
        """Close its socket."""
        self._sock.close()


@dataclass
class RawClient(ABC):
    """`mac` is its own address, 6 bytes. `memory`: addresses and bytes as they came. `stage` is
    called with the name of each that it comes to."""

    line: Line
    mac: bytes
    stage: Callable[[str], None] = lambda _: None
    memory: list[tuple[int, bytes]] = field(default_factory=list)
    start: int | None = None  # the address that it is told to begin at
    again: int = 0  # requests that had to be repeated
    tries: int = _TRIES

    @abstractmethod
    def boot(self, name: str) -> None:
        """Load a system. Raises BootError."""

    @property
    def image(self) -> bytes:
        """All that came, in its order."""
        return b"".join(data for _, data in self.memory)

    def by_image(self, loads: Sequence[int]) -> list[tuple[int, bytes]]:
        """The same for each image that is to be at one of the addresses `loads`: where it began,
        and its bytes."""
        found: list[tuple[int, list[bytes]]] = []
        for address, data in self.memory:
            if not found or address in loads:
                found.append((address, []))
            found[-1][1].append(data)
        return [(address, b"".join(parts)) for address, parts in found]


@dataclass
class MopClient(RawClient):
    """It loads as a VAX's ROM does: it never asks again for a block that did not come."""

    framing: Framing = Framing.SNAP

    def boot(self, name: str) -> None:
        """Load what `name` is; an empty one: any system. Raises BootError."""
        server = self._server(name)
        self.stage("answered")
        self._send(server, request_program(name))
        self._load(server)
        self.stage("loaded")

    def _server(self, name: str) -> bytes:
        """The first that answers."""
        for _ in range(self.tries):
            self._send(LOAD_GROUP, request_program(name))
            until = time.monotonic() + _ANSWERS
            while frame := self._next(until):
                if frame.message[0] == Code.VOLUNTEER:
                    return frame.source
            self.again += 1
        raise BootError("nobody answers its request for a system (MOP)")

    def _load(self, server: bytes) -> None:
        wants = 0
        while True:
            frame = self._next(time.monotonic() + _SILENT)
            if frame is None:
                raise BootError(f"block {wants} did not come (MOP)")
            message = frame.message
            if frame.source != server or len(message) < 2 or message[1] != wants & 0xFF:
                continue
            if message[0] == Code.LOAD:
                self.memory.append((int.from_bytes(message[2:6], "little"), message[6:]))
            elif message[0] == Code.PARAMETERS:
                self.start = int.from_bytes(message[-4:], "little")
            else:
                continue
            wants += 1
            self._send(server, request_load(wants))
            if self.start is not None:
                return

    def _next(self, until: float) -> Frame | None:
        while (left := until - time.monotonic()) > 0:
            try:
                frame = parse_frame(self.line.receive(left))
            except (TimeoutError, MalformedError):
                continue
            if frame and frame.target == self.mac and frame.protocol is Protocol.LOAD:
                return frame
        return None

    def _send(self, target: bytes, message: bytes) -> None:
        frame = Frame(target, self.mac, Protocol.LOAD, self.framing, message)
        self.line.send(serialise_frame(frame))


@dataclass
class RplClient(RawClient):
    """The same by RPL. Where blocks are missing, it asks for the first of them."""

    sap: int = 0xFC  # where it looks for a server

    def boot(self, name: str) -> None:
        """Load a system; `name` is what its boot ROM calls itself. Raises BootError."""
        look = rpl.serialise_frame(rpl.GROUP, self.mac, rpl.find(self.mac, name), self.sap)
        for _ in range(self.tries):
            self.line.send(look)
            if answer := self._next(time.monotonic() + _ANSWERS):
                self.stage("answered")
                self._load(answer.source, name)
                self.stage("loaded")
                return
            self.again += 1
        raise BootError("nobody answers its search for a server (RPL)")

    def _load(self, server: bytes, name: str) -> None:
        wants, tries = 0, 0
        self._ask(server, name, wants)
        while tries < self.tries:
            frame = self._next(time.monotonic() + _ANSWERS)
            told = rpl.parse(frame.message) if frame and frame.source == server else None
            if not isinstance(told, rpl.FileData):
                tries, self.again = tries + 1, self.again + 1
                self._ask(server, name, wants)
                continue
            tries = 0
            if told.sequence == wants:
                self.memory.append((told.place, told.data))
                wants += 1
            if told.flags & rpl.Flags.BEGIN and told.sequence == wants - 1:
                self.start = told.begin
                return
            if told.flags & rpl.Flags.ACKNOWLEDGE or told.sequence > wants:
                self._ask(server, name, wants)
        raise BootError(f"block {wants} did not come (RPL)")

    def _ask(self, server: bytes, name: str, sequence: int) -> None:
        message = rpl.send_file(self.mac, sequence, name)
        self.line.send(rpl.serialise_frame(server, self.mac, message))

    def _next(self, until: float) -> rpl.Frame | None:
        while (left := until - time.monotonic()) > 0:
            try:
                frame = rpl.parse_frame(self.line.receive(left))
            except (TimeoutError, MalformedError):
                continue
            if frame and frame.target == self.mac:
                return frame
        return None


@dataclass(frozen=True, slots=True)
class RawJob:
    """What a machine asks for: `name` is empty for any system, `images` the paths that it is to
    get, each with its address."""

    kind: str  # MOP or RPL
    name: str
    images: Sequence[tuple[str, int]]
    start: int


def load(
    wire: Wire,
    server: IPv4Address,
    result: SimulatedBoot,
    job: RawJob,
    progress: Callable[[SimulatedBoot], None],
) -> SimulatedBoot:
    """Load one machine by the practice wire. Never raises for what goes wrong in that: the result
    says it."""
    began = time.monotonic()

    def stage(name: str) -> None:
        result.stage = name
        result.stages.append((name, time.monotonic() - began))
        progress(result)

    line = PracticeLine(wire, server, job.kind)
    kind = RplClient if job.kind == RPL else MopClient
    client = kind(line, bytes.fromhex(result.mac.replace(":", "")), stage)
    try:
        client.boot(job.name)
    except (BootError, OSError) as error:
        result.problem = str(error)
    finally:
        line.close()
    result.again += [job.kind] * client.again
    result.seconds = time.monotonic() - began
    paths = {address: path for path, address in job.images}
    for address, data in client.by_image(tuple(paths)):
        path, digest = paths.get(address, ""), sha256(data).hexdigest()
        result.files.append(Got("image", path, len(data), digest, result.seconds))
        if not path and not result.problem:
            result.problem = f"it was sent something for {address:#x}, where none of its images is"
    if not result.problem and client.start != job.start:
        result.problem = f"it was told to begin at {client.start or 0:#x}, not at {job.start:#x}"
    progress(result)
    return result
