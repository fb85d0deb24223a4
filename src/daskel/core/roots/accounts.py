"""Who can log in to a system, by what is written in its files. Nothing of them is run."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass

PASSWD, SHADOW, NAMES = "etc/passwd", "etc/shadow", "etc/nsswitch.conf"
_NO_SHELL = re.compile(r"/(nologin|false|sync|halt|shutdown)$")
_LOCAL = {"files", "compat", "systemd", "cache", "db"}  # sources of accounts in nsswitch.conf(5)
_AUTOLOGIN = re.compile(r"^[^#;\n]*--autologin[ =](\S+)", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Account:
    """One that somebody can use, and how: "password", "SSH key", "no password", "by itself"."""

    name: str
    ways: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.name} ({', '.join(self.ways)})"


def login_accounts(
    texts: Mapping[str, str], keys: Collection[str], started: Collection[str]
) -> list[Account] | None:
    """`texts`: of the files above; `keys`: accounts whose keys the SSH server takes; `started`: of
    units that log somebody in. None where it cannot be told: no files, or other sources, too."""
    if PASSWD not in texts or SHADOW not in texts or _elsewhere(texts.get(NAMES, "")):
        return None
    by_itself = {name for text in started for name in _AUTOLOGIN.findall(text)}
    hashes = dict(line.split(":")[:2] for line in texts[SHADOW].splitlines() if line.count(":") > 1)
    found = []
    for line in texts[PASSWD].splitlines():
        fields = line.split(":")
        if len(fields) < 7 or _NO_SHELL.search(fields[6]):
            continue
        name, written = fields[0], fields[1]
        hashed = hashes.get(name, "*") if written == "x" else written
        ways = [*_by_password(hashed)]
        ways += ["SSH key"] if name in keys else []
        ways += ["by itself"] if name in by_itself else []
        if ways:
            found.append(Account(name, tuple(ways)))
    return found


def _by_password(hashed: str) -> list[str]:
    """crypt(5): what begins with ! or * fits no password."""
    if not hashed:
        return ["no password"]
    return [] if hashed.startswith(("!", "*")) or len(hashed) < 13 else ["password"]


def _elsewhere(names: str) -> bool:
    """Whether accounts come from somewhere that is not in these files, too."""
    lines = (line.split("#")[0].partition(":") for line in names.splitlines())
    sources = [after.split() for key, _, after in lines if key.strip() == "passwd"]
    return any(set(words) - _LOCAL for words in sources)
