"""Everything that is wrong with a site file, and with what it names on this machine and its
disk."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Collection, Iterator
from contextlib import suppress
from pathlib import Path
from urllib.parse import urlsplit

from daskel.core.audit.checks import check_site
from daskel.core.content.computed import OF_CLIENTS, OF_GROUPS
from daskel.core.content.grub import MACHINES, image_path
from daskel.core.memory_image import MEMORY_END
from daskel.core.replies.bootfile import NONE
from daskel.core.roots.kernels import (
    HEAD,
    initrd_kind,
    kernel_kind,
    kernel_processor,
    kernel_release,
    misfit,
)
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.layers import layer_tables
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.core.site.parse import place
from daskel.core.site.tables import Loadout
from daskel.system.certificate import refused_by_firmware, server_side
from daskel.system.host.confined_open import FilesFolder, why_not
from daskel.system.host.interfaces import addresses
from daskel.system.host.privileges import account_of
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.own_kernels import releases
from daskel.system.roots.roots import RootFolder
from daskel.system.signatures import check_signatures
from daskel.system.signing import load_signer
from daskel.system.sitefile import Instead, SiteFile, load

_WITH_RELEASE = 64 << 10  # bytes of an x86 kernel that say which it is


def load_checked(
    path: Path,
    instead: Instead | None = None,
    only: Collection[str] | None = None,
    *,
    roots: bool = True,
    own: str | None = None,
) -> SiteFile:
    """Read a site file and find everything that is wrong with it and with what it names.

    `only` looks closely at some clients alone: what an edit of theirs can have broken. Without
    `roots`, the folders of the roots are left alone: a running server cannot see them. `own`: see
    `load`.
    """
    file = load(path, instead, own)
    if file.site is not None:
        names = None if only is None else [name for name in only if name in file.site.clients]
        file.findings += check_site(file.site, names)
        file.findings += _on_disk(file, file.site)
        file.findings += _certificate(file, file.site)
        file.findings += _key(file, file.site)
        file.findings += _keys_for_all(file, file.site)
        file.findings += check_signatures(file.site, file.boot_file)
        file.findings += _root_folders(file, file.site) if roots else ()
        file.findings += _here(file, file.site)
        file.findings.sort(key=place)
    return file


def _on_disk(file: SiteFile, site: Site) -> Iterator[Finding]:
    files = file.files
    if not files.is_dir():
        problem, remedy = f"the folder {files} is missing", "create it, and put boot files into it"
        yield Finding(Severity.ERROR, site.origin("site", "files"), problem, remedy)
    else:
        yield from _boot_files(file, site, FilesFolder(files))


def _certificate(file: SiteFile, site: Site) -> Iterator[Finding]:
    try:
        if not file.certificate:
            return
        server_side(*file.certificate)
    except MissingRequirementError as error:
        origin = site.origin("site", "https")  # the key may be for the server's account alone
        yield Finding(Severity.WARNING, origin, error.problem, error.remedy)
        return
    with suppress(OSError, ValueError):
        for why, remedy in refused_by_firmware(file.certificate[0], _https_hosts(site)):
            problem = f"firmware refuses the certificate {file.certificate[0]}: {why}"
            yield Finding(Severity.WARNING, site.origin("site", "https"), problem, remedy)


def _key(file: SiteFile, site: Site) -> Iterator[Finding]:
    """The site's own key, as far as this user may read it."""
    if not file.signing:
        return
    certificate, key = file.signing
    origin = site.origin("site", "signing")
    try:
        if _is_mine(key):
            load_signer(certificate, key)
            if key.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO):
                problem = f"other users can read {key}: what they sign, machines start"
                yield Finding(Severity.WARNING, origin, problem, f"chmod 600 {key}")
    except MissingRequirementError as error:
        yield Finding(Severity.ERROR, origin, error.problem, error.remedy)


def _keys_for_all(file: SiteFile, site: Site) -> Iterator[Finding]:
    """Keys that lie where machines fetch files."""
    files = file.files.resolve()
    for name, pair in (("signing", file.signing), ("https", file.certificate)):
        if pair and files in pair[1].resolve().parents:
            problem = f"the key {pair[1]} lies below {file.files}: every machine can fetch it"
            remedy = "move it away, and make another one: it may be known"
            yield Finding(Severity.ERROR, site.origin("site", name), problem, remedy)


def _is_mine(key: Path) -> bool:
    """Whether this user may read it, or it is not there at all."""
    try:
        key.open("rb").close()
    except PermissionError:
        return False
    except OSError:
        return True
    return True


def _https_hosts(site: Site) -> set[str]:
    """That boot files are fetched from; without any, the server's addresses."""
    files = [file for _, table in layer_tables(site) for file in table.boot_file.values()]
    named = {urlsplit(file).hostname or "" for file in files if file.startswith("https://")}
    return named - {""} or {str(segment.server) for segment in site.served.values()}


def _root_folders(file: SiteFile, site: Site) -> Iterator[Finding]:
    try:
        yield from _each_root(file, site)
    except PermissionError as error:
        problem = f"{error.filename} is not this user's to read: roots are not looked at"
        yield Finding(Severity.NOTE, site.origin("site", "roots"), problem, "run this as root")
    if site.roots and _others_reach(file.roots):
        problem = f"every user of this server can enter {file.roots}"
        problem += ": set-user-id programs and keys of the roots are theirs"
        remedy = f"chmod 700 {file.roots}"
        yield Finding(Severity.WARNING, site.origin("site", "roots"), problem, remedy)


def _others_reach(folder: Path) -> bool:
    """Whether other users may enter a folder of root's, and all above it."""
    try:
        above = [path.stat() for path in (folder, *folder.absolute().parents)]
    except OSError:
        return False
    return above[0].st_uid == 0 and all(status.st_mode & stat.S_IXOTH for status in above)


def _each_root(file: SiteFile, site: Site) -> Iterator[Finding]:
    for name in site.roots:
        root = RootFolder(file.roots, site.root_path(name))
        try:
            used = root.state().used
        except MissingRequirementError as error:
            origin = site.origin("root", name)
            yield Finding(Severity.ERROR, origin, error.problem, error.remedy)
            continue
        folder = root.version(used)
        if not folder.is_dir():
            problem = f"root {name}: the folder {folder} is missing"
            remedy = f"bring one in: daskel root import {name} SOURCE"
            if used:
                remedy = f"choose another version: daskel root use {name} N"
            yield Finding(Severity.ERROR, site.origin("root", name, "path"), problem, remedy)
            continue
        yield from _kernels_that_differ(file, site, name, folder)


def _kernels_that_differ(file: SiteFile, site: Site, root: str, tree: Path) -> Iterator[Finding]:
    """Kernels that loadouts name although their root has modules of others alone."""
    modules = releases(tree)
    for name, loadout in site.loadouts.items():
        if loadout.root != root or not loadout.kernel or of_path(site, loadout.kernel):
            continue
        with suppress(OSError), (file.files / loadout.kernel).open("rb") as kernel:
            release = kernel_release(kernel.read(_WITH_RELEASE))
            if release and modules and release not in modules:
                problem = f"the kernel {loadout.kernel} is {release}; the root {root} has modules "
                problem += f"of: {', '.join(modules)}"
                remedy = "leave out kernel and initrd: the root's own are used then"
                origin = site.origin("loadout", name, "kernel")
                yield Finding(Severity.WARNING, origin, problem, remedy)


def _raw_images(site: Site, name: str, loadout: Loadout, folder: FilesFolder) -> Iterator[Finding]:
    """Images for machines that ask in raw Ethernet frames: no more is known than that they are
    there."""
    named: list[tuple[tuple[str, ...], str, int]] = []
    named += [(("raw",), loadout.raw, loadout.load)] if loadout.raw else []
    named += [(("names", n), path, loadout.load) for n, path in loadout.names.items()]
    named += [(("parts", path), path, at) for path, at in loadout.parts.items()]
    taken: dict[str, range] = {}  # of the machine's memory
    for key, path, start in named:
        origin, problem, remedy = site.origin("loadout", name, *key), "", ""
        try:
            size = _head(folder, path)[1]
            place = range(start, start + size)
            if not size:
                problem, remedy = "is empty", "put the image there"
            elif place.stop > MEMORY_END:
                problem, remedy = f"ends behind {MEMORY_END - 1:#x}", "correct its address"
            elif key[0] != "names":
                if over := next((o for o, at in taken.items() if _overlap(place, at)), None):
                    problem, remedy = f"is loaded over {over}", "correct one of their addresses"
                taken[path] = place
        except OSError as error:
            problem = f"cannot be read: {why_not(error)}"
            remedy = _remedy(folder.folder, path, error)
        if problem:
            text = f"image {path} of loadout {name} {problem}"
            yield Finding(Severity.ERROR, origin, text, remedy)


def _overlap(one: range, other: range) -> bool:
    return one.start < other.stop and other.start < one.stop


def _boot_files(file: SiteFile, site: Site, folder: FilesFolder) -> Iterator[Finding]:
    for name, loadout in site.loadouts.items():
        yield from _raw_images(site, name, loadout, folder)
        named = [("kernel", loadout.kernel)] if loadout.kernel else []
        for key, path in [*named, *(("initrd", path) for path in loadout.initrd)]:
            origin = site.origin("loadout", name, key)
            if made := of_path(site, path):
                file.kernels |= {name: made[1].processor} if made[1].processor else {}
                continue
            try:
                head, _ = _head(folder, path or "")
                if key == "kernel" and (runs_on := kernel_processor(head)):
                    file.kernels[name] = runs_on
                what = (kernel_kind if key == "kernel" else initrd_kind)(head)
                if what is None:
                    problem = f"{key} {path} of loadout {name} does not look like a Linux {key}"
                    remedy = "check that it is the right file, and whole"
                    yield Finding(Severity.WARNING, origin, problem, remedy)
            except OSError as error:
                problem = f"{key} {path} of loadout {name}: {why_not(error)}"
                remedy = _remedy(folder.folder, path or "", error)
                yield Finding(Severity.ERROR, origin, problem, remedy)
    yield from _nobodys(site, file.files)
    yield from _written_boot_files(site, folder)
    for loader in site.settings.loaders:
        yield from _loader_image(site, folder, loader)
    folder.close()


def _nobodys(site: Site, files: Path) -> Iterator[Finding]:
    """Folders of clients and groups that are not in the site."""
    for kind, known in ((OF_CLIENTS, site.clients), (OF_GROUPS, site.groups)):
        there = sorted(path.name for path in (files / kind).glob("*") if path.is_dir())
        for name in (name for name in there if name not in known):
            problem = f"nobody gets what is in {files / kind / name}: there is no such {kind[:-1]}"
            remedy = did_you_mean(name, known)
            yield Finding(Severity.WARNING, site.origin("site", "files"), problem, remedy)


def _written_boot_files(site: Site, folder: FilesFolder) -> Iterator[Finding]:
    """What boot-file names; templates and URLs are left to the clients."""
    for where, table in layer_tables(site):
        for firmware, path in table.boot_file.items():
            if path == NONE or "{" in path or "://" in path:
                continue
            origin = site.origin(*where, "boot-file", firmware)
            try:
                head, size = _head(folder, path)
            except OSError as error:
                problem = f"boot file {path}: {why_not(error)}"
                remedy = _remedy(folder.folder, path, error)
                yield Finding(Severity.ERROR, origin, problem, remedy)
                continue
            loader = firmware.removesuffix("-http")
            wrong = misfit(head, size, MACHINES[loader]) if loader in MACHINES else None
            if wrong:
                remedy = f"name one for {firmware}"
                yield Finding(Severity.ERROR, origin, f"boot file {path} {wrong}", remedy)


def _loader_image(site: Site, folder: FilesFolder, loader: str) -> Iterator[Finding]:
    """One that is not there is no finding: `serve` builds it."""
    path = image_path(loader)
    with suppress(OSError):
        head, size = _head(folder, path)
        if problem := misfit(head, size, MACHINES[loader]):
            remedy = f"remove {path}; daskel serve builds it again"
            origin = site.origin("site", "loaders")
            yield Finding(Severity.ERROR, origin, f"boot file {path} {problem}", remedy)


def _head(folder: FilesFolder, path: str) -> tuple[bytes, int]:
    """The first bytes of a boot file, and its size."""
    descriptor, size = folder.open(path)[:2]
    with os.fdopen(descriptor, "rb") as opened:
        return opened.read(HEAD), size


def _here(file: SiteFile, site: Site) -> Iterator[Finding]:
    """What this machine's interfaces and permissions have to do with the site."""
    if file.roots.is_dir() and not os.access(file.roots, os.W_OK):
        problem, remedy = (
            f"{file.roots} cannot be written",
            "run as its owner, or mount it writable",
        )
        yield Finding(Severity.NOTE, site.origin("site", "roots"), problem, remedy)
    if site.settings.account:
        try:
            account_of(site.settings.account)
        except MissingRequirementError as error:
            origin = site.origin("site", "account")
            yield Finding(Severity.WARNING, origin, error.problem, error.remedy)
    there = os.access(file.state, os.F_OK)  # also where nothing can be seen
    state = file.state if there else file.state.parent
    if os.access(state, os.F_OK) and not os.access(state, os.W_OK):
        problem, remedy = f"{state} cannot be written", "run as its owner, or change state = ..."
        yield Finding(Severity.WARNING, site.origin("site", "state"), problem, remedy)
    named = {name: segment for name, segment in site.served.items() if segment.interface}
    own = addresses() if named else {}
    for name, segment in named.items():
        place = site.origin("segment", name, "interface")
        interface = segment.interface or ""
        if interface not in own:
            problem = f"this machine has no interface {interface}"
            yield Finding(Severity.WARNING, place, problem, did_you_mean(interface, own))
        elif segment.server not in own[interface]:
            problem = f"interface {interface} does not have the address {segment.server}"
            remedy = f"ip address add {segment.server}/{segment.network.prefixlen} dev {interface}"
            yield Finding(Severity.WARNING, place, problem, remedy)
        elif not own[interface][segment.server]:
            problem = f"interface {interface} has its address {segment.server} from DHCP"
            remedy = "give the server a fixed one; clients keep asking for it where it was"
            yield Finding(Severity.WARNING, place, problem, remedy)
        for other, its in own.items():
            if other != interface and any(address in segment.network for address in its):
                problem = f"interface {other} has an address in segment {name}'s network, too"
                remedy = "give the clients a network of their own"
                yield Finding(Severity.WARNING, place, problem, remedy)


def _remedy(folder: Path, path: str, error: OSError) -> str:
    """What to do about a file that cannot be opened."""
    if error.errno == errno.EXDEV:
        return f"name a file below {folder}"
    return _nearest(folder, path)


def _nearest(folder: Path, path: str) -> str:
    there = [str(p.relative_to(folder)) for p in sorted(folder.rglob("*"))[:2000] if p.is_file()]
    near = did_you_mean(path, there)
    return near if near.startswith("did") else f"put it at {folder / path}"
