"""The packages of a Debian system, from the text of its database (deb-status in dpkg(1))."""

from __future__ import annotations

from collections.abc import Mapping


def parse_status(text: str) -> dict[str, str]:
    """Installed packages and their versions, by name and, where there are several, processor."""
    found: dict[str, str] = {}
    for paragraph in text.split("\n\n"):
        fields = dict(
            line.split(": ", 1)
            for line in paragraph.splitlines()
            if ": " in line and not line.startswith(" ")
        )
        if fields.get("Status", "").endswith(" installed") and "Package" in fields:
            found[fields["Package"]] = fields.get("Version", "")
    return found


def changes(old: Mapping[str, str], new: Mapping[str, str]) -> list[tuple[str, str, str]]:
    """Name, version before and version after, empty where it was not installed."""
    return [
        (name, old.get(name, ""), new.get(name, ""))
        for name in sorted(old.keys() | new.keys())
        if old.get(name) != new.get(name)
    ]
