"""The site file with all that is known of it: what it names on the disk, the machines that were
seen, and what other servers have."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Any

from daskel.cli import records
from daskel.cli.site import question
from daskel.core.audit.kernel_architecture import check_processors
from daskel.core.boot.firmware import expected
from daskel.core.replies.bootfile import check_firmware
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.parse import place
from daskel.core.site.several import Lack
from daskel.core.values import few
from daskel.system.requirements import MissingRequirementError
from daskel.system.site_check import load_checked
from daskel.system.sitefile import Instead, SiteFile


def load_with_seen(
    path: Path, instead: Instead | None = None, only: Collection[str] | None = None
) -> SiteFile:
    """`load_checked`, and what the machines that were seen have to do with the file."""
    file = load_checked(path, instead, only)
    if file.site is not None:
        try:
            seen = records.leases(file).architectures()
            known = expected(file.site, seen)
            file.findings += check_processors(file.site, file.kernels, known)
            file.findings += check_firmware(file.site, seen)
        except MissingRequirementError as error:
            origin = file.site.origin("site", "state")
            file.findings.append(Finding(Severity.WARNING, origin, error.problem, error.remedy))
        file.findings += _other_servers(file)
        file.findings.sort(key=place)
    return file


def _other_servers(file: SiteFile) -> Iterator[Finding]:
    """Servers with another site file than the one that runs here."""
    asked = (question(file, "servers") or {}) if file.database else {}
    for one in asked.get("servers", ()):
        if one["alive"] and one["differs"]:
            age = "a newer" if one["newer"] else "an older"
            problem = f"server {one['name']} has {age} {few(one['differs'], 3)} than the one here"
            origin = file.valid.origin("server", one["name"])
            remedy = f"daskel servers --compare {one['name']}, and copy the right one over"
            yield Finding(Severity.WARNING, origin, problem, remedy)
        for lack, words in zip(one["lacks"], lacks(one), strict=True):
            origin = file.valid.origin("root", lack["root"])
            remedy = way_out(one["name"], lack)
            yield Finding(Severity.WARNING, origin, f"server {words}", remedy)


def lacks(server: dict[str, Any]) -> list[str]:
    """The versions of roots that another server does not have as they are here, in words."""
    return [f"{server['name']} {_LACKS[one['how']].format(**one)}" for one in server["lacks"]]


def way_out(server: str, lack: dict[str, str]) -> str:
    """The command with which that server has what it lacks."""
    return f"daskel root {_WAYS[lack['how']].format(**lack, server=server)}"


_WAYS = {
    Lack.MISSING.value: "send {root} {version} {server}",
    Lack.DIFFERS.value: "seal {root}, which gives it another number; then: daskel root send",
    Lack.NOT_USED.value: "send {root} {version} {server} --use",
}
_LACKS = {
    Lack.MISSING.value: "lacks version {version} of the root {root}",
    Lack.DIFFERS.value: "has another version {version} of the root {root} than this one",
    Lack.NOT_USED.value: "does not use version {version} of the root {root}, which is used here",
}
