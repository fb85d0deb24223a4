"""What changes for whom between two sites: in what each client would receive."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from daskel.core.site.layers import Effective, effective
from daskel.core.site.model import Site, Table
from daskel.core.values import show_duration


@dataclass(frozen=True, slots=True)
class Change:
    """One difference, and all clients that it is the same for; none when it is a segment's."""

    what: str
    clients: tuple[str, ...] = ()


def differences(before: Site, after: Site) -> list[Change]:
    """In the order of the file that comes; the same change of many clients is said once."""
    by_change: dict[str, list[str]] = {}
    names = [*after.clients, *(name for name in before.clients if name not in after.clients)]
    for name in names:
        for what in _client(before, after, name):
            by_change.setdefault(what, []).append(name)
    whole = (*_site(before, after), *_segments(before, after), *_tables(before, after))
    changes = [Change(what) for what in whole]
    return changes + [Change(what, tuple(clients)) for what, clients in by_change.items()]


def _site(before: Site, after: Site) -> Iterator[str]:
    """Folders, and the rest of [site] that is no layer."""
    was, becomes = before.settings.model_dump(), after.settings.model_dump()
    for key in (
        "name",
        "files",
        "roots",
        "slates",
        "uploads",
        "account",
        "nfs",
        "https",
        "state",
        "tftp_window",
    ):
        if was[key] != becomes[key]:
            yield f"site: {key.replace('_', '-')} {was[key]} -> {becomes[key]}"


def _segments(before: Site, after: Site) -> Iterator[str]:
    for name in dict.fromkeys([*after.segments, *before.segments]):
        old, new = before.segments.get(name), after.segments.get(name)
        if old is None or new is None:
            yield f"segment {name} {'added' if old is None else 'removed'}"
            continue
        was, becomes = old.model_dump(mode="json"), new.model_dump(mode="json")
        for key, value in becomes.items():
            if key not in ("args", "options", "boot_file") and was[key] != value:
                what = f"segment {name}: {key.replace('_', '-')}"
                show = show_duration if key == "lease" else _shown
                yield f"{what} {show(was[key])} -> {show(value)}"


def _tables(before: Site, after: Site) -> Iterator[str]:
    """Tables that change what some clients receive; for whom, only their questions say."""
    kinds: dict[str, tuple[Mapping[str, Table], Mapping[str, Table]]] = {
        "option": (before.options, after.options),
        "root": (before.roots, after.roots),
        "firmware": (before.firmware, after.firmware),
        "file": (before.files, after.files),
        "upload": (before.uploads, after.uploads),
    }
    for kind, (was, becomes) in kinds.items():
        for name in dict.fromkeys([*becomes, *was]):
            if was.get(name) != becomes.get(name):
                how = "added" if name not in was else "changed" if name in becomes else "removed"
                yield f"{kind} {name} {how}"
    for name, text in after.templates.items():
        if before.templates.get(name, text) != text:
            yield f"template {name} changed"


def _shown(value: object) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value)) or "(none)"
    return "(none)" if value is None else str(value)


def _client(before: Site, after: Site, name: str) -> Iterator[str]:
    if name not in before.clients:
        yield "added"
        return
    if name not in after.clients:
        yield "removed"
        return
    old, new = effective(before, name), effective(after, name)
    was, becomes = _received(before, old), _received(after, new)
    for key, value in becomes.items():
        if was[key] != value:
            yield f"{key} {was[key]} -> {value}"
    yield from _arguments([a.value for a in old.arguments], [a.value for a in new.arguments])
    files, now = _boot_files(old), _boot_files(new)
    for kind in dict.fromkeys([*now, *files]):
        if files.get(kind) != now.get(kind):
            was_file, file = files.get(kind, "Daskel's"), now.get(kind, "Daskel's")
            yield f"boot file ({kind}) {was_file} -> {file}"
    yield from _options(
        {key: sourced.value for key, sourced in old.options.items()},
        {key: sourced.value for key, sourced in new.options.items()},
    )


def _received(site: Site, found: Effective) -> dict[str, str]:
    entries = [site.loadouts[name] for name in found.entries]
    kernels = ", ".join(loadout.kernel or "its own disk" for loadout in entries)
    return {
        "MAC address": found.mac.value,
        "segment": found.segment.value if found.segment else "(none)",
        "address": str(found.address.value) if found.address else "from the pool",
        "boot": found.boot.value if found.boot else "(nothing)",
        "loads": kernels or "(nothing)",
        "initrd": ", ".join(path for loadout in entries for path in loadout.initrd) or "(none)",
        "root": ", ".join(loadout.root or "(none)" for loadout in entries) or "(none)",
    }


def _boot_files(found: Effective) -> dict[str, str]:
    """What is written for each kind of firmware, by the strongest layer."""
    layers = reversed(found.boot_files)
    return {kind: file.value for layer in layers for kind, file in layer.items()}


def _arguments(was: Sequence[str], becomes: Sequence[str]) -> Iterator[str]:
    yield from (f"argument {old} removed" for old in was if old not in becomes)
    yield from (f"argument {new} added" for new in becomes if new not in was)


def _options(was: Mapping[str, object], becomes: Mapping[str, object]) -> Iterator[str]:
    for name in dict.fromkeys([*becomes, *was]):
        if name not in becomes:
            yield f"option {name} removed"
        elif name not in was:
            yield f"option {name} = {becomes[name]} added"
        elif was[name] != becomes[name]:
            yield f"option {name} {was[name]} -> {becomes[name]}"
