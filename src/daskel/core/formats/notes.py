"""Lines of the server's log that concern no client: their names, and what each means."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from typing_extensions import TypedDict

Note = Literal["built", "warning", "once", "slate", "key", "finding", "taken over", "kept", "ended"]

NOTES: Mapping[Note, str] = {
    "built": "A boot loader was built.",
    "warning": "Something that an administrator should know.",
    "once": "What one client boots next was said.",
    "slate": "A slate was closed or wiped.",
    "finding": "Why a changed site file is not taken over.",
    "taken over": "The changed site file holds from now on.",
    "kept": "The changed site file was not taken over.",
    "ended": "The server ends; how far its clients came.",
}


class NoteLine(TypedDict):
    """A line that concerns no client."""

    time: float
    event: str  # its name
    level: str  # info or warning
    text: str


class ReadyLine(TypedDict):
    """The services answer from now on."""

    time: float
    event: str  # ready
    level: str
    ports: dict[str, int]
    loopback: bool  # it practises
