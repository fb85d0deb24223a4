"""Whether what programs read has the form that its reference says. Every JSON that a test has a
command print, and every line of a server's log, goes through here."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import fields
from functools import cache
from typing import Any

from pydantic import ConfigDict, TypeAdapter, ValidationError

from daskel.core.formats.notes import NOTES
from daskel.core.formats.registry import ALWAYS, COMMANDS, EVENTS
from daskel.core.history.encoding import KINDS

_WHO = ("client", "mac", "from", "stage")
_LINES: dict[str, Sequence[str]] = {
    **{
        name: (*_WHO, *(f.name for f in fields(kind) if f.name != "who"))
        for name, kind in KINDS.items()
    },
    **dict.fromkeys(NOTES, ("text",)),
    "ready": ("ports", "loopback"),
}
_EXACTLY = ConfigDict(extra="forbid", strict=True)


def command_of(words: Sequence[str]) -> str | None:
    """The name that a command's format is registered by."""
    plain = [word for word in words if not word.startswith("-")]
    return next((name for name in (" ".join(plain[:2]), *plain[:1]) if name in COMMANDS), None)


@cache
def _adapter(command: str, number: int) -> TypeAdapter[Any]:
    kind = [*COMMANDS[command], *ALWAYS][number]
    return TypeAdapter(list[kind], config=_EXACTLY)  # in a list, so that it can be configured


def check_printed(words: Sequence[str], text: str) -> None:
    """Each line that a command printed has one of its formats."""
    command = command_of(words)
    if "--json" not in words or command is None or EVENTS in COMMANDS[command]:
        return
    for line in text.splitlines():
        wrong = []
        for number in range(len(COMMANDS[command]) + len(ALWAYS)):
            try:
                _adapter(command, number).validate_json(f"[{line}]")
                break
            except ValidationError as error:
                wrong.append(str(error))
        else:
            raise AssertionError(f"{command} --json: {line[:500]}\n" + "\n".join(wrong[:2]))


def check_event(line: Mapping[str, Any]) -> None:
    """A line of a log has exactly the keys of its event."""
    name = line["event"]
    wanted = _LINES.get(name)
    assert wanted is not None, f"no reference of the event {name}: {json.dumps(line)}"
    found = line.keys() - {"time", "event", "level"}
    assert found == set(wanted), f"{name}: {sorted(found ^ set(wanted))}"
