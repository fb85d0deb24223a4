"""Events as JSON objects, for logs and the store, and back."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, fields
from enum import Enum
from ipaddress import IPv4Address, IPv6Address, ip_address
from types import NoneType, UnionType
from typing import Any, get_args, get_type_hints

from daskel.core.history import events
from daskel.core.history.events import Address, Event, Loaded, Who

_PLAIN = (str, int, bool, NoneType)  # as most values are
_SHAPES: dict[type[Event], tuple[str, tuple[str, ...]]] = {}


def as_json(event: Event) -> dict[str, object]:
    """Stable: the event's name in dashes, who, and the event's own fields."""
    kind: type[Event] = type(event)
    name, keys = _SHAPES.get(kind) or _shape(kind)
    who = event.who
    result: dict[str, object] = {
        "event": name,
        "client": who.name,
        "mac": who.mac,
        "from": str(who.address) if who.address else None,
    }
    for key in keys:
        result[key] = _plain(getattr(event, key))
    return result


def from_json(told: Mapping[str, Any]) -> Event | None:
    """The event of an object that `as_json` made; None for one of another version."""
    kind = KINDS.get(str(told.get("event")))
    if kind is None:
        return None
    address = told.get("from")
    wanted = {key: make for key, make in _MAKERS[kind].items() if key in told}
    try:
        who = Who(told.get("client"), told.get("mac"), ip_address(address) if address else None)
        return kind(who, **{key: make(told[key]) for key, make in wanted.items()})
    except (TypeError, ValueError):
        return None


def name_of(kind: type[Event]) -> str:
    """An event's name in dashes."""
    return (_SHAPES.get(kind) or _shape(kind))[0]


def _plain(value: object) -> object:
    if type(value) in _PLAIN:
        return value
    if isinstance(value, (IPv4Address, IPv6Address)):
        return str(value)
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, tuple):
        return [item if isinstance(item, str) else asdict(item) for item in value]
    return value


def _shape(kind: type[Event]) -> tuple[str, tuple[str, ...]]:
    """An event's name in dashes, and its own fields."""
    name = re.sub(r"(?<=[a-z])(?=[A-Z])", "-", kind.__name__).lower()
    _SHAPES[kind] = name, tuple(field.name for field in fields(kind) if field.name != "who")
    return _SHAPES[kind]


def _maker(hint: object) -> Any:
    others = [one for one in get_args(hint) if one is not NoneType]
    if len(others) == 1 and len(get_args(hint)) == 2 and isinstance(hint, UnionType):
        make = _maker(others[0])
        return lambda value: None if value is None else make(value)
    if isinstance(hint, type) and issubclass(hint, Enum):
        return hint
    if hint == tuple[str, ...]:
        return tuple
    if hint in (IPv4Address, Address, Address | None):
        return lambda value: value and ip_address(value)
    if hint == tuple[Loaded, ...]:
        return lambda value: tuple(Loaded(**{**o, "initrd": tuple(o["initrd"])}) for o in value)
    return lambda value: value


KINDS = {_shape(kind)[0]: kind for kind in Event.__subclasses__()}
_MAKERS = {
    kind: {
        key: _maker(hint)
        for key, hint in get_type_hints(kind, vars(events)).items()
        if key != "who"
    }
    for kind in KINDS.values()
}
