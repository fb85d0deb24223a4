"""MOP on one interface: machines that ask for a system get one, block by block."""

from __future__ import annotations

import asyncio
import ctypes
import errno
import os
import socket
import struct
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

from daskel.core.boot.identity import by_mac
from daskel.core.boot.segments import best
from daskel.core.content.computed import NOT_YOURS
from daskel.core.content.paths import nearest
from daskel.core.content.raw_systems import NoRawSystem, RawSystem, raw_system
from daskel.core.history.events import (
    Abort,
    FileAborted,
    FileAsked,
    FileKind,
    FileMissing,
    FileSent,
    Missed,
    Refused,
    Seen,
    Told,
    Waits,
    Who,
)
from daskel.core.mop.load import Load, State
from daskel.core.mop.messages import (
    CONSOLE_GROUP,
    LOAD_GROUP,
    Frame,
    Framing,
    Protocol,
    RequestLoad,
    RequestProgram,
    device_name,
    parse,
    parse_frame,
    serialise_frame,
    volunteer,
)
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text
from daskel.service.allowance import Allowance
from daskel.service.shared import Moving, Shared
from daskel.system.host.confined_open import why_not
from daskel.system.requirements import MissingRequirementError

OVER = "MOP"  # in events
_SOL_PACKET, _ADD_MEMBERSHIP, _MULTICAST = 263, 1, 0  # packet(7)
_IGNORE_OUTGOING = 23  # PACKET_IGNORE_OUTGOING, packet(7)
_SO_ATTACH_FILTER = 26  # socket(7)
_ALL = 3  # ETH_P_ALL: frames of 802.3 have no protocol of their own
_BATCH = 64  # frames in one turn
_SWEEP, _IDLE = 0.1, 1.0  # seconds between two looks at the clock
_MOST_LOADS = 128
_SAID_AGAIN = 60.0  # seconds until the same question of a machine is news again
_MOST_SAID = 1000
_ASKS, _STRANGERS = 4, 20  # requests a second of one machine, and of all strangers
_COMPARE_AGAIN = 0.5  # seconds until names are compared for another missing file

# Only frames of the two protocols come to this process (classic BPF: code, if, else, value).
_LOAD_HALF, _LOAD_WORD, _EQUAL, _GREATER, _RETURN = 0x28, 0x20, 0x15, 0x25, 0x06
_FILTER = (
    (_LOAD_HALF, 0, 0, 12),
    (_EQUAL, 7, 0, Protocol.LOAD),
    (_EQUAL, 6, 0, Protocol.CONSOLE),
    (_GREATER, 6, 0, 1500),
    (_LOAD_WORD, 0, 0, 14),
    (_EQUAL, 0, 4, 0xAAAA0308),  # SNAP
    (_LOAD_WORD, 0, 0, 18),
    (_EQUAL, 1, 0, 0x002B0000 | Protocol.LOAD),
    (_EQUAL, 0, 1, 0x002B0000 | Protocol.CONSOLE),
    (_RETURN, 0, 0, 0x40000),
    (_RETURN, 0, 0, 0),
)


@dataclass
class _Loading:
    who: Who
    system: RawSystem
    descriptor: int
    load: Load
    framing: Framing
    began: float

    @property
    def moving(self) -> Moving:
        return Moving(self.who, self.system.path, self.load.done, self.load.size)


class MopService:
    """The segments of one interface that say `raw = true`. Raises MissingRequirementError."""

    def __init__(self, shared: Shared, interface: str, segments: Sequence[str]) -> None:
        self._shared, self._segments = shared, segments
        self._sock = _packets(interface)
        self._own = self._sock.getsockname()[4]
        self._loads: dict[bytes, _Loading] = {}  # by the machine's address
        self._said: dict[tuple[str, str], float] = {}  # by machine and what it asked for
        self._compared = float("-inf")
        self._recent: dict[str, tuple[float, int]] = {}  # since when, and how many requests
        self._strangers = Allowance(shared.clock, _STRANGERS)

    async def serve(self) -> None:
        """Answer until it is cancelled."""
        asyncio.get_running_loop().add_reader(self._sock, self._receive)
        while True:
            await self._shared.clock.sleep(_SWEEP if self._loads else _IDLE)
            now = self._shared.clock.monotonic()
            for source, loading in list(self._loads.items()):
                if loading.load.tick(now):
                    self._send_due(source, loading)
                self._look(source, loading)

    def close(self) -> None:
        """End all loads."""
        asyncio.get_running_loop().remove_reader(self._sock)
        self._sock.close()
        for loading in self._loads.values():
            os.close(loading.descriptor)
        self._loads.clear()

    @property
    def under_way(self) -> list[Moving]:
        """Loads now."""
        return [loading.moving for loading in self._loads.values()]

    def _receive(self) -> None:
        for _ in range(_BATCH):
            try:
                data = self._sock.recv(2048)
            except OSError:
                return
            try:
                frame = parse_frame(data)
                told = parse(frame.message) if frame else None
            except MalformedError as error:
                self._shared.malformed("mop", str(error))
                continue
            if frame is None or frame.protocol is not Protocol.LOAD or frame.source[0] & 1:
                continue
            if isinstance(told, RequestProgram):
                self._asked(frame, told)
            elif isinstance(told, RequestLoad) and frame.source in self._loads:
                self._acknowledged(frame.source, told)

    def _asked(self, frame: Frame, told: RequestProgram) -> None:
        mac, site = mac_text(frame.source), self._shared.site
        if not self._may_ask(mac):
            return
        segment = best(site, self._segments, mac, None)[0]
        who = by_mac(site, mac)
        name = told.software if isinstance(told.software, str) else None
        news = self._news(mac, told.asked)
        if news:
            firmware = f"MOP, {device_name(told.device)}, asks for {told.asked}"
            self._shared.emit(Seen(who, segment, firmware, OVER))
        found = raw_system(site, who, segment, name, self._shared.once.assigned)
        if isinstance(found, NoRawSystem):
            if news:
                self._say_none(who, segment, found, told.asked)
            return
        try:
            descriptor, size, _ = self._shared.files.find(*found.places)
        except OSError as error:
            if news:
                self._missing(who, found.path, error)
            return
        if frame.target != self._own or not size:
            os.close(descriptor)
            if size:
                self._send(frame.source, frame.framing, volunteer())
            return
        self._begin(frame, who, found, descriptor, size)

    def _may_ask(self, mac: str) -> bool:
        """A flood of requests costs little: of one machine, and of all that are strangers."""
        now = self._shared.clock.monotonic()
        since, count = self._recent.get(mac, (now, 0))
        since, count = (since, count + 1) if now - since < 1 else (now, 1)
        if len(self._recent) >= _MOST_SAID:
            self._recent.clear()
        self._recent[mac] = since, count
        known = mac in self._shared.site.by_mac
        if count > _ASKS or (not known and not self._strangers.take()):
            self._shared.malformed("mop", "more requests in a second than are taken")
            return False
        return True

    def _begin(self, frame: Frame, who: Who, system: RawSystem, descriptor: int, size: int) -> None:
        self._end(frame.source)  # it begins anew
        if len(self._loads) >= _MOST_LOADS:
            os.close(descriptor)
            self._shared.malformed("mop", f"more than {_MOST_LOADS} loads at once ({who})")
            return
        now = self._shared.clock.monotonic()
        load = Load(size, system.load, system.start, self._shared.site.settings.name)
        load.begin(now)
        self._shared.emit(Told(who, (system.told,)))
        self._shared.emit(FileAsked(who, system.path, FileKind.KERNEL, size, OVER))
        loading = _Loading(who, system, descriptor, load, frame.framing, now)
        self._loads[frame.source] = loading
        self._send_due(frame.source, loading)

    def _acknowledged(self, source: bytes, told: RequestLoad) -> None:
        loading = self._loads[source]
        if loading.load.acknowledged(told, self._shared.clock.monotonic()):
            self._send_due(source, loading)
        self._look(source, loading)

    def _send_due(self, source: bytes, loading: _Loading) -> None:
        offset, length = loading.load.wanted
        data = os.pread(loading.descriptor, length, offset) if length else b""
        if len(data) < length:
            why = "the file has become shorter"
            self._abort(source, loading, why, Abort.BY_SERVER)
            return
        self._send(source, loading.framing, loading.load.message(data))

    def _look(self, source: bytes, loading: _Loading) -> None:
        """Whether it is over."""
        load, who = loading.load, loading.who
        if load.state is State.DONE:
            seconds = self._shared.clock.monotonic() - loading.began
            path, kind = loading.system.path, FileKind.KERNEL
            self._shared.emit(FileSent(who, path, kind, load.size, seconds, OVER, load.repeated))
            self._end(source)
            mac = mac_text(source)
            self._said = {key: at for key, at in self._said.items() if key[0] != mac}
        elif load.state is State.GIVEN_UP:
            acknowledged = f"block {load.number} was never acknowledged"
            self._abort(source, loading, acknowledged, Abort.SILENT)

    def _abort(self, source: bytes, loading: _Loading, reason: str, why: Abort) -> None:
        self._shared.emit(FileAborted(loading.who, loading.system.path, OVER, reason, why))
        self._end(source)

    def _end(self, source: bytes) -> None:
        if loading := self._loads.pop(source, None):
            os.close(loading.descriptor)

    def _say_none(self, who: Who, segment: str, found: NoRawSystem, asked: str) -> None:
        if found.refused:
            self._shared.emit(Refused(who, segment, found.reason, found.refused))
        elif found.waits:
            self._shared.emit(Waits(who, segment))
        else:
            why = Missed.NOT_YOURS if found.reason == NOT_YOURS else Missed.NOT_ALLOWED
            self._shared.emit(FileMissing(who, found.path or asked, OVER, found.reason, why=why))

    def _missing(self, who: Who, path: str, error: OSError) -> None:
        now = self._shared.clock.monotonic()
        near: list[str] = []
        if error.errno == errno.ENOENT and now - self._compared > _COMPARE_AGAIN:
            self._compared = now
            names = self._shared.files.names()
            near = nearest(path, names) or nearest(path.lower(), names)
        told = FileMissing(who, path, OVER, why_not(error), why=Missed.ABSENT, near=tuple(near))
        self._shared.emit(told)

    def _news(self, mac: str, asked: str) -> bool:
        """A machine asks for the same every few seconds, in one framing and the other."""
        now, key = self._shared.clock.monotonic(), (mac, asked)
        if now - self._said.get(key, float("-inf")) < _SAID_AGAIN:
            return False
        if len(self._said) >= _MOST_SAID:
            self._said.clear()
        self._said[key] = now
        return True

    def _send(self, target: bytes, framing: Framing, message: bytes) -> None:
        frame = Frame(target, self._own, Protocol.LOAD, framing, message)
        with suppress(OSError):  # what is not sent is repeated
            self._sock.send(serialise_frame(frame))


def _packets(interface: str) -> socket.socket:
    """A socket that gets the frames of these protocols on one interface."""
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
    except PermissionError:
        raise MissingRequirementError(
            f"no permission for raw Ethernet frames on {interface}",
            "run as root, or leave out raw = true",
        ) from None
    try:
        code = b"".join(struct.pack("=HBBI", *line) for line in _FILTER)
        _attach(sock, len(_FILTER), code)
        with suppress(OSError):  # kernels before 4.20 show our own frames, which nobody asks by
            sock.setsockopt(_SOL_PACKET, _IGNORE_OUTGOING, 1)
        sock.bind((interface, _ALL))
        index = socket.if_nametoindex(interface)
        for group in (LOAD_GROUP, CONSOLE_GROUP):
            member = struct.pack("=iHH8s", index, _MULTICAST, len(group), group)
            sock.setsockopt(_SOL_PACKET, _ADD_MEMBERSHIP, member)
    except OSError as error:
        sock.close()
        raise MissingRequirementError(
            f"raw Ethernet frames on {interface}: {error.strerror}",
            "correct interface = ..., or leave out raw = true",
        ) from None
    return sock


def _attach(sock: socket.socket, count: int, code: bytes) -> None:
    text = ctypes.create_string_buffer(code)
    program = struct.pack("HP", count, ctypes.addressof(text))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, program)
