"""Which content for which path: safe paths, computed files, and what a file means to a boot."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass

from daskel.core.boot.arguments import (
    ArgumentError,
    any_address,
    compose,
    representatives,
    variables,
)
from daskel.core.boot.identity import roots_of, settings_of, waits
from daskel.core.boot.template import FillError, render
from daskel.core.boot.wire import Ports
from daskel.core.content import signed_chain
from daskel.core.content.grub import (
    FOLDER,
    IMAGES,
    OWN_CONFIG,
    ConfigKind,
    Entry,
    by_cards,
    config_mac,
    config_path,
    configuration,
    devices,
    load_from,
    restarting,
    still_waiting,
    waiting,
)
from daskel.core.content.paths import PathRefusedError, clean_path
from daskel.core.content.uboot import boot_script, image, waiting_script
from daskel.core.content.unified_images import (
    OWN_KEY,
    AskedFor,
    Role,
    asked_for,
    boots_by_itself,
    entry_image,
    is_one_image,
    starts_images,
    stub_path,
)
from daskel.core.content.up import SCRIPT, script
from daskel.core.dhcp.pxe import SCRIPT as SCRIPT_IMAGE
from daskel.core.history.events import Address, FileKind, Loaded, Missed, Who
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, Effective, effective
from daskel.core.site.model import Site
from daskel.core.site.own_kernels import of_path
from daskel.core.site.positions import Origin
from daskel.core.site.published import CLIENT, IMAGE, INITRD, KERNEL
from daskel.core.site.remembered import remembered
from daskel.core.site.tables import File

_KINDS = {  # of what is published of roots
    KERNEL: FileKind.KERNEL, INITRD: FileKind.INITRD, CLIENT: FileKind.INITRD,
    IMAGE: FileKind.IMAGE,
}  # fmt: skip
SECRET = "it is a secret file, which comes through the tunnel alone"
NOT_YOURS = "it is another client's or group's own"
OF_CLIENTS, OF_GROUPS = "clients", "groups"  # folders below `files`


@dataclass(frozen=True, slots=True)
class Parts:
    """Of what a machine's image is made: a stub, the kernel, initrds, and the command line."""

    stub: Content
    kernel: Content
    initrds: tuple[Content, ...]
    line: str


@dataclass(frozen=True, slots=True)
class Content:
    """`data` for a computed file; None for one below the site's `files`, at `path`."""

    path: str
    kind: FileKind
    data: bytes | None = None
    quiet: bool = False  # asked for every few seconds: nothing to say about it
    device: str = ""  # a boot loader's image: the server that is to be written into it
    own: tuple[str, str] | None = None  # and the address and network of its machine
    parts: Parts | None = None  # an image that is made of files
    sign: bool = False  # with the site's key, where it has one
    places: tuple[str, ...] = ()  # where it may be below `files`, the best one first
    told: tuple[Loaded, ...] = ()  # what a configuration tells to load
    blob: str = ""  # published of a root: the digest of its content


@dataclass(frozen=True, slots=True)
class Missing:
    """Why there is nothing at a path for the one who asks."""

    path: str
    reason: str
    why: Missed = Missed.ABSENT


def may_have(site: Site, who: Who, path: str) -> bool:
    """Files below clients/NAME and groups/NAME are for that client, or that group, alone."""
    kind, _, rest = path.partition("/")
    name, _, inside = rest.partition("/")
    if not inside or kind not in (OF_CLIENTS, OF_GROUPS):
        return True
    if is_secret(site, path) and not site.tunnel:
        return False
    return name in (_groups(site, who) if kind == OF_GROUPS else [who.name])


@remembered
def _secrets(site: Site) -> frozenset[str]:
    """What is read through the tunnel alone, without upper and lower case."""
    rules = site.settings.private
    return frozenset(path.casefold() for path in rules.secrets) if rules else frozenset()


def is_secret(site: Site, path: str) -> bool:
    """Whether it is named in `secrets`: as it stands, or below clients/NAME and groups/NAME."""
    kind, _, rest = path.partition("/")
    inside = rest.partition("/")[2] if kind in (OF_CLIENTS, OF_GROUPS) else ""
    return bool({path.casefold(), inside.casefold()} & _secrets(site))


def own_places(site: Site, who: Who, path: str) -> list[str]:
    """Where files lie that one client, or one of its groups, gets instead of `path`; of several
    groups, the one named last comes first."""
    if who.name is None or path.partition("/")[0] in (OF_CLIENTS, OF_GROUPS):
        return []
    groups = (f"{OF_GROUPS}/{group}/{path}" for group in reversed(_groups(site, who)))
    return [f"{OF_CLIENTS}/{who.name}/{path}", *groups]


def _groups(site: Site, who: Who) -> tuple[str, ...]:
    return site.clients[who.name].group if who.name else ()


_LOADERS = {f"{FOLDER}/{image}" for image in IMAGES.values()} | signed_chain.FILES


class Files:
    """The files of one site that are computed, and what the others are. Made once per site."""

    def __init__(self, site: Site, ports: Ports, assigned: Assigned = NOT_ASSIGNED) -> None:
        self.away = False  # the store does not answer: the screens of the lobby say so
        self.site, self._ports, self._assigned = site, ports, assigned
        self._kernels = {loadout.kernel for loadout in site.loadouts.values()}
        self._initrds = {path for loadout in site.loadouts.values() for path in loadout.initrd}
        self._patterns: dict[str, tuple[str, str | None]] = {}  # path: pattern, client
        self._folders: dict[str, str] = {}  # a client's own folder: the shared one
        for pattern, file in site.files.items():
            for name, path in _paths(site, pattern):
                if file.folder is not None:
                    self._folders.setdefault(path.removesuffix("/*"), file.folder)
                else:
                    self._patterns.setdefault(path, (pattern, name))

    @property
    def written(self) -> Iterator[tuple[str, str, str | None]]:
        """Every path of the site file's own files: its pattern, and the client that it is for."""
        for path, (pattern, name) in self._patterns.items():
            yield path, pattern, name

    def content(self, segment: str, path: str, who: Who, over: str) -> Content | Missing:
        """What the one who asks for `path` (clean) on `segment` gets, `over` tftp or http.

        A boot loader that asks over HTTP is told to load the rest over HTTP, too.
        """
        asked = config_mac(path)
        if asked is not None:
            return self._configuration(segment, path, *asked, who, over)
        if path in self._patterns:
            return self._written(segment, path, who)
        if path == signed_chain.CONFIGURATION and self.site.signed:
            built = [name for name in self.site.settings.loaders if name not in self.site.unbuilt]
            if self.site.ipv4:  # there the signed GRUB has an address, and one that it starts none
                built = []
            return Content(path, FileKind.OTHER, signed_chain.configuration(built).encode())
        if path == OWN_CONFIG:
            return self._own(segment, who, over)
        if path == SCRIPT_IMAGE:
            return self._script(segment, who)
        if path == SCRIPT:
            text = script(self.site.segments[segment].server, self._ports.http)
            return Content(path, FileKind.OTHER, text.encode())
        if (ours := asked_for(path)) is not None:
            return self._signed(segment, path, ours, who, over)
        return self._stored(segment, path, who, over)

    def _stored(self, segment: str, path: str, who: Who, over: str) -> Content | Missing:
        """What is below `files`, or published of a root."""
        if (found := of_path(self.site, path)) is not None:
            root, made, name = found
            if name == IMAGE and not self._may_have_image(who, segment, root):
                return Missing(path, NOT_YOURS, Missed.NOT_YOURS)
            return Content(path, _KINDS.get(name, FileKind.OTHER), blob=made.files[name].digest)
        if is_secret(self.site, path) and not self.site.tunnel:
            return Missing(path, SECRET, Missed.NOT_YOURS)
        if not may_have(self.site, who, path):
            return Missing(path, NOT_YOURS, Missed.NOT_YOURS)
        shared = self._shared(path)
        kind = self.kind_of(shared or path)
        loads = kind is FileKind.LOADER and path not in signed_chain.FILES
        sign = loads and self.site.settings.signing is not None
        device = devices(self.site.segments[segment], self._ports)[over] if loads else ""
        places = [*own_places(self.site, who, path), path, *([shared] if shared else [])]
        own = self._own_address(segment, who, over) if loads else None
        return Content(path, kind, device=device, own=own, places=tuple(places), sign=sign)

    def _own_address(self, segment: str, who: Who, over: str) -> tuple[str, str] | None:
        """What GRUB does not find by itself over IPv6 and HTTP."""
        if not self.site.ipv4 or over != "http":
            return None
        return str(who.address), str(self.site.segments[segment].network)

    def _signed(
        self, segment: str, path: str, asked: AskedFor, who: Who, over: str
    ) -> Content | Missing:
        """What the site's key signs, and shim before it."""
        chain = asked.chain
        shim, _, keys = chain.files
        own = {Role.SHIM: shim, Role.KEYS: keys}.get(asked.role)
        if own:
            return Content(path, FileKind.LOADER, places=(own,))
        if asked.mac is None:
            device = devices(self.site.segments[segment], self._ports)[over]
            return Content(
                path, FileKind.LOADER, device=device, own=self._own_address(segment, who, over),
                places=(chain.goes_on_to,), sign=True,
            )  # fmt: skip
        if who.mac not in (None, asked.mac):
            return Missing(path, NOT_YOURS, Missed.NOT_YOURS)
        owner = Who(self.site.by_mac.get(asked.mac), asked.mac, who.address if who.mac else None)
        return self._image(segment, path, asked, owner, who, over)

    def _image(
        self, segment: str, path: str, asked: AskedFor, owner: Who, who: Who, over: str
    ) -> Content | Missing:
        """One image of all that a machine boots, or an entry of its menu; its files are those that
        the one who asks for it may have."""
        found, chain = self._by_itself(segment, asked.entry, owner), asked.chain
        if found is None or waits(self.site, owner, segment):
            return Missing(path, f"the machine {owner.mac} has no such image")
        loadout, here = found.loadout, self.site.segments[segment]
        assert loadout and loadout.kernel and found.loadout_name, "it is one image"
        try:
            arguments = compose(self.site, found, here, self._ports, owner.address)
        except ArgumentError as error:
            return Missing(path, str(error))
        paths = (stub_path(chain), loadout.kernel, *loadout.initrd)
        files = [self._stored(segment, one, who, over) for one in paths]
        for one in files:
            if isinstance(one, Missing):
                return Missing(path, f"{one.path}: {one.reason}", one.why)
        stub, kernel, *initrds = (one for one in files if isinstance(one, Content))
        line = " ".join(argument.value for argument in arguments)
        told = Loaded(found.loadout_name, path, (), line, loadout.root)
        parts = Parts(stub, kernel, tuple(initrds), line)
        return Content(path, FileKind.UNIFIED, parts=parts, sign=True, told=(told,))

    def _by_itself(self, segment: str, entry: str | None, owner: Who) -> Effective | None:
        """What is in the image of a machine, or of an entry of its menu; None where it has none."""
        found = settings_of(self.site, owner, segment, assigned=self._assigned)
        if found is None:
            return None
        if entry is None:
            return found if boots_by_itself(found) else None
        if not starts_images(found) or entry not in found.entries:
            return None
        chosen = settings_of(self.site, owner, segment, entry, self._assigned)
        return chosen if chosen and is_one_image(chosen) else None

    def _may_have_image(self, who: Who, segment: str, root: str) -> bool:
        """All that is in a root is for those that boot it so, as with NFS."""
        return root in roots_of(self.site, who, segment, self._assigned, "memory")

    def _shared(self, path: str) -> str:
        """The path in the folder that all share, of one in a client's own folder."""
        parts = path.split("/")
        for length in range(len(parts) - 1, 0, -1):
            folder = self._folders.get("/".join(parts[:length]))
            if folder is not None:
                return "/".join([folder, *parts[length:]])
        return ""

    def _configuration(
        self, segment: str, path: str, mac: str, what: ConfigKind, who: Who, over: str
    ) -> Content | Missing:
        asked = Who(self.site.by_mac.get(mac), mac, who.address if who.mac == mac else None)
        found = settings_of(self.site, asked, segment, assigned=self._assigned)
        if what is ConfigKind.ADMITTED:
            admitted = asked.name is not None and found is not None and bool(found.entries)
            told = b"set admitted=yes\n" if admitted else still_waiting(away=self.away).encode()
            return Content(path, FileKind.OTHER, told, quiet=True)
        if waits(self.site, asked, segment):
            device = devices(self.site.segments[segment], self._ports)[over]
            return Content(path, FileKind.WAITING, self._waiting(asked, device, path))
        if found is None or not found.entries:
            return Missing(path, f"the machine with the MAC address {mac} has nothing to boot")
        try:
            signed = what is ConfigKind.SIGNED
            text = grub_text(
                self.site, asked, segment, self._ports, over, self._assigned, signed=signed
            )
            loaded = told_to(self.site, asked, segment, self._ports, self._assigned)
        except ArgumentError as error:
            return Missing(path, str(error))
        return Content(config_path(mac), FileKind.CONFIGURATION, text.encode(), told=loaded)

    def _own(self, segment: str, who: Who, over: str) -> Content | Missing:
        """GRUB's configuration for the machine that asks."""
        if who.mac is not None:
            path = config_path(who.mac)
            return self._configuration(segment, path, who.mac, ConfigKind.WHOLE, who, over)
        text = by_cards(devices(self.site.segments[segment], self._ports)[over])
        return Content(OWN_CONFIG, FileKind.OTHER, text.encode())

    def _script(self, segment: str, who: Who) -> Content | Missing:
        """U-Boot's, for the machine that asks."""
        found = settings_of(self.site, who, segment, assigned=self._assigned)
        if who.mac is None or found is None:
            reason = "it is computed for each client, and nobody knows who asks"
            return Missing(SCRIPT_IMAGE, reason)
        if waits(self.site, who, segment):
            text = waiting_script(who.mac, self.site.settings.name, away=self.away)
            return Content(SCRIPT_IMAGE, FileKind.WAITING, image(text, "daskel"))
        try:
            text = uboot_text(self.site, who, segment, self._ports, self._assigned)
            loaded = told_to(self.site, who, segment, self._ports, self._assigned)
        except ArgumentError as error:
            return Missing(SCRIPT_IMAGE, str(error))
        data = image(text, found.name)
        return Content(SCRIPT_IMAGE, FileKind.CONFIGURATION, data, told=loaded)

    def _waiting(self, who: Who, device: str, path: str) -> bytes:
        address = str(who.address or "")
        text = waiting(str(who.mac), address, device, self.site.settings.name, path)
        return text.encode()

    def _written(self, segment: str, path: str, who: Who) -> Content | Missing:
        """A file of the site file: for the client in its path, else for the one who asks."""
        pattern, name = self._patterns[path]
        owner = Who(name, self.site.clients[name].mac) if name else who
        if owner.mac is not None and owner.mac == who.mac:
            owner = who
        found = settings_of(self.site, owner, segment, assigned=self._assigned)
        if found is None:
            return Missing(path, "it is computed for each client, and nobody knows who asks")
        try:
            text = written_text(self.site, pattern, found, self._ports, owner.address)
            told = told_to(self.site, owner, segment, self._ports, self._assigned)
        except (FillError, ArgumentError) as error:
            return Missing(path, str(error))
        return Content(path, FileKind.CONFIGURATION, text.encode(), told=told)

    def kind_of(self, path: str) -> FileKind:
        """What a file on the disk is to those who boot from it."""
        if path in _LOADERS:
            return FileKind.LOADER
        if found := of_path(self.site, path):
            return _KINDS.get(found[2], FileKind.OTHER)
        if path in self._kernels:
            return FileKind.KERNEL
        return FileKind.INITRD if path in self._initrds else FileKind.OTHER


def grub_text(
    site: Site, who: Who, segment: str, ports: Ports, over: str,
    assigned: Assigned = NOT_ASSIGNED, *, signed: bool = False,
) -> str:  # fmt: skip
    """GRUB's configuration for one machine, with each loadout that it can choose; `signed`: for the
    distribution's own GRUB."""
    found, here = settings_of(site, who, segment, assigned=assigned), site.segments[segment]
    assert found, "the MAC address is known"
    if boots_by_itself(found) and found.secure_boot in OWN_KEY:
        return restarting(found.name)
    entries = []
    for name in found.entries:
        chosen = settings_of(site, who, segment, name, assigned)
        assert chosen and chosen.loadout
        arguments = compose(site, chosen, here, ports, who.address)
        places = load_from(chosen, here, ports, over, signed=signed)
        starts = starts_images(found) and is_one_image(chosen)
        image = entry_image(str(who.mac), name) if starts else ""
        entries.append(Entry(name, chosen.loadout, arguments, places, image))
    return configuration(found, entries, site.settings.name)


def uboot_text(
    site: Site, who: Who, segment: str, ports: Ports, assigned: Assigned = NOT_ASSIGNED
) -> str:
    """U-Boot's script for one machine: it boots what boots by itself, and shows no menu. Raises
    ArgumentError."""
    found, here = settings_of(site, who, segment, assigned=assigned), site.segments[segment]
    assert found, "the MAC address is known"
    entry = None
    if found.loadout is not None and found.loadout_name:
        entry = Entry(
            found.loadout_name, found.loadout, compose(site, found, here, ports, who.address)
        )
    return boot_script(found, here.server, entry)


def told_to(
    site: Site, who: Who, segment: str, ports: Ports, assigned: Assigned = NOT_ASSIGNED
) -> tuple[Loaded, ...]:
    """What a machine may load, the loadout that boots by itself first. Raises ArgumentError."""
    found = settings_of(site, who, segment, assigned=assigned)
    told = []
    for name in found.entries if found else ():
        chosen = settings_of(site, who, segment, name, assigned)
        assert chosen and chosen.loadout
        arguments = compose(site, chosen, site.segments[segment], ports, who.address)
        line, loadout = " ".join(argument.value for argument in arguments), chosen.loadout
        told.append(Loaded(name, loadout.kernel, loadout.initrd, line, loadout.root))
    first = found.boot.value if found and found.boot else ""
    first = site.choices[first].chosen if first in site.choices else first
    return tuple(sorted(told, key=lambda one: one.loadout != first))


def written_text(
    site: Site, pattern: str, found: Effective, ports: Ports, address: Address | None
) -> str:
    """A file of the site file, filled in. Raises FillError and ArgumentError."""
    assert found.segment
    segment = site.segments[found.segment.value]
    known: dict[str, object] = dict(variables(site, found, address))
    arguments = compose(site, found, segment, ports, address) if found.loadout else ()
    known["arguments"] = " ".join(argument.value for argument in arguments)
    known["kernel"] = (found.loadout.kernel if found.loadout else None) or ""
    known["initrd"] = " ".join(found.loadout.initrd) if found.loadout else ""
    return render(_text(site, site.files[pattern]), known)


def _text(site: Site, file: File) -> str:
    return file.text if file.text is not None else site.templates[file.template or ""]


def _paths(site: Site, pattern: str) -> Iterator[tuple[str | None, str]]:
    """Every path that a pattern stands for, and its client; None for a path of everybody."""
    if "{" not in pattern:
        yield None, clean_path(pattern.encode())
        return
    for name in site.clients:
        for path in client_paths(site, pattern, name):
            yield name, path


def client_paths(site: Site, pattern: str, name: str) -> Iterator[str]:
    """The path of a pattern for one client; nothing for a client without a variable of it
    (a serial number)."""
    found = effective(site, name)
    segment = site.segments.get(found.segment.value) if found.segment else None
    if segment is not None:
        with suppress(FillError, PathRefusedError):
            yield clean_path(render(pattern, variables(site, found, None)).encode())


def check_files(site: Site, ports: Ports, only: Collection[str] | None = None) -> list[Finding]:
    """Computed files that fail for some client, before any client asks."""
    findings: dict[tuple[str, str], Finding] = {}
    for pattern, file in site.files.items():
        if file.folder is not None:
            continue
        paths = list(_checked_paths(site, pattern, representatives(site, only)))
        if not paths and only is None and site.clients and site.segments:
            findings[(pattern, "")] = for_nobody(site, "file", pattern)
        for name in paths:
            found = effective(site, name)
            if found.segment is None or found.segment.value not in site.segments:
                continue
            segment = site.segments[found.segment.value]
            try:
                written_text(site, pattern, found, ports, any_address(segment))
            except FillError as error:
                problem = f"{error} (for client {name})"
                origin = _line_of(site, pattern, file, error.line)
                finding = Finding(Severity.ERROR, origin, problem, _KNOWN)
                findings.setdefault((pattern, str(error)), finding)
            except ArgumentError:
                continue  # said where the argument stands
    return list(findings.values())


_KNOWN = "daskel explain --variables CLIENT shows what there is"


def for_nobody(site: Site, kind: str, pattern: str) -> Finding:
    """The table of a path with variables that no client has all of."""
    problem = f"the path {pattern!r} is one for no client"
    return Finding(Severity.ERROR, site.origin(kind, pattern), problem, _KNOWN)


def _checked_paths(site: Site, pattern: str, names: Collection[str]) -> Iterator[str]:
    """The clients that a pattern makes a file for; all of them when it names none."""
    everybody = "{" not in pattern
    return (name for name in names if everybody or any(client_paths(site, pattern, name)))


def _line_of(site: Site, pattern: str, file: File, line: int) -> Origin:
    """The place of a template's line: in its own file, or in the text in the site file."""
    if file.template is not None:
        return Origin(file.template, line, 1)
    start = site.origin("file", pattern, "text")
    several = start.text.startswith(('"""', "'''"))
    skipped = start.text.strip() in ('"""', "'''")  # the text begins on the next line
    if not several:
        return start
    return Origin(start.file, start.line + line - (0 if skipped else 1), 1)
