"""RPL on one interface: machines that look for a system get one, some blocks at a time. No real
client has confirmed it yet (core/rpl/messages.py)."""

from __future__ import annotations

from dataclasses import dataclass

from daskel.core.content.raw_systems import ANY, Asked
from daskel.core.history.events import Abort
from daskel.core.rpl.load import Load, State
from daskel.core.rpl.messages import (
    BLOCK_HEAD,
    GROUP,
    LARGEST_BLOCK,
    Find,
    Frame,
    Kind,
    SendFile,
    file_data,
    found,
    parse,
    parse_frame,
    serialise_frame,
)
from daskel.core.values import mac_text
from daskel.service.allowance import Allowance
from daskel.service.raw.links import (
    AND,
    EQUAL,
    GREATER,
    LEAVE,
    LOAD_HALF,
    LOAD_WORD,
    TAKE,
    Listens,
)
from daskel.service.raw.machines import Loading, Opened, RawService

_ASKS = 300  # requests a second of one machine: each brings it eight blocks
_LEAST_BLOCK = 128  # bytes, whatever a machine says that it takes

# Only requests in unnumbered frames of 802.2, to one of the two SAPs, come to this process.
_FILTER = (
    (LOAD_HALF, 0, 0, 12),
    (GREATER, 9, 0, 1500),
    (LOAD_WORD, 0, 0, 14),
    (AND, 0, 0, 0xFFFEFF00),  # the last bit of the second SAP says command or answer
    (EQUAL, 2, 0, 0xFCFC0300),
    (EQUAL, 1, 0, 0xF8FC0300),
    (EQUAL, 0, 4, 0xFCF80300),
    (LOAD_HALF, 0, 0, 19),
    (EQUAL, 1, 0, Kind.FIND),
    (EQUAL, 0, 1, Kind.SEND_FILE),
    TAKE,
    LEAVE,
)


@dataclass
class _Loading(Loading):
    load: Load
    sap: int
    asks: Allowance

    @property
    def done(self) -> int:
        return self.load.done


class RplService(RawService[_Loading]):
    """The segments of one interface that say `raw = true`."""

    over = "RPL"
    listens = Listens(_FILTER, (GROUP,))

    def _heard(self, data: bytes) -> None:
        frame = parse_frame(data)
        if frame is None or frame.source[0] & 1:
            return
        told = parse(frame.message)
        if isinstance(told, Find):
            self._looked_for(frame, told)
        elif isinstance(told, SendFile) and frame.target == self._own:
            self._asked(frame, told)

    def _tick(self, source: bytes, loading: _Loading, now: float) -> None:
        self._send_blocks(source, loading, loading.load.tick(now))

    def _looked_for(self, frame: Frame, told: Find) -> None:
        if not self._machines.may_answer(mac_text(frame.source)):
            return
        opened = self._opened(frame, told)
        if opened is None:
            return
        opened.close()
        largest = told.largest_frame or LARGEST_BLOCK + BLOCK_HEAD
        self._send(frame.source, frame.source_sap, found(told, frame.source, self._own, largest))

    def _asked(self, frame: Frame, told: SendFile) -> None:
        loading = self._loads.get(frame.source)
        if loading is None or (told.sequence == 0 and loading.load.wanted > 0):
            loading = self._begin(frame, told)
        if loading is not None and loading.asks.take():
            now = self._shared.clock.monotonic()
            self._send_blocks(frame.source, loading, loading.load.asked(told.sequence, now))

    def _begin(self, frame: Frame, told: SendFile) -> _Loading | None:
        opened = self._opened(frame, told) if told.sequence == 0 else None
        if opened is None:
            return None
        largest = (told.largest_frame or LARGEST_BLOCK + BLOCK_HEAD) - BLOCK_HEAD
        block = max(_LEAST_BLOCK, min(LARGEST_BLOCK, largest))
        load = Load(opened.memory(block), opened.system.start)
        asks = Allowance(self._shared.clock, _ASKS)
        loading = _Loading(opened, load, frame.source_sap, asks)
        return loading if self._begins(frame.source, loading) else None

    def _opened(self, frame: Frame, told: Find | SendFile) -> Opened | None:
        device = told.name or "boot ROM"
        asked = Asked(told.name, itself=True) if told.name else ANY
        return self._machines.opened(mac_text(frame.source), asked, "a system", device)

    def _send_blocks(self, source: bytes, loading: _Loading, due: range) -> None:
        load = loading.load
        for number in due:
            try:
                data = loading.opened.read(load.memory.at(number))
            except EOFError as error:
                self._broken_off(source, str(error), Abort.BY_SERVER)
                return
            block = load.message(number, data, ends=number == due[-1])
            self._send(source, loading.sap, file_data(block))
        if load.state is State.DONE:
            self._over_for(source, load.resent)
        elif load.state is State.GIVEN_UP:
            reason = f"block {load.wanted} was never acknowledged"
            self._broken_off(source, reason, Abort.SILENT)

    def _send(self, target: bytes, sap: int, message: bytes) -> None:
        self._link.send(serialise_frame(target, self._own, message, sap))
