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
    image_path,
    loader_name,
    wants_loader,
)
from daskel.core.content.signed_chain import CHAINS, Chain
from daskel.core.content.unified_images import (
    OWN_KEY,
    boots_by_itself,
    image_of,
    shim_before,
    stub_package,
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
_SOLD_WITH_IT = "uefi-x64"  # whose machines are sold with Secure Boot on
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
    if not wanted:
        return BootFile()
    chain = CHAINS.get(loader_name(boot.firmware)) if boot.firmware else None
    if chain and boots_by_itself(found) and not waiting:
        return _unified(site, ports, found, segment, boot, chain)
    return _built_in(site, ports, found, segment, boot, waiting)


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


def _built_in(
    site: Site, ports: Ports, found: Effective, segment: str, boot: BootRequest, waiting: bool
) -> BootFile:
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
    chain, said = CHAINS.get(loader), found.secure_boot
    if chain and said in OWN_KEY:
        path = boot_file(firmware, site.segments[segment], ports)
        return _signed_here(site, found, boot, chain, path, waiting)
    beside = site.segments[segment].dhcp == "proxy"  # whose next server nobody knows here
    if chain is None or said == "off" or (said == "auto" and beside):
        return BootFile(boot_file(firmware, site.segments[segment], ports))
    if firmware.over_http:
        if said == "shim":
            problem = "the chain for Secure Boot gets no address over UEFI HTTP boot"
            return BootFile(problem=problem, remedy="let its firmware boot by PXE")
    elif loader in site.signed:
        return BootFile(chain.first)
    elif said == "shim":
        return _no_chain(chain)
    return BootFile(boot_file(firmware, site.segments[segment], ports))


def _no_chain(chain: Chain) -> BootFile:
    problem = "the chain for Secure Boot is not here"
    remedy = f"{apt_install(chain.packages)}; then: daskel apply"
    return BootFile(problem=problem, remedy=remedy)


def _signed_here(
    site: Site, found: Effective, boot: BootRequest, chain: Chain, own: str, waiting: bool
) -> BootFile:
    """Daskel's own boot loader, with the path or URL `own`, for machines that trust the site's
    key."""
    if found.secure_boot == "db" and waiting:
        return BootFile(own)  # it shows that the machine waits
    if found.secure_boot == "db":
        problem = "a boot loader that the firmware itself trusts loads no kernel"
        remedy = 'write loader = "none"'
        if found.choice:
            problem += ", and a menu is the boot loader's"
            remedy = "give it one loadout"
        remedy += ', or enrol the key for shim and write secure-boot = "mok"'
        return BootFile(problem=problem, remedy=remedy)
    if chain.loader not in site.signed:
        return _no_chain(chain)
    if boot.over_http:
        problem = "shim's second stage gets no address over UEFI HTTP boot"
        return BootFile(problem=problem, remedy="let its firmware boot by PXE")
    return BootFile(shim_before(chain, None))


def _unified(
    site: Site, ports: Ports, found: Effective, segment: str, boot: BootRequest, chain: Chain
) -> BootFile:
    """The image that firmware starts without a boot loader."""
    if chain.loader not in site.stubs:
        problem = "what makes one image of kernel and initrd (a stub) is not here"
        remedy = f"{apt_install([stub_package(chain)])}; then: daskel apply"
        return BootFile(problem=problem, remedy=remedy)
    if found.secure_boot == "shim":
        problem = "shim starts an image only where the site's key was enrolled for it"
        remedy = 'enrol it (daskel keys enrol) and write secure-boot = "mok", or loader = "grub"'
        return BootFile(problem=problem, remedy=remedy)
    path = image_of(chain, found.mac.value)
    if found.secure_boot == "mok":
        if chain.loader not in site.signed:
            return _no_chain(chain)
        path = shim_before(chain, found.mac.value)
    return BootFile(
        f"{http_base(site.segments[segment], ports)}/{path}" if boot.over_http else path
    )


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
    by MAC address), gets no boot file, or one that Secure Boot refuses; and those of which the two
    differ."""
    without: dict[tuple[str, str], list[str]] = {}
    unsigned: dict[str, list[str]] = {}  # by the chain that is not here
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
        if boot and (missing := _missing_chain(site, found, boot, file)):
            unsigned.setdefault(missing, []).append(name)
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
    for loader, names in unsigned.items():
        problem = f"{few(names, 1)}: where Secure Boot is on, it refuses Daskel's boot loader"
        remedy = f"{apt_install(CHAINS[loader].packages)}; then: daskel apply; or write "
        remedy += 'secure-boot = "off" for machines that have it off'
        yield Finding(Severity.NOTE, site.origin("client", names[0]), problem, remedy)


def _missing_chain(site: Site, found: Effective, boot: BootRequest, file: BootFile) -> str | None:
    """The boot loader that a machine gets since its chain for Secure Boot is not here."""
    loader = loader_name(boot.firmware) if boot.firmware else ""
    if loader != _SOLD_WITH_IT or loader in site.signed or found.secure_boot != "auto":
        return None
    beside = found.segment and site.segments[found.segment.value].dhcp == "proxy"
    return loader if file.path == image_path(loader) and not beside else None


def _check_key(site: Site) -> Iterator[Finding]:
    """Layers that say that machines trust the site's key, where it has none."""
    if site.settings.signing is not None:
        return
    for place, table in layer_tables(site):
        if table.secure_boot in OWN_KEY:
            problem = f'secure-boot = "{table.secure_boot}", and the site has no key to sign with'
            origin = site.positions.of((*place, "secure-boot"))
            yield Finding(Severity.ERROR, origin, problem, "make one: daskel keys make")


def _check_chain(site: Site) -> Iterator[Finding]:
    """The chain for Secure Boot beside another DHCP server."""
    if all(table.secure_boot != "shim" for _, table in layer_tables(site)):
        return
    beside = {name for name, segment in site.served.items() if segment.dhcp == "proxy"}
    whole = (effective(site, name) for name in site.clients)
    found = [
        one for one in whole
        if one.secure_boot == "shim" and one.segment and one.segment.value in beside
    ]  # fmt: skip
    if found:
        names = few([one.name for one in found], 1)
        problem = f"{names}: the signed GRUB takes its server from the other DHCP server alone"
        remedy = "let that one send the next server: daskel handoff"
        yield Finding(Severity.NOTE, found[0].ways["secure-boot"].origin, problem, remedy)


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
    yield from _check_chain(site)
    yield from _check_key(site)
    kinds = [*site.firmware, *architectures, "default"]
    for place, table in layer_tables(site):
        for kind_name in table.boot_file:
            if kind_name not in kinds:
                origin = site.positions.of((*place, "boot-file", kind_name), key=True)
                problem = f"there is no firmware {kind_name!r}"
                remedy = f"{did_you_mean(kind_name, kinds)} or add [firmware.{kind_name}]"
                yield Finding(Severity.ERROR, origin, problem, remedy)
