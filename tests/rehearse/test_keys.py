"""What is typed into a virtual machine."""

from __future__ import annotations

import pytest

from daskel.rehearse.keys import Pause, Press, See, Typing, parse_keys

PARSED = [
    ("aB", [Press(("a",), "a"), Press(("shift", "b"), "B")]),
    ("/!", [Press(("slash",), "/"), Press(("shift", "1"), "!")]),
    ("<down><enter>", [Press(("down",), "\x1b[B"), Press(("ret",), "\r")]),
    ("<ctrl-x><alt-f2>", [Press(("ctrl", "x"), "\x18"), Press(("alt", "f2"), "\x1bOQ")]),
    ("<5s><0.5 s><see a b>", [Pause(5.0), Pause(0.5), See("a b")]),
]


@pytest.mark.parametrize(("text", "steps"), PARSED)
def test_parsed(text: str, steps: list[object]) -> None:
    assert parse_keys(text) == steps


@pytest.mark.parametrize("text", ["<none>", "<>", "<ctrl->", "<ctrl-é>", "<hold-x>", "<see>", "ü"])
def test_not_a_key(text: str) -> None:
    with pytest.raises(ValueError, match="key"):
        parse_keys(text)


def test_typed_step_by_step() -> None:
    """Nothing is typed before what is waited for is there, and its time is over."""
    pressed: list[str] = []
    typing = Typing(parse_keys("<see menu>a<2s>b"), lambda press: pressed.append(press.serial))
    for now, shown, typed in ((0, "", ""), (1, "menu", "a"), (2, "", "a"), (3, "", "ab")):
        typing.go_on(now, lambda text, shown=shown: text in shown)  # type: ignore[misc]
        assert "".join(pressed) == typed
    assert typing.over
