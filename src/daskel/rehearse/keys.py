"""What is typed into a virtual machine: plain text, keys by their names in < >, and what to wait
for before the next one."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

_TOKEN = re.compile(r"<([^<>]*)>|(.)", re.DOTALL)
_NAMED = {
    "enter": "ret", "esc": "esc", "tab": "tab", "space": "spc", "backspace": "backspace",
    "up": "up", "down": "down", "left": "left", "right": "right", "home": "home", "end": "end",
    "pageup": "pgup", "pagedown": "pgdn", "insert": "insert", "delete": "delete",
    **{f"f{number}": f"f{number}" for number in range(1, 13)},
}  # fmt: skip
_PLAIN = {  # on a keyboard of the United States, by QEMU's names
    " ": "spc", "-": "minus", "=": "equal", "[": "bracket_left", "]": "bracket_right",
    ";": "semicolon", "'": "apostrophe", "`": "grave_accent", "\\": "backslash", ",": "comma",
    ".": "dot", "/": "slash", "\n": "ret", "\t": "tab",
}  # fmt: skip
_SHIFTED = dict(zip('!@#$%^&*()_+{}:"~|<>?', "1234567890-=[];'`\\,./", strict=True))
_FUNCTION = ("OP", "OQ", "OR", "OS", "[15~", "[17~", "[18~", "[19~", "[20~", "[21~", "[23~", "[24~")
_SERIAL = {  # what a terminal sends (ECMA-48, and VT220's function keys)
    "ret": "\r", "esc": "\x1b", "tab": "\t", "spc": " ", "backspace": "\x7f", "up": "\x1b[A",
    "down": "\x1b[B", "right": "\x1b[C", "left": "\x1b[D", "home": "\x1b[H", "end": "\x1b[F",
    "insert": "\x1b[2~", "delete": "\x1b[3~", "pgup": "\x1b[5~", "pgdn": "\x1b[6~",
    **{f"f{number}": f"\x1b{code}" for number, code in enumerate(_FUNCTION, 1)},
}  # fmt: skip
_HELD = ("ctrl", "alt", "shift")


@dataclass(frozen=True, slots=True)
class Press:
    """Keys that are pressed together, by QEMU's names; and what a serial line gets instead."""

    keys: tuple[str, ...]
    serial: str


@dataclass(frozen=True, slots=True)
class Pause:
    """Seconds to wait."""

    seconds: float


@dataclass(frozen=True, slots=True)
class See:
    """A text that must be on the screen first."""

    text: str


Step = Press | Pause | See


def parse_keys(text: str) -> list[Step]:
    """Raises ValueError with a sentence."""
    return [_named(m[1]) if m[1] is not None else _plain(m[2]) for m in _TOKEN.finditer(text)]


def _named(name: str) -> Step:
    word = name.strip()
    if seen := re.fullmatch(r"see (.+)", word):
        return See(seen[1])
    if pause := re.fullmatch(r"(\d+(?:\.\d+)?) ?s", word):
        return Pause(float(pause[1]))
    held, _, last = word.lower().rpartition("-")
    keys = [key for key in held.split("-") if key]
    held_well = set(keys) <= set(_HELD)
    if last in _NAMED and held_well:
        key = _NAMED[last]
        return Press((*keys, key), _SERIAL[key])
    if len(last) == 1 and last.isascii() and last.isalnum() and keys and held_well:
        control = chr(ord(last) & 0x1F) if keys == ["ctrl"] else last
        return Press((*keys, last), control)
    raise ValueError(f"<{name}> is not a key; there are <enter>, <down>, <f2>, <ctrl-x>, <5s> "
                     "and <see TEXT>")  # fmt: skip


def _plain(letter: str) -> Press:
    if letter in _SHIFTED:
        plain = _SHIFTED[letter]
        return Press(("shift", _PLAIN.get(plain, plain)), letter)
    if letter in _PLAIN:
        return Press((_PLAIN[letter],), "\r" if letter == "\n" else letter)
    if letter.isascii() and letter.isalnum():
        keys = ("shift", letter.lower()) if letter.isupper() else (letter,)
        return Press(keys, letter)
    raise ValueError(f"{letter!r} is not on the keyboard of the machine (United States)")


class Typing:
    """Types step by step; asked again and again, it never waits itself."""

    def __init__(self, steps: Sequence[Step], press: Callable[[Press], None]) -> None:
        self._left, self._press = list(steps), press
        self._until: float | None = None

    @property
    def over(self) -> bool:
        """Everything was typed."""
        return not self._left

    def go_on(self, now: float, on_screen: Callable[[str], bool]) -> None:
        """Type what can be typed now, in seconds of any clock."""
        while self._left:
            match self._left[0]:
                case Press() as press:
                    self._press(press)
                case Pause(seconds):
                    self._until = now + seconds if self._until is None else self._until
                    if now < self._until:
                        return
                    self._until = None
                case See(text):
                    if not on_screen(text):
                        return
            del self._left[0]
