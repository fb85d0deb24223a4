"""Conditional requests and ranges (RFC 9110 sections 13 and 14): which part of a file is wanted.

The header fields themselves are read by a library.
"""

from __future__ import annotations

from dataclasses import dataclass

WHOLE, PART, NOT_MODIFIED, FAILED, UNSATISFIABLE = 200, 206, 304, 412, 416
ANY = "*"  # an entity tag that stands for whatever there is


@dataclass(frozen=True, slots=True)
class Tag:
    """An entity tag (RFC 9110 8.8.3), without its quotes."""

    value: str
    weak: bool = False


@dataclass(frozen=True, slots=True)
class Conditions:
    """What a request says; None for what it does not. Times in seconds since 1970."""

    if_match: tuple[Tag, ...] | None = None
    if_none_match: tuple[Tag, ...] | None = None
    if_modified_since: int | None = None
    if_unmodified_since: int | None = None
    if_range: Tag | int | None = None
    start: int | None = None  # bytes; negative: counted from the end
    stop: int | None = None  # bytes, the first one that is not wanted

    @property
    def needs_tag(self) -> bool:
        """The answer depends on what the file contains."""
        tags = (self.if_match, self.if_none_match)
        return any(tag is not None for tag in tags) or isinstance(self.if_range, Tag)


@dataclass(frozen=True, slots=True)
class Wanted:
    """`count` bytes from `start`; none of them unless `status` is a success."""

    status: int
    start: int
    count: int


def wanted(asked: Conditions, size: int, tag: str | None, modified: int | None) -> Wanted:
    """What a GET or HEAD gets of a file of `size` bytes, in the order of RFC 9110 13.2.2.

    `tag` is its entity tag, `modified` in seconds since 1970, None for what is computed.
    """
    if asked.if_match is not None:
        if not _named(asked.if_match, tag, weak=False):
            return Wanted(FAILED, 0, 0)
    elif _is_after(modified, asked.if_unmodified_since):
        return Wanted(FAILED, 0, 0)
    if asked.if_none_match is not None:
        if _named(asked.if_none_match, tag, weak=True):
            return Wanted(NOT_MODIFIED, 0, 0)
    elif _is_after(modified, asked.if_modified_since) is False:
        return Wanted(NOT_MODIFIED, 0, 0)
    if asked.start is None or not _still(asked.if_range, tag, modified):
        return Wanted(WHOLE, 0, size)
    return _part(asked.start, asked.stop, size)


def _part(start: int, stop: int | None, size: int) -> Wanted:
    """A range in bytes (RFC 9110 14.1.2)."""
    first = max(0, size + start) if start < 0 else start
    end = size if stop is None else min(stop, size)
    if first >= end:
        return Wanted(UNSATISFIABLE, 0, 0)
    return Wanted(PART, first, end - first)


def _named(tags: tuple[Tag, ...], tag: str | None, *, weak: bool) -> bool:
    """Whether a list of entity tags names this one; `weak` ones are the same as others here."""
    return any(one.value == ANY or (one.value == tag and (weak or not one.weak)) for one in tags)


def _still(told: Tag | int | None, tag: str | None, modified: int | None) -> bool:
    """If-Range: whether the part that the client has is of this very file (RFC 9110 13.1.5)."""
    if told is None:
        return True
    if isinstance(told, Tag):
        return told.value == tag and not told.weak
    return modified is not None and told == modified


def _is_after(modified: int | None, date: int | None) -> bool | None:
    """None when it cannot be told."""
    return None if modified is None or date is None else modified > date
