"""Which part of a file a request over HTTP wants."""

from __future__ import annotations

import pytest
from aiohttp.test_utils import make_mocked_request
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.http.conditions import (
    FAILED,
    NOT_MODIFIED,
    PART,
    UNSATISFIABLE,
    WHOLE,
    Conditions,
    Wanted,
    wanted,
)
from daskel.service.files.conditions import conditions_of

NOW, EARLIER, LATER = (f"Mon, 02 Nov 2026 08:0{n}:00 GMT" for n in (1, 0, 2))
MODIFIED = 1793606460  # NOW
SIZE = 100
CASES: list[tuple[dict[str, str], int, int, int]] = [
    ({}, WHOLE, 0, 100),
    ({"Range": "bytes=0-0"}, PART, 0, 1),
    ({"Range": "bytes=10-"}, PART, 10, 90),
    ({"Range": "Bytes = 10-"}, WHOLE, 0, 100),
    ({"Range": "bytes=90-1000"}, PART, 90, 10),
    ({"Range": "bytes=-7"}, PART, 93, 7),
    ({"Range": "bytes=-700"}, PART, 0, 100),
    ({"Range": "bytes=100-"}, UNSATISFIABLE, 0, 0),
    ({"Range": "bytes=-0"}, UNSATISFIABLE, 0, 0),
    ({"Range": "bytes=7-3"}, WHOLE, 0, 100),
    ({"Range": "bytes=-"}, WHOLE, 0, 100),
    ({"Range": "bytes=0-1,5-6"}, WHOLE, 0, 100),
    ({"Range": "lines=1-2"}, WHOLE, 0, 100),
    ({"If-Match": '"abc"'}, WHOLE, 0, 100),
    ({"If-Match": '"x", "abc"'}, WHOLE, 0, 100),
    ({"If-Match": "*"}, WHOLE, 0, 100),
    ({"If-Match": 'W/"abc"'}, FAILED, 0, 0),
    ({"If-Match": '"x"'}, FAILED, 0, 0),
    ({"If-Match": '"abc"', "If-Unmodified-Since": EARLIER}, WHOLE, 0, 100),
    ({"If-Unmodified-Since": EARLIER}, FAILED, 0, 0),
    ({"If-Unmodified-Since": NOW}, WHOLE, 0, 100),
    ({"If-Unmodified-Since": "soon"}, WHOLE, 0, 100),
    ({"If-None-Match": '"abc"'}, NOT_MODIFIED, 0, 0),
    ({"If-None-Match": 'W/"abc"'}, NOT_MODIFIED, 0, 0),
    ({"If-None-Match": "*"}, NOT_MODIFIED, 0, 0),
    ({"If-None-Match": '"x"', "If-Modified-Since": LATER}, WHOLE, 0, 100),
    ({"If-Modified-Since": NOW}, NOT_MODIFIED, 0, 0),
    ({"If-Modified-Since": EARLIER}, WHOLE, 0, 100),
    ({"If-Modified-Since": "soon"}, WHOLE, 0, 100),
    ({"If-Range": '"abc"', "Range": "bytes=1-2"}, PART, 1, 2),
    ({"If-Range": '"x"', "Range": "bytes=1-2"}, WHOLE, 0, 100),
    ({"If-Range": 'W/"abc"', "Range": "bytes=1-2"}, WHOLE, 0, 100),
    ({"If-Range": NOW, "Range": "bytes=1-2"}, PART, 1, 2),
    ({"If-Range": LATER, "Range": "bytes=1-2"}, WHOLE, 0, 100),
]


def of(headers: dict[str, str]) -> Conditions:
    """As a request's header fields are read."""
    return conditions_of(make_mocked_request("GET", "/", headers))


@pytest.mark.parametrize(("headers", "status", "start", "count"), CASES)
def test_what_is_wanted(headers: dict[str, str], status: int, start: int, count: int) -> None:
    assert wanted(of(headers), SIZE, "abc", MODIFIED) == Wanted(status, start, count)
    assert of(headers).needs_tag == any(
        "Match" in n or ("If-Range" in n and '"' in headers[n]) for n in headers
    )


def test_what_is_computed_has_no_date() -> None:
    for name in ("If-Modified-Since", "If-Unmodified-Since"):
        assert wanted(of({name: EARLIER}), SIZE, "abc", None).status == WHOLE
    assert wanted(of({"If-Range": NOW, "Range": "bytes=1-2"}), SIZE, "abc", None).status == WHOLE


@given(st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=40), st.integers(0, 50))
def test_any_range_lies_in_the_file(text: str, size: int) -> None:
    for value in (text, "bytes=" + text):
        part = wanted(of({"Range": value}), size, None, None)
        assert part.start >= 0 and part.start + part.count <= size
