"""Events as log lines: for people a line of words, for programs a JSON object."""

from __future__ import annotations

import re
from dataclasses import fields
from enum import Enum
from ipaddress import IPv4Address
from json import JSONEncoder

from daskel.core.boot.identity import Who
from daskel.core.boot.stages import (
    Addressed,
    Event,
    FileAborted,
    FileMissing,
    FileReceived,
    FileSent,
    GivenBack,
    Malformed,
    Mounted,
    MountRefused,
    OtherServer,
    Refused,
    Seen,
    Stage,
    Waits,
)
from daskel.core.values import show_duration, show_size

_MOST_TEXTS = 20_000
_BAD = (Refused, OtherServer, FileMissing, FileAborted, MountRefused, Malformed)


def words(event: Event) -> tuple[str, str]:
    """What happened in one word, and the rest."""
    match event:
        case Seen():
            how = event.firmware or f"not from firmware ({event.vendor_class or 'no vendor class'})"
            by = f", through relay agent {event.relay}" if event.relay else ""
            return "seen", f"{event.who.mac} on {event.segment}, {how}{by}"
        case Waits():
            return "waits", f"in the lobby of {event.segment}: daskel lobby admit {event.who.mac}"
        case Addressed():
            file = f", boot file {event.boot_file}" if event.boot_file else ""
            if not event.lease:  # heard, not given
                by = f"the DHCP server {event.by}" if event.by else "another DHCP server"
                return "address", f"{event.address} from {by}{file}"
            what = "again " if event.renewed else ""
            return "address", f"{what}{event.address} for {show_duration(event.lease)}{file}"
        case Refused():
            return "refused", event.reason
        case OtherServer():
            where = f"on {event.segment}, where Daskel should be the only one"
            return "other server", f"{event.server} {event.how} {where}"
        case GivenBack():
            why = "is in use by somebody else" if event.declined else "was given back"
            return "address", f"{event.address} {why}"
        case FileSent():
            again = f", {event.resent} packets again" if event.resent else ""
            size, time = show_size(event.size), show_duration(event.seconds)
            return event.kind.value, f"{event.path} {size} in {time} over {event.over}{again}"
        case FileMissing():
            return "missing", f"{event.path} over {event.over}: {event.reason}"
        case FileAborted():
            return "aborted", f"{event.path} over {event.over}: {event.reason}"
        case FileReceived():
            return "received", f"{event.path} {show_size(event.size)}"
        case Mounted():
            return "mounted", f"root {event.root}, {event.how}"
        case MountRefused():
            return "refused", f"mount {event.path}: {event.reason}"
        case Malformed():
            what = "message is none" if event.count == 1 else "messages are none"
            return "malformed", f"{event.count} {event.service} {what}: {event.example}"
        case _:
            return "event", repr(event)


def bad(event: Event) -> bool:
    return isinstance(event, _BAD) and not (isinstance(event, FileMissing) and event.harmless)


json_text = JSONEncoder(ensure_ascii=False, default=str).encode


class JsonTexts:
    """Events as JSON texts, remembered: at every boot of a machine the very same ones come."""

    def __init__(self) -> None:
        self._texts: dict[int, tuple[Event, Stage | None, str]] = {}  # by identity

    def of(self, event: Event, stage: Stage | None) -> str:
        kept = self._texts.get(id(event))
        if kept is not None and kept[1] is stage:
            return kept[2]
        if len(self._texts) >= _MOST_TEXTS:
            self._texts.clear()
        text = json_text(as_json(event, stage.value if stage else None))
        self._texts[id(event)] = event, stage, text
        return text


def as_json(event: Event, stage: str | None) -> dict[str, object]:
    """Stable: the event's name in dashes, who, and the event's own fields."""
    kind: type[Event] = type(event)
    name, keys = _SHAPES.get(kind) or _shape(kind)
    result: dict[str, object] = {"event": name, **_who(event.who), "stage": stage}
    for key in keys:
        value = getattr(event, key)
        plain = str(value) if isinstance(value, IPv4Address) else value
        result[key] = plain.value if isinstance(plain, Enum) else plain
    return result


_SHAPES: dict[type[Event], tuple[str, tuple[str, ...]]] = {}


def _shape(kind: type[Event]) -> tuple[str, tuple[str, ...]]:
    """An event's name in dashes, and its own fields."""
    name = re.sub(r"(?<=[a-z])(?=[A-Z])", "-", kind.__name__).lower()
    _SHAPES[kind] = name, tuple(field.name for field in fields(kind) if field.name != "who")
    return _SHAPES[kind]


def _who(who: Who) -> dict[str, object]:
    return {"client": who.name, "mac": who.mac, "from": str(who.address) if who.address else None}
