"""What Secure Boot would refuse, before a machine meets it: kernels and boot files of clients that
are said to have it on."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from daskel.core.content.grub import apt_install
from daskel.core.content.signed_chain import CHAINS, Chain
from daskel.core.content.unified_images import (
    OWN_KEY,
    boots_by_itself,
    starts_images,
    stub_package,
    stub_path,
)
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
    yield from _second_stages(on, where)
    for path, founds in files.items():
        if why := _refused(where(path)):
            layers = founds[0].boot_files
            said = next(one for layer in layers for one in layer.values() if one.value == path)
            names = few([found.name for found in founds], 1)
            problem = f"Secure Boot of {names} refuses the boot file {path}, which {why}"
            yield Finding(Severity.ERROR, said.origin, problem, "name one that is signed")


def _second_stages(on: list[Effective], where: Callable[[str], Path]) -> Iterator[Finding]:
    """What shim goes on to must say which versions it is made of (SBAT), whoever signed it."""
    wanted: dict[tuple[str, Chain], list[Effective]] = {}
    for found in on:
        firmware = found.firmware.value if found.firmware else "uefi-x64"
        chain = CHAINS.get(firmware.removesuffix("-http"))
        if chain and found.secure_boot == "shim":
            wanted.setdefault((chain.second, chain), []).append(found)
        elif chain and found.secure_boot == "mok":
            path = stub_path(chain) if boots_by_itself(found) else chain.goes_on_to
            wanted.setdefault((path, chain), []).append(found)
    for (path, chain), founds in wanted.items():
        try:
            look = _look(where(path))
        except (OSError, MalformedError):
            continue
        problem, is_stub = "", path == stub_path(chain)
        if not look.sbat:
            problem = "does not say which versions it is made of (SBAT)"
        elif path == chain.second and (look.damaged or not look.signers):
            problem = _judged(look)
        if problem:
            names = few([found.name for found in founds], 1)
            packages = [stub_package(chain)] if is_stub else chain.packages
            remedy = f"{apt_install(packages)}; remove files/{path}; then: daskel apply"
            said = founds[0].ways["secure-boot"]
            text = f"shim on {names} refuses {path}, which {problem}"
            yield Finding(Severity.ERROR, said.origin, text, remedy)


def _refused(path: Path) -> str:
    """Why; empty when somebody signed it. That it is not an EFI program, or cannot be read, is
    said elsewhere."""
    try:
        return _judged(_look(path))
    except (OSError, MalformedError):
        return ""


def _judged(found: Found) -> str:
    if found.damaged:
        return f"is not what {found.signers[0]} signed: it is damaged"
    return "" if found.signers else "nobody signed"


def _look(path: Path) -> Found:
    from daskel.core.efi.signature import look

    with path.open("rb") as opened:
        size, descriptor = os.fstat(opened.fileno()).st_size, opened.fileno()
        return look(size, lambda at, count: os.pread(descriptor, count, at))
