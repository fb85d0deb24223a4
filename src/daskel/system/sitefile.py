"""The site file on disk: read, checked, and the folders that it names."""

from __future__ import annotations

import os
import stat
import tempfile
from collections.abc import Collection, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from daskel.core.boot.answer import check_sizes
from daskel.core.boot.arguments import check_arguments
from daskel.core.boot.bootfile import NONE, check_boot_files
from daskel.core.boot.files import OF_CLIENTS, OF_GROUPS, check_files
from daskel.core.boot.loader import MACHINES, image_path
from daskel.core.boot.options import check_options
from daskel.core.boot.uploads import check_uploads
from daskel.core.boot.views import check_own
from daskel.core.boot.wire import Ports
from daskel.core.site.check import check
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.images import HEAD, initrd_kind, kernel_kind, kernel_processor, misfit
from daskel.core.site.included import Text, includes, template_files
from daskel.core.site.layers import layer_tables
from daskel.core.site.model import Site
from daskel.core.site.parse import parse, place
from daskel.core.site.positions import Origin
from daskel.system.beneath import FilesFolder
from daskel.system.certificate import server_side
from daskel.system.interfaces import addresses
from daskel.system.lacking import LackingError
from daskel.system.privileges import account_of
from daskel.system.roots import RootFolder


@dataclass
class SiteFile:
    """A site file that was read; `site` is None when it is not even TOML."""

    path: Path
    site: Site | None
    findings: list[Finding] = field(default_factory=list)
    texts: dict[Path, str] = field(default_factory=dict)  # of the TOML files, the main one first
    kernels: dict[str, str] = field(default_factory=dict)  # loadout to processor, when checked

    @property
    def invalid(self) -> bool:
        return any(f.severity is Severity.INVALID for f in self.findings)

    @property
    def usable(self) -> bool:
        bad = (Severity.INVALID, Severity.ERROR)
        return self.site is not None and all(f.severity not in bad for f in self.findings)

    def folder(self, setting: str) -> Path:
        """A folder or file that the site names, relative to the site file."""
        return (self.path.parent / setting).absolute()

    @property
    def files(self) -> Path:
        assert self.site
        return self.folder(self.site.settings.files)

    @property
    def roots(self) -> Path:
        assert self.site
        return self.folder(self.site.settings.roots)

    @property
    def slates(self) -> Path:
        assert self.site
        return self.folder(self.site.settings.slates)

    @property
    def uploads(self) -> Path:
        assert self.site
        return self.folder(self.site.settings.uploads)

    @property
    def certificate(self) -> tuple[Path, Path] | None:
        """And its key."""
        assert self.site
        https = self.site.settings.https
        return (self.folder(https.certificate), self.folder(https.key)) if https else None

    @property
    def state(self) -> Path:
        assert self.site
        return self.folder(self.site.settings.state)


Instead = Mapping[Path, str]  # texts that are not written yet, by their file


def load(path: Path, instead: Instead | None = None) -> SiteFile:
    """Read a site file, without the checks that go beyond it. Raises LackingError."""
    changed = instead or {}
    try:
        text = changed.get(path) or path.read_bytes().decode().replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        line = path.read_bytes()[: error.start].count(b"\n") + 1
        origin = Origin(str(path), line, 1)
        finding = Finding(Severity.INVALID, origin, "not UTF-8 text", "save the file as UTF-8")
        return SiteFile(path, None, [finding])
    except OSError as error:
        remedy = "name the site file with --site FILE, or go to its folder"
        raise LackingError(f"cannot read {path} ({error.strerror})", remedy) from None
    more, missing = _included(path, text, changed)
    tables = [(text, str(path)), *((other.text, other.file) for other in more if not other.csv)]
    names = {name for one, file in tables for name in template_files(one, file)}
    templates = {name: found for name in names if (found := _read(path.parent / name)) is not None}
    parsed = parse(text, str(path), more, templates)
    texts = {path: text} | {Path(other.file): other.text for other in more if not other.csv}
    return SiteFile(path, parsed.site, sorted(parsed.findings + missing, key=place), texts)


def _included(path: Path, text: str, changed: Instead) -> tuple[list[Text], list[Finding]]:
    """The files that a site file includes, and what is wrong with their names."""
    patterns, tables = includes(text, str(path))
    texts, missing = [], []
    for pattern, csv in [*((p, False) for p in patterns), *((t, True) for t in tables)]:
        found = [p for p in sorted(path.parent.glob(pattern)) if p != path]
        contents = ((p, changed.get(p) or _read(p)) for p in found)
        read = [(p, content) for p, content in contents if content is not None]
        texts += [Text(str(p), content, csv) for p, content in read]
        if not read and (csv or "*" not in pattern):
            line = next((n for n, t in enumerate(text.splitlines(), 1) if pattern in t), 1)
            origin = Origin(str(path), line, 1, pattern)
            problem, remedy = f"{pattern} cannot be read", "its path is relative to the site file"
            missing.append(Finding(Severity.INVALID, origin, problem, remedy))
    return texts, missing


def _read(path: Path) -> str | None:
    try:
        return path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except (OSError, UnicodeDecodeError):
        return None


def write_atomically(path: Path, text: str) -> None:
    """Replace a file as a whole, with its owner and permissions. Raises LackingError."""
    try:
        status = path.stat()
        with tempfile.NamedTemporaryFile(
            "w", dir=path.parent, prefix=".daskel-", delete=False
        ) as new:
            new.write(text)
            new.flush()
            os.fchmod(new.fileno(), stat.S_IMODE(status.st_mode))
            with suppress(PermissionError):
                os.fchown(new.fileno(), status.st_uid, status.st_gid)
            os.fsync(new.fileno())
        Path(new.name).replace(path)
    except OSError as error:
        remedy = "check its permissions and the space on its disk; nothing was changed"
        raise LackingError(f"cannot write {path} ({error.strerror})", remedy) from None


def load_checked(
    path: Path,
    instead: Instead | None = None,
    only: Collection[str] | None = None,
    *,
    roots: bool = True,
) -> SiteFile:
    """Read a site file and find everything that is wrong with it and with what it names.

    `only` looks closely at some clients alone: what an edit of theirs can have broken. Without
    `roots`, the folders of the roots are left alone: a running server cannot see them.
    """
    file = load(path, instead)
    if file.site is not None:
        names = None if only is None else [name for name in only if name in file.site.clients]
        file.findings += check(file.site, names)
        file.findings += check_options(file.site)
        file.findings += check_boot_files(file.site)
        file.findings += check_arguments(file.site, Ports(), names)
        file.findings += check_files(file.site, Ports(), names)
        file.findings += check_uploads(file.site)
        file.findings += check_own(file.site, names)
        file.findings += check_sizes(file.site, Ports())
        file.findings += _on_disk(file, file.site)
        file.findings += _certificate(file, file.site)
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
        if file.certificate:
            server_side(*file.certificate)
    except LackingError as error:
        origin = site.origin("site", "https")  # the key may be for the server's account alone
        yield Finding(Severity.WARNING, origin, error.problem, error.remedy)


def _root_folders(file: SiteFile, site: Site) -> Iterator[Finding]:
    for name in site.roots:
        root = RootFolder(file.roots, site.root_path(name))
        used = root.state().used
        folder = root.version(used)
        if not folder.is_dir():
            problem = f"root {name}: the folder {folder} is missing"
            remedy = f"bring one in: daskel root import {name} SOURCE"
            if used:
                remedy = f"choose another version: daskel root use {name} N"
            yield Finding(Severity.ERROR, site.origin("root", name, "path"), problem, remedy)


def _boot_files(file: SiteFile, site: Site, folder: FilesFolder) -> Iterator[Finding]:
    for name, loadout in site.loadouts.items():
        named = [("kernel", loadout.kernel)] if loadout.kernel else []
        for key, path in [*named, *(("initrd", path) for path in loadout.initrd)]:
            origin = site.origin("loadout", name, key)
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
                problem = f"{key} {path} of loadout {name}: {(error.strerror or '').lower()}"
                remedy = _nearest(folder.folder, path or "")
                yield Finding(Severity.ERROR, origin, problem, remedy)
    yield from _nobodys(site, file.files)
    yield from _written_boot_files(site, folder)
    for loader in site.settings.loaders:
        yield from _loader_image(site, folder, loader)
    folder.close()


def _nobodys(site: Site, files: Path) -> Iterator[Finding]:
    """Folders of clients and groups that the site has not."""
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
                problem = f"boot file {path}: {(error.strerror or '').lower()}"
                yield Finding(Severity.ERROR, origin, problem, _nearest(folder.folder, path))
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
        except LackingError as error:
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


def _nearest(folder: Path, path: str) -> str:
    there = [str(p.relative_to(folder)) for p in sorted(folder.rglob("*"))[:2000] if p.is_file()]
    near = did_you_mean(path, there)
    return near if near.startswith("did") else f"put it at {folder / path}"
