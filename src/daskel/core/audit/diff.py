"""What changes for whom between two sites. Nothing here lists what matters: what machines receive
is worked out by the code that answers them, and the rest follows from the model's own fields."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from difflib import ndiff
from enum import Enum
from typing import Any

from daskel.core.audit.received import (
    ANSWERED,
    ARGUMENTS,
    Item,
    Received,
    Receiving,
    Text,
    faces_for,
)
from daskel.core.dhcp.client_messages import Face
from daskel.core.history.events import Who
from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site
from daskel.core.site.private import private_roots
from daskel.core.site.tables import SiteTable
from daskel.core.values import without_password

_MOST_LINES = 2  # of a text that changed, that are shown
_MOST_SHOWN = 60  # characters of a value
_NO_MACHINE = "02:00:00:00:00:01"  # locally administered: no machine has it from its maker


class Unnoticed(Enum):
    """Why no machine receives anything else because of a change."""

    SERVER = "the server's own affair"
    UNUSED = "no machine is sent anything that it is in"


@dataclass(frozen=True, slots=True)
class Change:
    """One difference, and all machines that it is the same for."""

    what: str
    clients: tuple[str, ...] = ()
    strangers: tuple[str, ...] = ()  # segments whose unknown machines it is for
    unnoticed: Unnoticed | None = None  # it is for no machine


@dataclass(frozen=True, slots=True)
class _Field:
    """A value of the model that differs: its table, and its key; None for a whole table."""

    kind: str
    name: str  # empty for [site]
    key: str | None


def differences(before: Site, after: Site) -> list[Change]:
    """What each machine receives otherwise, the same change of many once; then every value of the
    site file that differs and that no machine notices."""
    faces = faces_for(before, after)
    was, becomes = Receiving(before, faces), Receiving(after, faces)
    by_change: dict[str, list[str]] = {}
    for name in concerned(before, after):
        for what in _client(before, after, was, becomes, name):
            by_change.setdefault(what, []).append(name)
    unknown: dict[str, list[str]] = {}
    for segment in (name for name in after.served if name in before.served):
        for what in _strangers(was, becomes, segment, _stranger_macs(before, after, segment)):
            unknown.setdefault(what, []).append(segment)
    changes = [
        Change(what, tuple(by_change.get(what, ())), tuple(unknown.get(what, ())))
        for what in dict.fromkeys([*by_change, *unknown])
    ]
    changed = list(_changed_fields(before, after))
    noticed = _noticed(before, after, faces, changed) if changes else []
    return changes + [
        Change(_field_words(before, after, field), unnoticed=_why(field))
        for field in changed
        if field not in noticed
    ]


# --- what machines receive ---


def concerned(before: Site, after: Site) -> list[str]:
    """The clients that may receive something else: where only tables of clients differ, those whose
    own does; nobody receives what stands in another client's table."""
    everybody = dict.fromkeys([*after.clients, *before.clients])
    written = {kept.name for kept in fields(Site) if kept.init}  # the others follow from them
    rest = written - {"clients", "positions"}
    if any(getattr(before, name) != getattr(after, name) for name in rest):
        return list(everybody)
    if private_roots(before) != private_roots(after):  # what is private for one, all have no more
        return list(everybody)
    return [name for name in everybody if before.clients.get(name) != after.clients.get(name)]


def _client(
    before: Site, after: Site, was: Receiving, becomes: Receiving, name: str
) -> Iterator[str]:
    if name not in before.clients:
        yield "added"
    elif name not in after.clients:
        yield "removed"
    else:
        yield from _compared(_of_client(before, was, name), _of_client(after, becomes, name))


def _of_client(site: Site, receiving: Receiving, name: str) -> Received:
    client = site.clients[name]
    return receiving.by(Who(name, client.mac), segment_name(site, client))


def _strangers(
    was: Receiving, becomes: Receiving, segment: str, macs: Sequence[str]
) -> Iterator[str]:
    seen = set()
    for mac in macs:
        who = Who(None, mac)
        for what in _compared(was.by(who, segment), becomes.by(who, segment)):
            if what not in seen:
                seen.add(what)
                yield what


def _stranger_macs(before: Site, after: Site, segment: str) -> list[str]:
    """Machines that are in no site: one for each list that some of them are on."""
    prefixes = [
        prefix
        for site in (before, after)
        for prefix in (*site.segments[segment].allow, *site.segments[segment].refuse)
    ]
    filled = [prefix + _NO_MACHINE[len(prefix) :] for prefix in dict.fromkeys(prefixes)]
    taken = before.by_mac.keys() | after.by_mac.keys()
    return [mac for mac in (_NO_MACHINE, *filled) if mac not in taken]


def _compared(was: Received, becomes: Received) -> Iterator[str]:
    """In words, each thing that is not the same; for several kinds of firmware at once."""
    changed = {
        key: (was.get(key), becomes.get(key))
        for key in dict.fromkeys([*becomes, *was])
        if was.get(key) != becomes.get(key)
    }
    names = {what for what, _ in changed}
    if ANSWERED in names:
        changed = {key: pair for key, pair in changed.items() if key[0] == ANSWERED}
    said: dict[tuple[str, str], list[str]] = {}
    for (what, face), (old, new) in changed.items():
        if not names.intersection((new or old or Item("")).with_):
            for how in _how(what, old, new):
                said.setdefault((what, how), []).append(face)
    for (what, how), faces in said.items():
        named = ", ".join(filter(None, faces))
        about = f"{what} ({named})" if named else what
        yield how if what == ARGUMENTS else f"{about} {how}"


def _how(what: str, old: Item | None, new: Item | None) -> Iterator[str]:
    if what == ARGUMENTS:
        yield from _arguments(old, new)
    elif old is None or new is None:
        value = f"= {new.shown} " if new and str(new.shown) else ""
        yield "removed" if new is None else f"{value}added"
    elif old.shown != new.shown:
        yield f"{old.shown or '(computed)'} -> {new.shown or '(computed)'}"
    elif isinstance(old.whole, Text) and isinstance(new.whole, Text):
        yield _lines(old.whole, new.whole)
    elif old.shown and isinstance(old.whole, (str, list)) and isinstance(new.whole, (str, list)):
        yield f"{_plain(old.whole)} -> {_plain(new.whole)}"
    else:
        yield "changed"


def _arguments(old: Item | None, new: Item | None) -> Iterator[str]:
    was, becomes = (item.whole if item else [] for item in (old, new))
    assert isinstance(was, list) and isinstance(becomes, list)
    yield from (f"argument {word} removed" for word in was if word not in becomes)
    yield from (f"argument {word} added" for word in becomes if word not in was)
    if sorted(was) == sorted(becomes):
        yield "order of arguments changed"


def _plain(value: str | list[object]) -> str:
    return value if isinstance(value, str) else ", ".join(map(str, value)) or "(none)"


def _lines(old: Text, new: Text) -> str:
    """The lines of a text that changed, when they are few."""
    both = [line for line in ndiff(old.lines, new.lines) if line[0] in "-+"]
    was, becomes = ([line[2:] for line in both if line[0] == sign] for sign in "-+")
    if max(len(was), len(becomes)) > _MOST_LINES:
        return f"changed ({max(len(was), len(becomes))} lines)"
    return f"has other lines: {'; '.join(was) or '(none)'} -> {'; '.join(becomes) or '(none)'}"


# --- what differs in the file ---


def _changed_fields(before: Site, after: Site) -> Iterator[_Field]:
    """Every value of every table that is not the same, by the model's own fields."""
    for key in SiteTable.model_fields:
        if getattr(before.settings, key) != getattr(after.settings, key):
            yield _Field("site", "", key)
    was, becomes = before.tables(), after.tables()
    for kind in was:
        for name in dict.fromkeys([*becomes[kind], *was[kind]]):
            old, new = was[kind].get(name), becomes[kind].get(name)
            if old == new:
                continue
            if old is None or new is None:
                yield _Field(kind, name, None)
                continue
            for key in type(new).model_fields:
                if getattr(old, key) != getattr(new, key):
                    yield _Field(kind, name, key)
    for name in dict.fromkeys([*after.templates, *before.templates]):
        if before.templates.get(name) != after.templates.get(name):
            yield _Field("template", name, None)


def _noticed(
    before: Site, after: Site, faces: Mapping[str, Face], fields: Sequence[_Field]
) -> list[_Field]:
    """Those without which some machine would not receive what it will, or did not."""
    if len(fields) == 1:
        return list(fields)
    some, pairs = _Some.of(before, after), ((before, after), (after, before))
    known = {site: some.received(site, faces) for site in (before, after)}
    noticed = []
    for field in fields:
        if field.kind == "client" and field.key is not None:  # only the client itself can notice
            alone = _Some((field.name,), {})
            told = {site: alone.received(site, faces) for site in (before, after)}
            differs = any(alone.differs(told[a], a, b, field, faces) for a, b in pairs)
        else:
            differs = field.kind == "client" or any(
                some.differs(known[a], a, b, field, faces) for a, b in pairs
            )
        if differs:
            noticed.append(field)
    return noticed


@dataclass(frozen=True, slots=True)
class _Some:
    """Machines that stand for all: of clients that differ in nothing but their own names and
    numbers, one; and strangers."""

    clients: tuple[str, ...]
    strangers: Mapping[str, Sequence[str]]  # by segment

    @classmethod
    def of(cls, before: Site, after: Site) -> _Some:
        chosen: dict[object, str] = {}
        for site in (before, after):
            for name, client in site.clients.items():
                own = {"mac", "address", "address6", "uuid", "serial"}
                known = [getattr(client, key) is None for key in sorted(own)]
                alike = repr((client.model_dump(exclude=own), known))
                chosen.setdefault(alike, name)
        segments = before.segments.keys() & after.segments.keys()
        strangers = {name: _stranger_macs(before, after, name) for name in segments}
        return cls(tuple(dict.fromkeys(chosen.values())), strangers)

    def received(self, site: Site, faces: Mapping[str, Face]) -> list[Received]:
        receiving = Receiving(site, faces)
        there = [_of_client(site, receiving, name) for name in self.clients if name in site.clients]
        return there + [
            receiving.by(Who(None, mac), segment)
            for segment, macs in self.strangers.items()
            for mac in macs
        ]

    def differs(
        self, known: list[Received], site: Site, other: Site, field: _Field,
        faces: Mapping[str, Face],
    ) -> bool:  # fmt: skip
        """Whether `site` with this one value of the `other` one gives some machine other things
        than the `known`."""
        try:
            return self.received(_with(site, other, field), faces) != known
        except (KeyError, AssertionError, ValueError):
            return True  # one value without the others does not even make a site


def _with(site: Site, other: Site, field: _Field) -> Site:
    """`site` with one value of the `other` one."""
    if field.kind == "site":
        key = str(field.key)
        update = {key: getattr(other.settings, key)}
        return replace(site, settings=site.settings.model_copy(update=update))
    if field.kind == "template":
        return replace(site, templates=_one_of(site.templates, other.templates, field.name))
    tables, theirs = site.tables()[field.kind], other.tables()[field.kind]
    if field.key is None:
        return site.with_tables(field.kind, _one_of(tables, theirs, field.name))
    value = getattr(theirs[field.name], field.key)
    changed = tables[field.name].model_copy(update={field.key: value})
    return site.with_tables(field.kind, {**tables, field.name: changed})


def _one_of(mine: Mapping[str, Any], theirs: Mapping[str, Any], name: str) -> dict[str, Any]:
    """`mine`, with one entry as it is in `theirs`, or without it."""
    rest = {key: value for key, value in mine.items() if key != name}
    return rest | {name: theirs[name]} if name in theirs else rest


def _why(field: _Field) -> Unnoticed:
    return Unnoticed.SERVER if field.kind in ("site", "segment", "server") else Unnoticed.UNUSED


def _field_words(before: Site, after: Site, field: _Field) -> str:
    if field.kind == "template":
        return f"template {field.name} changed"
    table = f"{field.kind} {field.name}".strip()
    if field.key is None:
        return f"{table} {'removed' if field.name in before.tables()[field.kind] else 'added'}"
    was, becomes = _written(before, field), _written(after, field)
    key = field.key.replace("_", "-")
    if max(len(was), len(becomes)) > _MOST_SHOWN:
        return f"{table}: {key} changed"
    return f"{table}: {key} {was} -> {becomes}"


def _written(site: Site, field: _Field) -> str:
    """A value as it stands in the file."""
    assert field.key
    path = ("site",) if field.kind == "site" else (field.kind, field.name)
    table = site.settings if field.kind == "site" else site.tables()[field.kind][field.name]
    if field.key not in table.model_fields_set:
        return "(default)"
    value = getattr(table, field.key)
    if isinstance(value, (tuple, Mapping)):
        return ", ".join(map(str, value)) or "(none)"
    return without_password(site.origin(*path, field.key.replace("_", "-")).text.strip("\"'"))
