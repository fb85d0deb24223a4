"""Log lines for programs: the same JSON as a general encoder makes, whatever was in an event."""

from __future__ import annotations

import json

from hypothesis import given
from hypothesis import strategies as st

from daskel.cli.events import JsonTexts, json_text, level
from daskel.core.history.encoding import KINDS, as_json
from daskel.core.history.events import Event, Stage

EVENTS = st.sampled_from(sorted(KINDS)).flatmap(lambda name: st.builds(KINDS[name]))


@given(EVENTS, st.none() | st.sampled_from(Stage))
def test_an_event_is_one_line_that_any_parser_reads(event: Event, stage: Stage | None) -> None:
    texts = JsonTexts()
    text = texts.of(event, stage)
    assert "\n" not in text
    told = as_json(event) | {"level": level(event), "stage": stage.value if stage else None}
    assert json.loads(text) == json.loads(json_text(told))
    assert texts.of(event, stage) is text
