"""Templates: their short way gives what their language gives."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.boot.template import FillError, only_names, render
from daskel.core.boot.template_language import fill

KNOWN = {
    "client": {"name": "tide-01", "mac": "02:61:08:00:00:01", "items": "a word", "odd": "{{ x }}"},
    "arguments": "quiet ro",
    "number": 5,
}
PARTS = st.sampled_from(
    ["{{ client.name }}", "{{client.mac}}", "{{ arguments }}", "{{ client }}", "{{ client.items }}",
     "{{ client.odd }}", "{{ number }}", "{{ missing }}", "{{ client.missing }}", "{", "}", "{{", "}}",
     "{% if number %}", "{% endif %}", "{# c #}", " ", "\n", "\r\n", "x", "{{ client.name|upper }}",
     "{{\nclient.name }}", "{{- client.name -}}", "{{ true }}", "{{ client.name }}}"]
)  # fmt: skip


@given(st.lists(PARTS, max_size=6).map("".join))
def test_the_short_way_is_the_same(text: str) -> None:
    def filled(way: object) -> str:
        try:
            return way(text, KNOWN)  # type: ignore[operator, no-any-return]
        except FillError as error:
            return f"error in line {error.line}: {error}"

    if "{" in text:  # what has none is text, and stays as it is
        assert filled(render) == filled(fill)
    short = only_names(text, KNOWN)
    assert short is None or short == filled(fill)


@pytest.mark.parametrize(
    "text", ["{{ client.name }}-{{ arguments }}", "hostname={{client.name}}\n"]
)
def test_what_the_short_way_is_for(text: str) -> None:
    assert only_names(text, KNOWN) is not None
