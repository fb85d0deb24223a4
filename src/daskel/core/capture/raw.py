"""Machines that ask for a system in raw Ethernet frames, without IP: who, and for what.

MOP: Ethernet II 60-01, or 802.3 with SNAP; messages as a VAX's ROM sends them. RPL: IEEE 802.2,
SAP FC.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from daskel.core.capture.heard import Heard
from daskel.core.history.events import RawAsked
from daskel.core.values import mac_text

_MOP, _SNAP_MOP = b"\x60\x01", bytes.fromhex("aaaa0308002b6001")
_ASKS, _LOADS, _PARAMETERS, _WANTS = 8, (0, 2), 0x14, 0x0A  # first byte of a message
_RPL, _FIND, _SEND = b"\xfc", 0x0001, 0x0010
_IMAGES = {0xFF: "the standard system", 0xFE: "the maintenance system"}


@dataclass
class _Load:
    at: float
    event: RawAsked
    ended: bool = False  # the last message of a load was sent to it


class RawHeard:
    """Follows what machines ask for in raw Ethernet frames."""

    def __init__(self, heard: Heard) -> None:
        self._heard = heard
        self._loads: dict[str, _Load] = {}

    def feed(self, at: float, frame: bytes) -> bool:
        """Whether the frame is such a request, or an answer to one."""
        kind, body = frame[12:14], frame[14:]
        if kind == _MOP:
            self._mop(at, frame, body[2:])
            return True
        if int.from_bytes(kind, "big") > 1500:
            return False
        if body.startswith(_SNAP_MOP):
            self._mop(at, frame, body[len(_SNAP_MOP) :])
            return True
        if body[:2] == _RPL + _RPL or body[:1] == _RPL or body[1:2] == _RPL:
            self._rpl(at, frame, body[3:])
            return True
        return False

    def finish(self) -> None:
        """Say what each asked for last, and whether it got a system."""
        for load in self._loads.values():
            self._heard.say(load.at, load.event)

    def _mop(self, at: float, frame: bytes, message: bytes) -> None:
        target, sender = mac_text(frame[:6]), mac_text(frame[6:12])
        if message[:1] == bytes((_ASKS,)):
            self._asks(at, sender, "MOP", _software(message))
        elif message[:1] == bytes((_PARAMETERS,)) and target in self._loads:
            self._loads[target].ended = True
        elif message[:1] == bytes((_WANTS,)) and sender in self._loads:
            load = self._loads[sender]  # it acknowledges what it was sent
            if load.ended:
                load.event = replace(load.event, loaded=True)

    def _rpl(self, at: float, frame: bytes, message: bytes) -> None:
        kind = int.from_bytes(message[2:4], "big")
        if kind in (_FIND, _SEND):
            self._asks(at, mac_text(frame[6:12]), "RPL", "a system")

    def _asks(self, at: float, mac: str, protocol: str, what: str) -> None:
        before = self._loads.get(mac)
        event = RawAsked(self._heard.who(mac), protocol, what)
        if before is None or before.event.asked != what or before.event.protocol != protocol:
            self._loads[mac] = _Load(at, event)


def _software(message: bytes) -> str:
    """What a request program message asks for: a name, or a standard image."""
    length = message[4] if len(message) > 4 else 0
    if length > 0x7F:
        return _IMAGES.get(length, "a standard image")
    name = message[5 : 5 + length].rstrip(b"\0 ").decode("latin-1")
    return f'"{name}"' if name.isprintable() and name else "a system"
