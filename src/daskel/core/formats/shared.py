"""The parts that several formats have. Times are seconds since 1970, sizes are bytes."""

from __future__ import annotations

from typing_extensions import TypedDict


class Place(TypedDict):
    """Where something is written. `line` and `column` count from 1; 0 means unknown."""

    file: str
    line: int
    column: int


class FindingFormat(TypedDict):
    """One thing that `check` or a root's inspection has to say."""

    severity: str  # invalid, error, warning or note
    place: Place | None
    text: str  # the words in the file that it is about
    problem: str
    remedy: str


class CauseFormat(TypedDict):
    """Why a boot came no further."""

    cause: str  # its stable name; "cannot-tell" where the events do not show it
    problem: str
    remedy: str
    evidence: list[tuple[float, str, str]]  # when, what in one word, and the rest


class FetchFormat(TypedDict):
    """A file that a client asked for."""

    path: str
    kind: str  # loader, configuration, kernel, initrd, waiting screen or file
    bytes: int | None
    seconds: float | None
    over: str  # tftp or http
    resent: int  # packets
    end: str  # how it ended
    at: float


class Failure(TypedDict):
    """What any command prints when it cannot do what it was asked."""

    error: str
    remedy: str


class UnusableSite(TypedDict):
    """What a command prints when the site file has errors."""

    findings: list[FindingFormat]


class Done(TypedDict):
    """What was done, in a sentence."""

    said: str
