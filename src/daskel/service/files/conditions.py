"""What a request over HTTP says of conditions and ranges: its header fields, read by aiohttp."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime

from aiohttp import ETag, web

from daskel.core.http.conditions import Conditions, Tag

_TAG = re.compile(r'\s*(W/)?"([^"]*)"\s*')  # aiohttp reads no tags in If-Range
_NO_PART = re.compile(r"bytes=-0+")  # which aiohttp takes for the whole


def conditions_of(request: web.BaseRequest) -> Conditions:
    """Several ranges at once, or a malformed one, ask for the whole (RFC 9110 14.2)."""
    start, stop = _range(request)
    return Conditions(
        _tags(request.if_match), _tags(request.if_none_match),
        _date(request, "if_modified_since"), _date(request, "if_unmodified_since"),
        _if_range(request), start, stop,
    )  # fmt: skip


def _date(request: web.BaseRequest, field: str) -> int | None:
    """Seconds since 1970; a date that cannot be is as if it were not there (RFC 9110 13.1.3)."""
    try:
        date: datetime | None = getattr(request, field)
        return None if date is None else int(date.timestamp())
    except (ValueError, OverflowError):
        return None


def _range(request: web.BaseRequest) -> tuple[int | None, int | None]:
    try:
        asked = request.http_range
    except ValueError:
        return None, None
    if _NO_PART.fullmatch(request.headers.get("Range", "")):
        return 0, 0
    start: int | None = asked.start
    stop: int | None = asked.stop
    return (0 if start is None and stop is not None else start), stop


def _tags(tags: Iterable[ETag] | None) -> tuple[Tag, ...] | None:
    return None if tags is None else tuple(Tag(tag.value, tag.is_weak) for tag in tags)


def _if_range(request: web.BaseRequest) -> Tag | int | None:
    """A date or a tag; what is neither is a tag that nothing has."""
    text = request.headers.get("If-Range")
    if text is None:
        return None
    if match := _TAG.fullmatch(text):
        return Tag(match[2], bool(match[1]))
    date = _date(request, "if_range")
    return Tag(text, weak=True) if date is None else date
