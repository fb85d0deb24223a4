"""Which boot file a machine gets: the one that the site file names for such machines, else
Daskel's own boot loader for its firmware."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fnmatch import fnmatchcase

from daskel.core.boot.arguments import variables
from daskel.core.boot.identity import waits
from daskel.core.boot.template import FillError, render
from daskel.core.boot.wire import Ports
from daskel.core.content.grub import boot_file, http_base, loader_name, wants_loader
from daskel.core.dhcp.pxe import ARCHITECTURES, BootRequest, architecture_name
from daskel.core.history.events import Who
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.layers import Effective, Sourced, layer_tables
from daskel.core.site.model import FirmwareKind, Site
from daskel.core.site.positions import Origin

NONE = "none"  # what a site file writes for machines that get no boot file


@dataclass(frozen=True, slots=True)
class BootFile:
    """A path for TFTP or a URL, and the line that names it; `problem` says why there is none,
    where that is not meant."""

    path: str | None = None
    origin: Origin | None = None
    problem: str = ""


def choose_boot_file(
    site: Site, ports: Ports, who: Who, found: Effective, segment: str, boot: BootRequest | None
) -> BootFile:
    """The boot file for a machine on `segment` whose firmware asked with `boot`."""
    if boot is None or (found.loadout is not None and not wants_loader(found)):
        return BootFile()
    waiting = waits(site, who, segment)
    wanted = wants_loader(found) or waiting
    written = None if waiting else written_for(site, found, boot)
    if written is not None and (wanted or who.name is not None):
        return _written(site, ports, found, segment, boot, written)
    return _built_in(site, ports, segment, boot) if wanted else BootFile()


def _written(
    site: Site, ports: Ports, found: Effective, segment: str, boot: BootRequest,
    written: Sourced[str],
) -> BootFile:  # fmt: skip
    here = site.segments[segment]
    try:
        path = render(written.value, variables(site, found, None))
    except FillError as error:
        return BootFile(None, written.origin, f"{error} ({written.origin})")
    if path == NONE:
        return BootFile(None, written.origin)
    if boot.over_http and "://" not in path:
        path = f"{http_base(here, ports)}/{path}"
    return BootFile(path, written.origin)


def _built_in(site: Site, ports: Ports, segment: str, boot: BootRequest) -> BootFile:
    firmware = boot.firmware
    if firmware is None:
        problem = f"there is no boot loader for its firmware ({boot.described})"
        return BootFile(problem=f"{problem}; name one with boot-file = ...")
    name = loader_name(firmware)
    if name not in site.settings.loaders:
        problem = f'its firmware needs the boot loader "{name}": add it to loaders in [site]'
        return BootFile(problem=problem)
    return BootFile(boot_file(firmware, site.segments[segment], ports))


def written_for(site: Site, found: Effective, boot: BootRequest) -> Sourced[str] | None:
    """What the strongest layer that says something for this firmware says."""
    kinds = list(kinds_of(site, boot))
    for layer in found.boot_files:
        for kind in kinds:
            if kind in layer:
                return layer[kind]
    return None


def kinds_of(site: Site, boot: BootRequest) -> Iterator[str]:
    """The names that fit a machine's firmware, from the most particular to `default`."""
    yield from (name for name, kind in site.firmware.items() if _fits(kind, boot))
    yield architecture_name(boot.architecture)
    yield "default"


def _fits(kind: FirmwareKind, boot: BootRequest) -> bool:
    numbers = {boot.architecture, architecture_name(boot.architecture)}
    if kind.architecture and not numbers & set(kind.architecture):
        return False
    vendor_class = boot.vendor_class.decode("latin-1")
    if kind.vendor_class is not None and not fnmatchcase(vendor_class, kind.vendor_class):
        return False
    wanted = kind.user_class
    return wanted is None or any(fnmatchcase(name, wanted) for name in boot.user_classes)


def check_boot_files(site: Site) -> Iterator[Finding]:
    """Kinds of firmware that a boot file is for, and what they are known by."""
    architectures = {architecture_name(number) for number in ARCHITECTURES}
    for name, kind in site.firmware.items():
        if not (kind.architecture or kind.vendor_class or kind.user_class):
            problem = f"firmware {name} says nothing that a machine could be known by"
            remedy = "write architecture, vendor-class or user-class"
            yield Finding(Severity.ERROR, site.origin("firmware", name), problem, remedy)
        for index, known in enumerate(kind.architecture):
            if isinstance(known, str) and known not in architectures:
                problem = f"there is no architecture {known!r}"
                remedy = did_you_mean(known, architectures)
                origin = site.origin("firmware", name, "architecture", index)
                yield Finding(Severity.ERROR, origin, problem, remedy)
    kinds = [*site.firmware, *architectures, "default"]
    for place, table in layer_tables(site):
        for kind_name in table.boot_file:
            if kind_name not in kinds:
                origin = site.positions.of((*place, "boot-file", kind_name), key=True)
                problem = f"there is no firmware {kind_name!r}"
                remedy = f"{did_you_mean(kind_name, kinds)} or add [firmware.{kind_name}]"
                yield Finding(Severity.ERROR, origin, problem, remedy)
