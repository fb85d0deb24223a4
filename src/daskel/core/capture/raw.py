"""Machines that ask for a system in raw Ethernet frames, without IP: who, for what, and what came
of it. MOP (core/mop) and RPL (core/rpl)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from daskel.core.capture.heard import Heard
from daskel.core.capture.scope import Scope
from daskel.core.history.events import RawAsked, RawTrouble
from daskel.core.history.outcome import RAW_SETTLED
from daskel.core.mop import messages as mop
from daskel.core.reader import MalformedError
from daskel.core.rpl import messages as rpl
from daskel.core.values import mac_text

_WHOLE = 1514  # bytes: cut frames are filled up, since their lengths say how long they were
_REPEATED = 0.4  # seconds: less is one frame that was captured twice
_TOO_LARGE = mop.LARGEST_BLOCK
_LLC, _LOAD = b"\xaa\xaa\x03", b"\x60\x01"  # SNAP, of whatever organisation
_LEAST: Mapping[int, int] = {  # bytes of answers
    mop.Code.VOLUNTEER: 1, mop.Code.LOAD: 7, mop.Code.LOAD_LAST: 11, mop.Code.PARAMETERS: 3,
}  # fmt: skip
_MOST = 1000  # machines


@dataclass
class _Block:
    """The newest block that a machine was sent, until it acknowledges that."""

    number: int
    size: int  # bytes of data
    largest: int  # bytes of data that the machine takes
    at: float
    last: float


@dataclass
class _Try:
    """From a request until the machine begins anew."""

    at: float
    protocol: str
    asked: str
    largest: int  # bytes of data in a block that it takes
    times: int = 1  # requests to all
    last: float = 0.0  # request
    framing: mop.Framing | None = None  # of the last request
    by: str = ""  # who answered
    fitting: int = 0  # answers in the framing of the request before
    unfitting: int = 0
    taken: bool = False  # the machine answered to an answer
    done: int = 0  # acknowledgements
    unheard: int = 0  # of these, for blocks that are not in the capture
    block: _Block | None = None
    sent: bool = False  # any block
    ended: float | None = None  # when the last one was sent
    loaded: bool = False


@dataclass
class _Machine:
    first: float
    current: _Try
    before: _Try | None = None
    again: int = 0  # times that it was loaded and asked the same
    gap: float = 0.0  # seconds from the last such load until then


class RawHeard:
    """Follows what machines ask for in raw Ethernet frames."""

    def __init__(self, heard: Heard, scope: Scope) -> None:
        self._heard, self._scope = heard, scope
        self._machines: dict[bytes, _Machine] = {}

    def feed(self, at: float, frame: bytes) -> bool:
        """Whether the frame is such a request, or an answer to one."""
        frame = _untagged(frame)
        whole = frame.ljust(_WHOLE, b"\0")
        try:
            if found := mop.parse_frame(whole):
                self._mop(at, found)
                return True
            if told := rpl.parse_frame(whole):
                self._rpl(at, told)
                return True
        except MalformedError:
            return self._unreadable(frame)
        return frame[14:17] == _LLC and frame[20:22] == _LOAD and self._unreadable(frame)

    def finish(self) -> None:
        """Say what became of each machine's requests."""
        for mac, machine in self._machines.items():
            self._scope.raw.add(mac)
            one, told = machine.current, self._told(mac_text(mac), machine)
            if told.loaded:
                asked = RawAsked(told.who, told.protocol, told.asked)
                self._heard.say(machine.first, asked)
            at = one.ended if told.loaded and one.ended is not None else machine.first
            self._heard.say(at, told)

    # --- what was heard ---

    def _unreadable(self, frame: bytes) -> bool:
        """Whether it is an answer to a machine that asks, in frames that cannot be read."""
        one = self._machines.get(frame[:6])
        if one is None:
            return False
        one.current.by = mac_text(frame[6:12])
        one.current.unfitting += 1
        return True

    def _mop(self, at: float, frame: mop.Frame) -> None:
        if frame.protocol is not mop.Protocol.LOAD:
            return
        code, message = frame.message[0], frame.message
        if code == mop.Code.REQUEST_PROGRAM:
            told = mop.parse(message)
            if isinstance(told, mop.RequestProgram):
                words = told.asked if told.program == mop.Program.SYSTEM else _loader(told)
                made = _Try(at, "MOP", words, _TOO_LARGE, last=at, framing=frame.framing)
                self._asks(frame.source, made, to_all=bool(frame.target[0] & 1))
        elif code == mop.Code.REQUEST_LOAD and (one := self._machines.get(frame.source)):
            self._acknowledges(one.current, message[1] if len(message) > 1 else 0)
        elif one := self._machines.get(frame.target):
            self._answered(at, one.current, frame)

    def _answered(self, at: float, one: _Try, frame: mop.Frame) -> None:
        code, message = frame.message[0], frame.message
        blocks = (mop.Code.LOAD, mop.Code.LOAD_LAST)
        one.by = mac_text(frame.source)
        readable = len(message) >= _LEAST.get(code, _WHOLE)
        fits = readable and frame.framing is one.framing
        one.fitting, one.unfitting = one.fitting + fits, one.unfitting + (not fits)
        if code == mop.Code.VOLUNTEER or not readable:
            return
        one.sent = True
        ends = code in (mop.Code.PARAMETERS, mop.Code.LOAD_LAST)
        size = len(message) - (6 if code == mop.Code.LOAD else 10) if code in blocks else 0
        _sends(one, at, message[1], size)
        if ends:
            one.ended = one.ended if one.ended is not None else at

    def _acknowledges(self, one: _Try, wants: int) -> None:
        one.taken = True
        if one.block is None and wants != one.done & 0xFF:
            one.unheard += 1
        if one.block and wants == (one.block.number + 1) & 0xFF:
            one.block = None
            one.done += 1
            one.loaded = one.loaded or one.ended is not None

    def _rpl(self, at: float, frame: rpl.Frame) -> None:
        told = rpl.parse(frame.message)
        if isinstance(told, rpl.Find):
            made = _Try(at, "RPL", "a system", _data(told.largest_frame), last=at)
            self._asks(frame.source, made, to_all=True)
        elif isinstance(told, rpl.SendFile) and (one := self._machines.get(frame.source)):
            self._wants(one.current, told.sequence)
        elif isinstance(told, rpl.FileData) and (one := self._machines.get(frame.target)):
            one.current.by, one.current.sent = mac_text(frame.source), True
            _sends(one.current, at, told.sequence, len(told.data))
            if told.flags & (rpl.Flags.BEGIN | rpl.Flags.LAST):
                one.current.ended, one.current.loaded = at, True
        elif one := self._machines.get(frame.target):
            one.current.by = mac_text(frame.source)

    def _wants(self, one: _Try, sequence: int) -> None:
        """It has all blocks before one; those behind it did not come, if they were sent."""
        one.taken, one.loaded = True, False
        if one.block and sequence > one.block.number:
            one.block = None
            one.done += 1

    def _asks(self, mac: bytes, made: _Try, *, to_all: bool) -> None:
        machine = self._machines.get(mac)
        if machine is None:
            if len(self._machines) < _MOST:
                self._machines[mac] = _Machine(made.at, made)
            return
        before = machine.current
        if not to_all and not before.sent:
            before.taken, before.framing = True, made.framing
            return
        if not before.sent and before.asked == made.asked and before.protocol == made.protocol:
            before.times += made.at - before.last > _REPEATED
            before.last, before.framing = made.at, made.framing
            return
        if before.sent and made.at - before.last < _REPEATED and before.block is None:
            return  # the same request once more, captured twice
        machine.before, machine.current = before, made
        if before.loaded and before.asked == made.asked and before.ended is not None:
            machine.again, machine.gap = machine.again + 1, made.at - before.ended

    # --- what it means ---

    def _told(self, mac: str, machine: _Machine) -> RawAsked:
        """By what came last, or was tried before that: a machine that begins anew after a block
        that it did not take has only just begun."""
        one, before = machine.current, machine.before
        who, again = self._heard.who(mac), self._again(machine)
        if again:
            return RawAsked(
                who, one.protocol, one.asked, loaded=True, trouble=RawTrouble.AGAIN,
                times=machine.again, by=(before or one).by, seconds=machine.gap,
            )  # fmt: skip
        if one.loaded and one.ended is not None:
            lasts = round(self._scope.last - one.ended, 3)
            return RawAsked(who, one.protocol, one.asked, loaded=True, by=one.by, seconds=lasts)
        trouble, shown = self._trouble(one, anew=False), one
        open_yet = trouble in (None, RawTrouble.SILENT) and one.ended is None
        if open_yet and before and not before.loaded and one.done <= before.done:
            earlier = self._trouble(before, anew=True)
            if earlier:
                trouble, shown = earlier, before
        block = shown.block
        return RawAsked(
            who, shown.protocol, shown.asked, trouble=trouble, times=shown.times, by=shown.by,
            block=block.number if block else shown.done, size=block.size if block else 0,
        )  # fmt: skip

    def _again(self, machine: _Machine) -> bool:
        """It was loaded, and asked the same at once; not when its last load has lasted since."""
        one = machine.current
        if not machine.again or machine.gap > RAW_SETTLED:
            return False
        lasts = self._scope.last - one.ended if one.loaded and one.ended is not None else 0.0
        return lasts <= RAW_SETTLED

    def _trouble(self, one: _Try, *, anew: bool) -> RawTrouble | None:
        """Why it was not loaded; `anew`: the machine began anew. None where that cannot be told."""
        if one.ended is not None:
            return None  # perhaps it runs, and only its last word was lost
        if one.unfitting and not one.fitting and not one.taken:
            return RawTrouble.FRAMING
        block = one.block
        if block and (anew or block.last - block.at > _REPEATED):
            large = block.size > block.largest
            return RawTrouble.TOO_LARGE if large else RawTrouble.NOT_ACKNOWLEDGED
        if anew and block is None and one.done and not one.unheard:
            return RawTrouble.NOT_SENT
        if not one.by and not one.taken:
            return RawTrouble.SILENT
        return None


def _sends(one: _Try, at: float, number: int, size: int) -> None:
    """A block was sent to a machine; the first that it has not acknowledged counts."""
    if one.block is None:
        one.block = _Block(number, size, one.largest, at, at)
    elif one.block.number == number:
        one.block.last = at
    elif one.protocol == "MOP":  # an acknowledgement that was not heard is between them
        one.block = _Block(number, size, one.largest, at, at)


def _data(largest_frame: int) -> int:
    """Bytes of an image in the largest frame of RPL that a machine takes."""
    return largest_frame - rpl.BLOCK_HEAD if largest_frame else _WHOLE


def _loader(told: mop.RequestProgram) -> str:
    """A request for another program than the system, for people."""
    names = {p.value: p.name.lower().replace("_", " ") for p in mop.Program}
    return f"{told.asked} ({names.get(told.program, f'program {told.program}')})"


def _untagged(frame: bytes) -> bytes:
    """Without tags of VLANs (IEEE 802.1Q)."""
    while frame[12:14] in (b"\x81\x00", b"\x88\xa8"):
        frame = frame[:12] + frame[16:]
    return frame
