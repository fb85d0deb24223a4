"""What this machine has, of what a site needs of one."""

from __future__ import annotations

import json
import os
import pwd
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

from daskel.core.audit.firewall import Fate, fates
from daskel.core.audit.machine_needs import Kind, Need

_OS = Path("/etc/os-release")


def missing(needs: Sequence[Need]) -> list[Need]:
    """Those that are not met here."""
    return [need for need in needs if not _met(need)]


def _met(need: Need) -> bool:
    if need.unless and _module(need.unless):
        return True
    if need.kind is Kind.MODULE:
        return _module(need.name)
    if need.kind is Kind.PROGRAM:
        return _program(need.name) is not None
    if need.kind is Kind.FOLDER:
        return Path(need.name).is_dir()
    if need.kind is Kind.FILE:
        return Path(need.name).is_file()
    if need.kind is Kind.ACCOUNT:
        try:
            pwd.getpwnam(need.name)
        except KeyError:
            return False
        return True
    known = Path("/proc/filesystems").read_text().split()
    return need.name in known or _module(need.name)


def _program(name: str) -> str | None:
    """Also where a user's own PATH does not lead."""
    return shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")


def _module(name: str) -> bool:
    """The kernel could load it."""
    folder = Path("/lib/modules", os.uname().release)
    lists = (folder / "modules.dep", folder / "modules.builtin")
    return any(f"/{name}.ko" in text for path in lists if (text := _read(path)))


def _read(path: Path) -> str:
    try:
        return path.read_text(errors="replace")
    except OSError:
        return ""


def is_fedora() -> bool:
    """Whether packages come with dnf."""
    words = {line.partition("=")[2].strip('"') for line in _read(_OS).splitlines()
             if line.startswith(("ID=", "ID_LIKE="))}  # fmt: skip
    return bool({"fedora", "rhel"} & {word for line in words for word in line.split()})


def firewall(ports: Sequence[tuple[str, int]]) -> dict[tuple[str, int], Fate] | None:
    """What nftables does to messages to these ports; None where that cannot be seen. Rules of ufw
    and of other programs are in it, too, as far as they are written for nftables."""
    program = _program("nft")
    if program is None or os.geteuid() != 0:
        return None
    done = subprocess.run(
        [program, "--json", "list", "ruleset"], capture_output=True, text=True, check=False
    )
    try:
        ruleset = json.loads(done.stdout)
    except ValueError:  # it said why it cannot, and no rules
        return None
    return fates(ruleset, ports) if done.returncode == 0 else None


def free(path: Path) -> int:
    """Bytes that are free where a path is, or will be."""
    there = next((p for p in (path, *path.absolute().parents) if p.exists()), Path("/"))
    return shutil.disk_usage(there).free
