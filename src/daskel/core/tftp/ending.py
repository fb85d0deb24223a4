"""How a transfer ended before its file was whole: who ended it, and what was said."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Ending(Enum):
    """Who ended a transfer, or what did."""

    BY_CLIENT = "the client"  # by an ERROR packet
    MISTAKE = "a packet that does not belong there"
    SILENT = "silence"
    CLOSED = "a closed port"  # nobody is there any more (ICMP)
    NO_ROOM = "a limit"
    BY_SERVER = "the server"  # it cannot read or write the file any further


@dataclass(frozen=True, slots=True)
class Failure:
    """`code`: the client's, of its ERROR packet (RFC 1350 appendix, RFC 2347)."""

    ending: Ending
    words: str
    code: int | None = None
