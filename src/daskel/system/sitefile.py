"""The site file on disk: read, checked, and the folders that it names."""

from __future__ import annotations

import glob
import hashlib
import os
import re
import stat
import tempfile
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.includes import Text, includes, template_files
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path, with_published
from daskel.core.site.parse import parse, place
from daskel.core.site.positions import Origin
from daskel.core.site.several import chosen, seen_by
from daskel.system.bootloader import signed, stubs, unbuilt
from daskel.system.host.interfaces import is_here
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.publishing import BLOBS, PublishedFolder, preview
from daskel.system.roots.roots import RootFolder


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
        """It cannot be understood."""
        return any(f.severity is Severity.INVALID for f in self.findings)

    @property
    def usable(self) -> bool:
        """It has neither errors nor anything that cannot be understood."""
        bad = (Severity.INVALID, Severity.ERROR)
        return self.site is not None and all(f.severity not in bad for f in self.findings)

    @property
    def valid(self) -> Site:
        """The site of a file that was found to be usable."""
        assert self.site is not None, "only of a file that is usable"
        return self.site

    def folder(self, setting: str) -> Path:
        """A folder or file that the site names, relative to the site file."""
        return (self.path.parent / setting).absolute()

    @property
    def files(self) -> Path:
        """The folder of the boot files."""
        assert self.site
        return self.folder(self.site.settings.files)

    def boot_file(self, path: str) -> Path:
        """Where a file lies that a loadout names: below `files`, or published of a root."""
        made = of_path(self.valid, path)
        if made is None:
            return self.files / path
        return self.published.folder / BLOBS / made[1].files[made[2]].digest

    @property
    def roots(self) -> Path:
        """The folder of all roots."""
        assert self.site
        return self.folder(self.site.settings.roots)

    @property
    def slates(self) -> Path:
        """The folder of all slates."""
        assert self.site
        return self.folder(self.site.settings.slates)

    @property
    def published(self) -> PublishedFolder:
        """What roots boot with, beside the boot files."""
        files = self.files
        return PublishedFolder(files.with_name(f"{files.name}.published"))

    @property
    def uploads(self) -> Path:
        """The folder of what clients deliver."""
        assert self.site
        return self.folder(self.site.settings.uploads)

    @property
    def certificate(self) -> tuple[Path, Path] | None:
        """And its key."""
        assert self.site
        https = self.site.settings.https
        return (self.folder(https.certificate), self.folder(https.key)) if https else None

    @property
    def signing(self) -> tuple[Path, Path] | None:
        """The certificate of the site's own key, and the key."""
        assert self.site
        own = self.site.settings.signing
        return (self.folder(own.certificate), self.folder(own.key)) if own else None

    @property
    def secret(self) -> Path | None:
        """The key of the tunnel."""
        assert self.site
        rules = self.site.settings.private
        return self.folder(rules.secret) if rules else None

    @property
    def state(self) -> Path:
        """The store; where that is a database, what begins like the server's own files."""
        assert self.site
        settings = self.site.settings
        return self.folder(f"{settings.local}/state" if self.database else settings.state)

    @property
    def database(self) -> str | None:
        """The URL of the store, where it is a database."""
        assert self.site
        state = self.site.settings.state
        return state if "://" in state else None


def digests(file: SiteFile) -> dict[str, str]:
    """Of each of its texts, by its name; several servers compare them."""
    folder = file.path.absolute().parent
    found = {}
    for path, text in file.texts.items():
        whole = path.absolute()
        name = str(whole.relative_to(folder)) if whole.is_relative_to(folder) else str(whole)
        found[name] = hashlib.sha256(text.encode()).hexdigest()
    return found


Instead = Mapping[Path, str]  # texts that are not written yet, by their file


def load(path: Path, instead: Instead | None = None, own: str | None = None) -> SiteFile:
    """Read a site file, without the checks that go beyond it, as the server `own` has it, where it
    has several; without that, as the one that this machine is, else the first. Raises
    MissingRequirementError."""
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
        raise MissingRequirementError(f"cannot read {path} ({error.strerror})", remedy) from None
    more, missing = _included(path, text, changed)
    tables = [(text, str(path)), *((other.text, other.file) for other in more if not other.csv)]
    names = {name for one, file in tables for name in template_files(one, file)}
    templates = {name: found for name in names if (found := _read(path.parent / name)) is not None}
    parsed = parse(text, str(path), more, templates)
    texts = {path: text} | {Path(other.file): other.text for other in more if not other.csv}
    findings = sorted(parsed.findings + missing, key=place)
    file = SiteFile(path, parsed.site, findings, texts)
    if file.site is not None:
        files = file.files
        file.site = replace(
            file.site, unbuilt=unbuilt(files), signed=signed(files), stubs=stubs(files)
        )
        if file.site.servers:
            file.site = _seen_here(file.site, own)
        elif own is not None:
            raise MissingRequirementError(f"{path} has no [server.{own}]", "leave --as out")
        _publish(file, file.site)
    return file


def _seen_here(site: Site, own: str | None) -> Site:
    if own is not None and own not in site.servers:
        remedy = did_you_mean(own, site.servers)
        raise MissingRequirementError(f"the site has no [server.{own}]", remedy)
    return seen_by(site, own or this_machine(site) or next(iter(site.servers)))


def this_machine(site: Site) -> str | None:
    """The server whose addresses this machine has."""
    named = {a for server in site.servers.values() for a in server.addresses.values()}
    return chosen(site, {address for address in named if is_here(address)})


def _publish(file: SiteFile, site: Site) -> None:
    """The kernels of roots go into their loadouts; where nothing is published yet, as they will
    be."""
    try:
        found = dict(file.published.read())
    except MissingRequirementError as error:
        origin = site.origin("site", "files")
        file.findings.append(Finding(Severity.ERROR, origin, error.problem, error.remedy))
        found = {}
    file.site = with_published(site, found)
    boots_own = {file.site.loadouts[name].root or "" for name in file.site.own_kernels}
    missing = {name for name in boots_own if name not in found or not found[name].used}
    if missing:
        more = {n: preview(RootFolder(file.roots, site.root_path(n))) for n in sorted(missing)}
        file.site = with_published(site, found | {n: seen for n, seen in more.items() if seen.used})


def _included(path: Path, text: str, changed: Instead) -> tuple[list[Text], list[Finding]]:
    """The files that a site file includes, and what is wrong with their names."""
    patterns, tables = includes(text, str(path))
    texts, missing = [], []
    for pattern, csv in [*((p, False) for p in patterns), *((t, True) for t in tables)]:
        found = [p for p in _matching(path.parent, pattern) if p != path]
        contents = ((p, changed.get(p) or _read(p)) for p in found)
        read = [(p, content) for p, content in contents if content is not None]
        texts += [Text(str(p), content, csv) for p, content in read]
        if not read and (csv or "*" not in pattern):
            line = next((n for n, t in enumerate(text.splitlines(), 1) if pattern in t), 1)
            origin = Origin(str(path), line, 1, pattern)
            problem, remedy = f"{pattern} cannot be read", "its path is relative to the site file"
            missing.append(Finding(Severity.INVALID, origin, problem, remedy))
    return texts, missing


def _matching(folder: Path, pattern: str) -> list[Path]:
    """Files by a pattern, which may be an absolute one."""
    try:
        found = glob.glob(str(folder / pattern), recursive=True)  # noqa: PTH207 - absolute ones, too
    except (ValueError, re.error):  # no pattern of any file
        return []
    return sorted(Path(name) for name in found)


def _read(path: Path) -> str | None:
    try:
        return path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except (OSError, UnicodeDecodeError, ValueError):
        return None


def write_atomically(path: Path, text: str) -> None:
    """Replace a file as a whole, with its owner and permissions. Raises MissingRequirementError."""
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
        raise MissingRequirementError(f"cannot write {path} ({error.strerror})", remedy) from None
