"""What Secure Boot would refuse, before a machine meets it: kernels and boot files of clients that
are said to have it on."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from daskel.core.content.unified_images import OWN_KEY, boots_by_itself, starts_images
from daskel.core.reader import MalformedError
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import Effective, effective
from daskel.core.site.model import Site
from daskel.core.values import few

if TYPE_CHECKING:  # few sites say that machines have it on, and the library takes its time
    from daskel.core.efi.signature import Found

_ON = ("shim", *OWN_KEY)


def check_signatures(site: Site, where: Callable[[str], Path]) -> Iterator[Finding]:
    """`where` gives the file of a kernel's path."""
    whole = (effective(site, name) for name in site.clients)
    on = [found for found in whole if found.secure_boot in _ON]
    kernels: dict[str, list[str]] = {}  # by loadout, whose clients
    files: dict[str, list[Effective]] = {}  # boot files of the site's own
    for found in on:
        by_image = boots_by_itself(found) or starts_images(found)  # which the site's key signs
        for name in () if by_image else found.entries:
            if site.loadouts[name].kernel:
                kernels.setdefault(name, []).append(found.name)
        for layer in found.boot_files:
            for said in layer.values():
                if "{" not in said.value and "://" not in said.value and said.value != "none":
                    files.setdefault(said.value, []).append(found)
    for name, clients in kernels.items():
        path = site.loadouts[name].kernel or ""
        if why := _refused(where(path)):
            problem = f"Secure Boot of {few(clients, 1)} refuses the kernel {path}, which {why}"
            remedy = "take the distribution's signed one, or let the firmware start it: "
            remedy += 'loader = "none" and the site\'s own key (daskel keys)'
            yield Finding(Severity.ERROR, site.origin("loadout", name, "kernel"), problem, remedy)
    for path, founds in files.items():
        if why := _refused(where(path)):
            layers = founds[0].boot_files
            said = next(one for layer in layers for one in layer.values() if one.value == path)
            names = few([found.name for found in founds], 1)
            problem = f"Secure Boot of {names} refuses the boot file {path}, which {why}"
            yield Finding(Severity.ERROR, said.origin, problem, "name one that is signed")


def _refused(path: Path) -> str:
    """Why; empty when somebody signed it. That it is not an EFI program, or cannot be read, is
    said elsewhere."""
    try:
        found = _look(path)
    except (OSError, MalformedError):
        return ""
    if found.damaged:
        return f"is not what {found.signers[0]} signed: it is damaged"
    return "" if found.signers else "nobody signed"


def _look(path: Path) -> Found:
    from daskel.core.efi.signature import look

    with path.open("rb") as opened:
        size, descriptor = os.fstat(opened.fileno()).st_size, opened.fileno()
        return look(size, lambda at, count: os.pread(descriptor, count, at))
