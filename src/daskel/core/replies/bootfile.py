"""Which boot file a machine gets: the one that the site file names for such machines, else
Daskel's own boot loader for its firmware."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase

from daskel.core.boot.arguments import variables
from daskel.core.boot.firmware import written
from daskel.core.boot.identity import waits
from daskel.core.boot.template import FillError, render
from daskel.core.boot.wire import Ports
from daskel.core.content.grub import (
    SOURCES,
    apt_install,
    boot_file,
    http_base,
    loader_name,
    wants_loader,
)
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.pxe import (
    ARCHITECTURES,
    NOT_TOLD,
    SCRIPT,
    BootRequest,
    Firmware,
    architecture_name,
    boot_request,
)
from daskel.core.history.events import Who
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.layers import Effective, Sourced, effective, layer_tables
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin
from daskel.core.site.tables import FirmwareKind
from daskel.core.values import few

_USUAL = ("bios", "uefi-x64")
NONE = "none"  # what a site file writes for machines that get no boot file


@dataclass(frozen=True, slots=True)
class BootFile:
    """A path for TFTP or a URL, and the line that names it; `problem` says why there is none,
    where that is not meant, and `remedy` what to do, where that is known."""

    path: str | None = None
    origin: Origin | None = None
    problem: str = ""
    remedy: str = ""

    @property
    def said(self) -> str:
        """Problem and remedy in one sentence."""
        return f"{self.problem}: {self.remedy}" if self.remedy else self.problem


def choose_boot_file(
    site: Site, ports: Ports, who: Who, found: Effective, segment: str, boot: BootRequest | None
) -> BootFile:
    """The boot file for a machine on `segment` whose firmware asked with `boot`."""
    if boot is None or (found.loadout is not None and not wants_loader(found)):
        return BootFile()
    waiting = waits(site, who, segment)
    wanted = wants_loader(found) or waiting
    named = None if waiting else written_for(site, found, boot)
    if named is not None and (wanted or who.name is not None):
        return _written(site, ports, found, segment, boot, named)
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
        return BootFile(problem=problem, remedy="name one with boot-file = ...")
    if firmware is Firmware.UBOOT:
        return BootFile(SCRIPT)
    loader = loader_name(firmware)
    if remedy := missing_loader(site, loader):
        problem = f'its firmware ({boot.described}) needs the boot loader "{loader}"'
        return BootFile(problem=problem, remedy=remedy)
    return BootFile(boot_file(firmware, site.segments[segment], ports))


def missing_loader(site: Site, loader: str) -> str:
    """What to do to have a boot loader; empty when it is there, or can be built."""
    if loader not in site.settings.loaders:
        return "add it to loaders in [site]"
    if loader not in site.unbuilt:
        return ""
    return f"{apt_install(['grub-common', SOURCES[loader].debian])}; then: daskel apply"


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
    if boot.script:
        yield Firmware.UBOOT.value
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


def check_firmware(site: Site, seen: Mapping[str, int]) -> Iterator[Finding]:
    """Clients whose firmware, as the site file says or as it was `seen` last (architecture types
    by MAC address), gets no boot file; and those of which the two differ."""
    without: dict[tuple[str, str], list[str]] = {}
    others: dict[tuple[Origin, str], list[str]] = {}
    for name in site.clients:
        found = effective(site, name)
        if found.segment is None or found.segment.value not in site.segments:
            continue
        last = seen.get(found.mac.value)
        said = written(site, name)
        if found.firmware and said is not None and last is not None:
            wrote, was = architecture_name(said), architecture_name(last)
            if wrote != was and Firmware.UBOOT.value not in (wrote, was):
                said_so = f"last seen as {was}, and the site file says {wrote}"
                others.setdefault((found.firmware.origin, said_so), []).append(name)
        number = said if said is not None else last
        if number is None:
            continue
        boot = boot_request(discover(Face.of_architecture(number), found.mac.value, 1))
        who = Who(name, found.mac.value)
        file = choose_boot_file(site, Ports(), who, found, found.segment.value, boot)
        if file.problem and file.origin is None:
            without.setdefault((file.problem, file.remedy), []).append(name)
    for (origin, said_so), names in others.items():
        problem = f"{few(names, 1)} {'was' if len(names) == 1 else 'were'} {said_so}"
        remedy = "correct it, or remove it: what was seen last counts then"
        yield Finding(Severity.NOTE, origin, problem, remedy)
    for (problem, remedy), names in without.items():
        first = site.origin("client", names[0])
        told = f"{few(names, 1)} would get no boot file: {problem}"
        yield Finding(Severity.WARNING, first, told, remedy)


def missing_loaders(site: Site) -> Iterator[tuple[str, str]]:
    """Boot loaders that most rooms need, or that the site file names, and that are neither here nor
    can be built; and what to do."""
    named = "loaders" in site.settings.model_fields_set
    for loader in site.settings.loaders if named else _USUAL:
        if loader in site.unbuilt:
            yield loader, missing_loader(site, loader)


def check_boot_files(site: Site) -> Iterator[Finding]:
    """Kinds of firmware that a boot file is for, and what they are known by."""
    for loader, remedy in missing_loaders(site):
        problem = f'the boot loader "{loader}" is not there, and cannot be built'
        origin = site.origin("site", "loaders")
        yield Finding(Severity.WARNING, origin, problem, remedy)
    architectures = {architecture_name(number) for number in (NOT_TOLD, *ARCHITECTURES)}
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
    for where in ("group", "client"):
        for owner, given in site.tables()[where].items():
            said = getattr(given, "firmware", None)
            if said is not None and said not in architectures:
                problem = f"there is no firmware {said!r}"
                origin = site.origin(where, owner, "firmware")
                remedy = did_you_mean(said, architectures)
                yield Finding(Severity.ERROR, origin, problem, remedy)
    kinds = [*site.firmware, *architectures, "default"]
    for place, table in layer_tables(site):
        for kind_name in table.boot_file:
            if kind_name not in kinds:
                origin = site.positions.of((*place, "boot-file", kind_name), key=True)
                problem = f"there is no firmware {kind_name!r}"
                remedy = f"{did_you_mean(kind_name, kinds)} or add [firmware.{kind_name}]"
                yield Finding(Severity.ERROR, origin, problem, remedy)
