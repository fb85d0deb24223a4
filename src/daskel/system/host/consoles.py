"""Asks a wire which machines answer a request for their identity (MOP's remote console)."""

from __future__ import annotations

import socket
import time
from contextlib import suppress
from dataclasses import dataclass

from daskel.core.mop.messages import (
    CONSOLE_GROUP,
    Frame,
    Framing,
    Protocol,
    SystemId,
    parse,
    parse_frame,
    request_id,
    serialise_frame,
)
from daskel.core.reader import MalformedError
from daskel.core.values import mac_text
from daskel.system.requirements import MissingRequirementError

_ALL = 3  # ETH_P_ALL
_RECEIPT = 0x6108
_MOST = 1000  # machines that are listed


@dataclass(frozen=True, slots=True)
class Console:
    """A machine, and what it says it is."""

    mac: str
    told: SystemId


def consoles(interface: str, seconds: float) -> list[Console]:
    """Those that answer within `seconds`, asked in both framings.

    Raises MissingRequirementError.
    """
    try:
        sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    except PermissionError:
        raise MissingRequirementError("no permission to ask the wire", "run as root") from None
    found: dict[str, Console] = {}
    with sock:
        try:
            sock.bind((interface, _ALL))
            own: bytes = sock.getsockname()[4]
            for framing in Framing:
                ask = Frame(CONSOLE_GROUP, own, Protocol.CONSOLE, framing, request_id(_RECEIPT))
                sock.send(serialise_frame(ask))
        except OSError as error:
            problem = f"interface {interface} cannot be asked ({error.strerror})"
            raise MissingRequirementError(problem, "daskel survey lists the interfaces") from None
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0 and len(found) < _MOST:
            sock.settimeout(left)
            with suppress(TimeoutError, MalformedError):
                frame = parse_frame(sock.recv(2048))
                if frame and frame.protocol is Protocol.CONSOLE and frame.target == own:
                    told = parse(frame.message)
                    if isinstance(told, SystemId) and told.receipt == _RECEIPT:
                        mac = mac_text(frame.source)
                        found[mac] = Console(mac, told)
    return sorted(found.values(), key=lambda console: console.mac)
