"""Conditional requests and ranges (RFC 9110 sections 13 and 14): which part of a file is wanted."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

WHOLE, PART, NOT_MODIFIED, FAILED, UNSATISFIABLE = 200, 206, 304, 412, 416
_TAG = re.compile(r'(W/)?"([^"]*)"')
_RANGE = re.compile(r"\s*bytes\s*=\s*([0-9]{0,18})\s*-\s*([0-9]{0,18})\s*", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Wanted:
    """`count` bytes from `start`; none of them when `status` is no success."""

    status: int
    start: int
    count: int


def needs_tag(headers: Mapping[str, str]) -> bool:
    """The answer depends on what the file contains."""
    return any(name in headers for name in ("If-Match", "If-None-Match", "If-Range"))


def wanted(headers: Mapping[str, str], size: int, tag: str | None, modified: int | None) -> Wanted:
    """What a GET or HEAD from the network gets of a file of `size` bytes.

    `tag` is its entity tag without quotes, `modified` in seconds since 1970. Several ranges at
    once, and what is no range, get the whole (RFC 9110 14.2). Headers are by name in any case.
    """
    if "If-Match" in headers:
        if not _names(headers["If-Match"], tag, weak=False):
            return Wanted(FAILED, 0, 0)
    elif _is_after(modified, headers.get("If-Unmodified-Since")):
        return Wanted(FAILED, 0, 0)
    if "If-None-Match" in headers:
        if _names(headers["If-None-Match"], tag, weak=True):
            return Wanted(NOT_MODIFIED, 0, 0)
    elif _is_after(modified, headers.get("If-Modified-Since")) is False:
        return Wanted(NOT_MODIFIED, 0, 0)
    found = _RANGE.fullmatch(headers.get("Range", ""))
    if found is None or not _still(headers.get("If-Range"), tag, modified):
        return Wanted(WHOLE, 0, size)
    return _part(found[1], found[2], size)


def _part(first: str, last: str, size: int) -> Wanted:
    """A range in bytes, RFC 9110 14.1.2; without a first one, the last ones are meant."""
    if not first and not last:
        return Wanted(WHOLE, 0, size)
    if first:
        start, end = int(first), min(int(last), size - 1) if last else size - 1
        if last and int(last) < int(first):
            return Wanted(WHOLE, 0, size)
    else:
        start, end = max(0, size - int(last)), size - 1
    if start > end:
        return Wanted(UNSATISFIABLE, 0, 0)
    return Wanted(PART, start, end - start + 1)


def _names(text: str, tag: str | None, *, weak: bool) -> bool:
    """Whether a list of entity tags names this one; `weak` ones are the same as others here."""
    if text.strip() == "*":
        return True
    return any(found[2] == tag and (weak or not found[1]) for found in _TAG.finditer(text))


def _still(text: str | None, tag: str | None, modified: int | None) -> bool:
    """If-Range: whether the part that the client has is of this very file (RFC 9110 13.1.5)."""
    if text is None:
        return True
    if '"' in text:
        return _names(text, tag, weak=False)
    return modified is not None and _date(text) == modified


def _is_after(modified: int | None, text: str | None) -> bool | None:
    """None when it cannot be told."""
    date = _date(text)
    return None if modified is None or date is None else modified > date


def _date(text: str | None) -> int | None:
    """Seconds since 1970; None for what is no date."""
    try:
        found = parsedate_to_datetime(text or "")
    except (ValueError, TypeError, IndexError):
        return None
    known = found if found.tzinfo else found.replace(tzinfo=UTC)
    return int((known - datetime(1970, 1, 1, tzinfo=UTC)).total_seconds())
