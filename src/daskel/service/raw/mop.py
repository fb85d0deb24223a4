"""MOP on one interface: machines that ask for a system get one, block by block."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

from daskel.core.history.events import Abort
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
from daskel.service.raw.machines import MOST_LOADS, Machines, Opened
from daskel.service.raw.packets import (
    EQUAL,
    GREATER,
    LEAVE,
    LOAD_HALF,
    LOAD_WORD,
    TAKE,
    packets,
)
from daskel.service.shared import Moving, Shared

_BATCH = 64  # frames in one turn
_SWEEP, _IDLE = 0.1, 1.0  # seconds between two looks at the clock

# Only frames of the two protocols come to this process.
_FILTER = (
    (LOAD_HALF, 0, 0, 12),
    (EQUAL, 7, 0, Protocol.LOAD),
    (EQUAL, 6, 0, Protocol.CONSOLE),
    (GREATER, 6, 0, 1500),
    (LOAD_WORD, 0, 0, 14),
    (EQUAL, 0, 4, 0xAAAA0308),  # SNAP
    (LOAD_WORD, 0, 0, 18),
    (EQUAL, 1, 0, 0x002B0000 | Protocol.LOAD),
    (EQUAL, 0, 1, 0x002B0000 | Protocol.CONSOLE),
    TAKE,
    LEAVE,
)


@dataclass
class _Loading:
    opened: Opened
    load: Load
    framing: Framing


class MopService:
    """The segments of one interface that say `raw = true`. Raises MissingRequirementError."""

    def __init__(self, shared: Shared, interface: str, segments: Sequence[str]) -> None:
        self._shared, self._machines = shared, Machines(shared, segments, "MOP")
        self._sock = packets(interface, _FILTER, (LOAD_GROUP, CONSOLE_GROUP))
        self._own = self._sock.getsockname()[4]
        self._loads: dict[bytes, _Loading] = {}  # by the machine's address

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
        for source in list(self._loads):
            self._end(source)

    @property
    def under_way(self) -> list[Moving]:
        """Loads now."""
        return [one.opened.moving(one.load.done) for one in self._loads.values()]

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
        mac, device = mac_text(frame.source), device_name(told.device)
        name = told.software if isinstance(told.software, str) else None
        opened = self._machines.opened(mac, name, told.asked, device)
        if opened is None:
            return
        if frame.target != self._own:
            opened.close()
            self._send(frame.source, frame.framing, volunteer())
            return
        self._end(frame.source)  # it begins anew
        if len(self._loads) >= MOST_LOADS:
            opened.close()
            self._machines.full(opened.who)
            return
        system, host = opened.system, self._shared.site.settings.name
        load = Load(opened.size, system.load, system.start, host)
        load.begin(self._shared.clock.monotonic())
        self._machines.begins(opened)
        loading = self._loads[frame.source] = _Loading(opened, load, frame.framing)
        self._send_due(frame.source, loading)

    def _acknowledged(self, source: bytes, told: RequestLoad) -> None:
        loading = self._loads[source]
        if loading.load.acknowledged(told, self._shared.clock.monotonic()):
            self._send_due(source, loading)
        self._look(source, loading)

    def _send_due(self, source: bytes, loading: _Loading) -> None:
        try:
            data = loading.opened.read(*loading.load.wanted)
        except EOFError as error:
            self._machines.aborted(loading.opened, str(error), Abort.BY_SERVER)
            self._end(source)
            return
        self._send(source, loading.framing, loading.load.message(data))

    def _look(self, source: bytes, loading: _Loading) -> None:
        """Whether it is over."""
        load = loading.load
        if load.state is State.DONE:
            self._machines.done(loading.opened, load.repeated)
            self._end(source)
        elif load.state is State.GIVEN_UP:
            reason = f"block {load.number} was never acknowledged"
            self._machines.aborted(loading.opened, reason, Abort.SILENT)
            self._end(source)

    def _end(self, source: bytes) -> None:
        if loading := self._loads.pop(source, None):
            loading.opened.close()

    def _send(self, target: bytes, framing: Framing, message: bytes) -> None:
        frame = Frame(target, self._own, Protocol.LOAD, framing, message)
        with suppress(OSError):  # what is not sent is repeated
            self._sock.send(serialise_frame(frame))
