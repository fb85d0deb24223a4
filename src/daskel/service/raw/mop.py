"""MOP on one interface: machines that ask for a system get one, block by block."""

from __future__ import annotations

from dataclasses import dataclass

from daskel.core.content.raw_systems import ANY, Asked
from daskel.core.history.events import Abort
from daskel.core.mop.load import Load, State
from daskel.core.mop.messages import (
    LARGEST_BLOCK,
    LOAD_GROUP,
    Code,
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
from daskel.core.values import mac_text
from daskel.service.raw.links import (
    EQUAL,
    GREATER,
    JUMP,
    LEAVE,
    LOAD_BYTE,
    LOAD_HALF,
    LOAD_WORD,
    TAKE,
    Listens,
)
from daskel.service.raw.machines import Loading, RawService

# Only requests for a program and for a block come to this process.
_FILTER = (
    (LOAD_HALF, 0, 0, 12),
    (EQUAL, 7, 0, Protocol.LOAD),
    (GREATER, 10, 0, 1500),
    (LOAD_WORD, 0, 0, 14),
    (EQUAL, 0, 8, 0xAAAA0308),  # SNAP
    (LOAD_WORD, 0, 0, 18),
    (EQUAL, 0, 6, 0x002B0000 | Protocol.LOAD),
    (LOAD_BYTE, 0, 0, 22),
    (JUMP, 0, 0, 1),
    (LOAD_BYTE, 0, 0, 16),  # behind the length
    (EQUAL, 1, 0, Code.REQUEST_PROGRAM),
    (EQUAL, 0, 1, Code.REQUEST_LOAD),
    TAKE,
    LEAVE,
)


@dataclass
class _Loading(Loading):
    load: Load
    framing: Framing

    @property
    def done(self) -> int:
        return self.load.done


class MopService(RawService[_Loading]):
    """The segments of one interface that say `raw = true`."""

    over = "MOP"
    listens = Listens(_FILTER, (LOAD_GROUP,))

    def _heard(self, data: bytes) -> None:
        frame = parse_frame(data)
        if frame is None or frame.protocol is not Protocol.LOAD or frame.source[0] & 1:
            return
        told = parse(frame.message)
        if isinstance(told, RequestProgram):
            self._asked(frame, told)
        elif isinstance(told, RequestLoad) and (loading := self._loads.get(frame.source)):
            if loading.load.acknowledged(told, self._shared.clock.monotonic()):
                self._send_due(frame.source, loading)
            self._look(frame.source, loading)

    def _tick(self, source: bytes, loading: _Loading, now: float) -> None:
        if loading.load.tick(now):
            self._send_due(source, loading)
        self._look(source, loading)

    def _asked(self, frame: Frame, told: RequestProgram) -> None:
        mac, device = mac_text(frame.source), device_name(told.device)
        if frame.target != self._own and not self._machines.may_answer(mac):
            return
        asked = Asked(told.software) if isinstance(told.software, str) else ANY
        opened = self._machines.opened(mac, asked, told.asked, device)
        if opened is None:
            return
        if frame.target != self._own:
            opened.close()
            self._send(frame.source, frame.framing, volunteer())
            return
        host = self._shared.site.settings.name
        load = Load(opened.memory(LARGEST_BLOCK), opened.system.start, host)
        load.begin(self._shared.clock.monotonic())
        loading = _Loading(opened, load, frame.framing)
        if self._begins(frame.source, loading):
            self._send_due(frame.source, loading)

    def _send_due(self, source: bytes, loading: _Loading) -> None:
        block = loading.load.wanted
        try:
            data = loading.opened.read(block) if block else b""
        except EOFError as error:
            self._broken_off(source, str(error), Abort.BY_SERVER)
            return
        self._send(source, loading.framing, loading.load.message(data))

    def _look(self, source: bytes, loading: _Loading) -> None:
        """Whether it is over."""
        load = loading.load
        if source not in self._loads:
            return
        if load.state is State.DONE:
            self._over_for(source, load.repeated)
        elif load.state is State.GIVEN_UP:
            reason = f"block {load.number} was never acknowledged"
            self._broken_off(source, reason, Abort.SILENT)

    def _send(self, target: bytes, framing: Framing, message: bytes) -> None:
        frame = Frame(target, self._own, Protocol.LOAD, framing, message)
        self._link.send(serialise_frame(frame))
