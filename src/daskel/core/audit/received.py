"""What one machine receives, worked out by the code that answers: to be compared with what it
received from another site, not to be sent."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.boot.arguments import ArgumentError, any_address, nfs_root
from daskel.core.boot.identity import refusal, settings_of
from daskel.core.boot.segments import multicast_group
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files, Missing, client_paths, told_to
from daskel.core.content.grub import NO_INITRDS, config_path
from daskel.core.content.raw_systems import Asked, RawSystem, raw_system
from daskel.core.content.up import SCRIPT
from daskel.core.content.upload_rules import Uploads
from daskel.core.dhcp import options
from daskel.core.dhcp.client_messages import BOARD, FACES, SYSTEM, Face, discover
from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import NOWHERE, MessageType, Packet
from daskel.core.dhcp.pxe import ARCHITECTURES, architecture_name, is_uefi
from daskel.core.dhcp6.client_messages import solicit
from daskel.core.dhcp6.message import parse as parse6
from daskel.core.history.events import Who
from daskel.core.replies.answer import Answers
from daskel.core.replies.answer6 import Answers6
from daskel.core.roots.views import views_of
from daskel.core.site.layers import Effective, layer_tables
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.tables import FirmwareKind
from daskel.core.values import show_limit

_XID = 1
_CONFIGURATION = "GRUB's configuration"
_BOOTS = ("boot file", "next server")
_SAID_ELSEWHERE = ("if linux ", "elif linux ", "if initrd ")  # kernels, their arguments and initrds
_NOT_OPTIONS = (  # said under names of their own, or different in every message
    Code.MESSAGE_TYPE, Code.SERVER_ID, Code.BOOT_SERVER, Code.BOOT_FILE, Code.ROOT_PATH,
)  # fmt: skip


_OF_FIRMWARE = (Code.VENDOR_CLASS, Code.VENDOR_SPECIFIC)  # what it needs beside its boot file


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a machine receives: in short, and all of it where that is more."""

    shown: object
    whole: object = None
    with_: tuple[str, ...] = ()  # a change of these says already that this changes


Received = Mapping[tuple[str, str], Item]  # what it is; which firmware receives it, else empty
ANSWERED, ARGUMENTS = "answered", "arguments"


def faces_for(*sites: Site) -> dict[str, Face]:
    """Every kind of firmware that some site tells apart, and those that are common, by name; and
    the system that they start."""
    found = {name: face for name, face in FACES.items() if name != BOARD} | {"system": SYSTEM}
    known = {face.architecture for face in found.values()}
    by_name = {architecture_name(number): number for number in ARCHITECTURES}
    for site in sites:
        named = {kind for _, table in layer_tables(site) for kind in table.boot_file}
        for name in sorted(named & by_name.keys()):
            if by_name[name] not in known:
                found[name] = Face.of_architecture(by_name[name])
        for name, kind in site.firmware.items():
            key, face = f"firmware {name}", _face_of(kind, by_name)
            found[key if found.get(key, face) == face else f"{key}, changed"] = face
    return found


def _face_of(kind: FirmwareKind, by_name: Mapping[str, int]) -> Face:
    """A machine that a [firmware] table describes."""
    wanted = next(iter(kind.architecture), 0)
    number = wanted if isinstance(wanted, int) else by_name.get(wanted, 0)
    face = Face.of_architecture(number)
    return face.presented(_matching(kind.vendor_class), _matching(kind.user_class))


def _matching(pattern: str | None) -> str | None:
    """A text that fits a pattern with * and ?."""
    return pattern and pattern.replace("*", "").replace("?", "x")


class Receiving:
    """What machines receive from one site."""

    def __init__(self, site: Site, faces: Mapping[str, Face]) -> None:
        self._site, self._faces, self._ports = site, faces, Ports()
        self._answers = Answers(site, Leases(), self._ports)
        self._files, self._uploads = Files(site, self._ports), Uploads(site)
        self._option_names = {o.code: name for name, o in site.options.items() if not o.inside}
        self._options: dict[tuple[int, bytes], tuple[str, Item]] = {}  # that were received
        self._option_types = {o.code: o.type for o in site.options.values() if not o.inside}
        self._six = _Six(site, faces, self._ports)

    def by(self, who: Who, segment: str | None) -> Received:
        """What `who` receives on `segment`; little where it is on none that is served."""
        site = self._site
        found = {"MAC address": Item(str(who.mac)), "segment": Item(segment or "(none)")}
        settings = settings_of(site, who, segment) if segment in site.served else None
        if segment is None or settings is None:
            return _for_all(found | {ANSWERED: Item("no, its segment is not served")})
        if refusal(site, str(who.mac), segment) is not None:
            return _for_all(found | {ANSWERED: Item("no, it is refused")})
        here = site.segments[segment]
        fixed = settings.address.value if settings.address else None
        pool = ", ".join(map(str, here.pool)) or "(none)"
        found[ANSWERED] = Item("yes")
        said = settings.firmware
        found["Secure Boot"] = Item(settings.secure_boot, None, ("boot file",))
        found["loader"] = Item(settings.loader, None, ("boot file",))
        found["firmware"] = Item(said.value if said else "(as it is seen)")
        found["address"] = Item(str(fixed)) if fixed else Item("from the pool", pool)
        found["DHCP"] = Item(here.dhcp)
        at = Who(who.name, who.mac, fixed or any_address(here))
        found |= self._loads(at, segment, settings)
        found |= dict(self._content(at, segment))
        found |= dict(self._views(at, segment))
        found |= dict(self._may_write(at))
        found["bandwidth"] = Item(f"{show_limit(here.bandwidth)}/s" if here.bandwidth else "(all)")
        found |= self._raw(at, segment) if here.raw else {}
        found["multicast"] = Item(str(multicast_group(here) or "(none)"))
        found["TFTP window"] = Item(str(site.settings.tftp_window))
        replies = self._replies(at, segment) if here.dhcp != "off" else {}
        six = self._six.by(who, segment)
        return {**_for_all(found), **replies, **dict(self._loader_texts(at, segment)), **six}

    def _loads(self, who: Who, segment: str, settings: Effective) -> dict[str, Item]:
        site, here = self._site, self._site.segments[segment]
        entries = [site.loadouts[name] for name in settings.entries if name in site.loadouts]
        kernels = ", ".join(loadout.kernel or "its own disk" for loadout in entries)
        initrds = ", ".join(path for loadout in entries for path in loadout.initrd)
        roots = [loadout.root for loadout in entries if loadout.root]
        whole = ((name, settings_of(site, who, segment, name)) for name in settings.entries)
        over = [f"{name} by {one.fetches}" for name, one in whole if one]
        mounted = [nfs_root(site, settings, here, root, self._ports) for root in roots]
        try:
            told = told_to(site, who, segment, self._ports)
            named: object = [(one.loadout, one.kernel, one.initrd) for one in told]
            filled: object = [one.arguments for one in told]
        except ArgumentError as error:
            named = filled = str(error)
        unfilled = [argument.value for argument in settings.arguments]
        return {
            "boot": Item(settings.boot.value if settings.boot else "(nothing)"),
            "loads": Item(kernels or "(nothing)"),
            "initrd": Item(initrds or "(none)"),
            "root": Item(", ".join(lo.root or "(none)" for lo in entries) or "(none)", mounted),
            "delivery": Item(settings.way, None, ("root",)),
            "kernel over": Item(settings.fetches, over, ("boot", "loads")),
            ARGUMENTS: Item("", unfilled),
            "kernels to choose from": Item("", named, ("boot", "loads", "initrd", _CONFIGURATION)),
            "command line": Item("", filled, ("boot", "loads", "root", ARGUMENTS)),
        }

    def _raw(self, who: Who, segment: str) -> dict[str, Item]:
        """For machines that ask in raw Ethernet frames: by no name, and by each that is listed."""
        found = settings_of(self._site, who, segment)
        names = found.loadout.names if found and found.loadout else {}
        asked: list[str | None] = [None, *names]
        gets = [(name, raw_system(self._site, who, segment, Asked(name))) for name in asked]
        told = [(n, s.images, s.start) for n, s in gets if isinstance(s, RawSystem)]
        return {"raw frames": Item("answered"), "raw system": Item("", told)}

    def _replies(self, who: Who, segment: str) -> Received:
        """The DHCP reply to each kind of firmware. What is the same for all is said once."""
        values: dict[str, dict[str, Item]] = {}
        for name, face in self._faces.items():
            for what, item in self._reply(face, who, segment):
                values.setdefault(what, {})[name] = item
        return {
            (what, "" if what != "boot file" and self._same_for_all(by_face) else name): item
            for what, by_face in values.items()
            for name, item in by_face.items()
        }

    def _same_for_all(self, by_face: Mapping[str, Item]) -> bool:
        if len(by_face) != len(self._faces):
            return False
        first = next(iter(by_face.values()))
        return all(item is first or item == first for item in by_face.values())

    def _reply(self, face: Face, who: Who, segment: str) -> Iterator[tuple[str, Item]]:
        message = discover(face, str(who.mac), _XID)
        reply: Packet | None
        if self._site.segments[segment].dhcp == "full":
            question = self._answers.replies.question(segment, message, 0.0)
            assert isinstance(who.address, IPv4Address), "a client's own, or one of the segment"
            reply = self._answers.replies.make(question, MessageType.OFFER, who.address)
        else:
            reply = self._answers.dhcp(segment, message, 0.0, unicast=False).reply
        if reply is None:
            yield "boot file", Item("(no offer)", None, ("DHCP",))
            return
        file = (reply.file or reply.options.get(Code.BOOT_FILE, b"")).decode("utf-8", "replace")
        server = str(reply.siaddr) if reply.siaddr != NOWHERE else "(none)"
        yield "boot file", Item(file or "(none)", None, ("DHCP",))
        yield "next server", Item(server, None, ("boot file", "DHCP"))
        for code, value in reply.options.items():
            echoed = message.options.get(code) == value
            if code not in _NOT_OPTIONS and not echoed:
                yield self._option(code, value)

    def _option(self, code: int, value: bytes) -> tuple[str, Item]:
        """The same for all who receive the same."""
        made = self._options.get((code, value))
        if made is None:
            follows = ("boot file",) if code in _OF_FIRMWARE else ()
            name = self._option_names.get(code, options.name(code))
            shown = Option(code, value, self._option_types.get(code))
            made = f"option {name}", Item(shown, None, ("DHCP", *follows))
            self._options[code, value] = made
        return made

    def _content(self, who: Who, segment: str) -> Iterator[tuple[str, Item]]:
        """The script that tells that a system is up, and the files of the site file."""
        yield SCRIPT, _file(self._files.content(segment, SCRIPT, who, "http"), ("root", *_BOOTS))
        for path, pattern, name in self._files.written:
            if name in (None, who.name):
                yield f"file {pattern}", _file(self._files.content(segment, path, who, "http"))
        for pattern, file in self._site.files.items() if who.name else ():
            if file.folder is not None:
                paths = list(client_paths(self._site, pattern, who.name or ""))
                yield f"file {pattern}", Item(file.folder, paths)

    def _loader_texts(self, who: Who, segment: str) -> Iterator[tuple[tuple[str, str], Item]]:
        for over in ("tftp", "http"):
            found = self._files.content(segment, config_path(str(who.mac)), who, over)
            text = found.reason if isinstance(found, Missing) else (found.data or b"").decode()
            yield (
                (_CONFIGURATION, over.upper()),
                Item("", Text.of(text, who), ("boot", "loads", "kernel over")),
            )

    def _views(self, who: Who, segment: str) -> Iterator[tuple[str, Item]]:
        for root, view in views_of(self._site, who, segment).items():
            limit = f", {show_limit(view.limit)} at most" if view.limit else ""
            shown = Item(f"{view.slate}{limit}", dict(view.own), ("root",))
            yield f"slate of the root {root}", shown
            ports = "any" if view.any_port else "reserved"
            yield f"ports that may mount the root {root}", Item(ports, None, ("root",))

    def _may_write(self, who: Who) -> Iterator[tuple[str, Item]]:
        for folder, rule in self._uploads.folders(who):
            most = f"{rule.files} files, {show_limit(rule.size)} each"
            yield f"deliveries into {folder}", Item(most)


class _Six:
    """What machines receive over IPv6, beside what they receive otherwise."""

    def __init__(self, site: Site, faces: Mapping[str, Face], ports: Ports) -> None:
        self._site, self._ports = over_ipv6(site), ports
        if not self._site.segments:
            return  # nobody comes that way
        self._faces = {
            name: face
            for name, face in faces.items()
            if face.architecture is not None and is_uefi(face.architecture)
        }
        self._answers, self._files = (
            Answers6(self._site, Leases(), ports), Files(self._site, ports),
        )  # fmt: skip

    def by(self, who: Who, segment: str) -> Received:
        here = self._site.segments.get(segment)
        settings = settings_of(self._site, who, segment) if here else None
        if here is None or settings is None:
            return {}
        fixed = settings.address.value if settings.address else None
        pool = ", ".join(map(str, here.pool)) or "(none)"
        at = Who(who.name, who.mac, fixed or any_address(here))
        text = self._files.content(segment, config_path(str(who.mac)), at, "tftp")
        said = text.reason if isinstance(text, Missing) else (text.data or b"").decode()
        lines = Item("", Text.of(said, at), ("boot", "loads", "kernel over", _CONFIGURATION))
        try:
            told: object = told_to(self._site, at, segment, self._ports)
        except ArgumentError as error:
            told = str(error)
        known = ("boot", "loads", "initrd", "root", ARGUMENTS, "command line", _SIX_ADDRESS)
        found = {
            _SIX_ADDRESS: Item(str(fixed)) if fixed else Item("from the pool", pool),
            "IPv6 network": Item(str(here.network)),
            "IPv6 server": Item(str(here.server)),
            "DHCPv6": Item("answered" if here.dhcp == "full" else "not answered"),
            "IPv6 router advertisements": Item("sent" if here.advertise6 else "not sent"),
            f"{_CONFIGURATION} over IPv6": lines,
            "what is loaded over IPv6": Item("", told, (*known, "IPv6 network", "IPv6 server")),
        }
        files = {
            ("boot file over IPv6", name): item for name, item in self._boot_files(at, segment)
        }
        return {**_for_all(found), **files}

    def _boot_files(self, who: Who, segment: str) -> Iterator[tuple[str, Item]]:
        mac, here = str(who.mac), self._site.segments[segment]
        for name, face in self._faces.items():
            asked = parse6(solicit(mac, face.architecture or 0, face.vendor_class))
            file = self._answers.file(self._answers.question(segment, asked, mac, 0.0))
            path = self._answers.url(here, file.path) if file.path is not None else "(none)"
            yield name, Item(path, None, ("boot file", "IPv6 server"))


_SIX_ADDRESS = "IPv6 address"


@dataclass(frozen=True, slots=True)
class Option:
    """A DHCP option's value, which is turned into words only when it is shown."""

    code: int
    value: bytes
    type: str | None

    def __str__(self) -> str:
        return options.show(self.code, self.value, self.type)


@dataclass(frozen=True, slots=True)
class Text:
    """A computed text without what is only one machine's, and without what is said elsewhere."""

    lines: tuple[str, ...]

    @classmethod
    def of(cls, text: str, who: Who) -> Text:
        """A text of one machine's, made comparable with the same text of others."""
        for own, stands in ((who.name, "NAME"), (who.mac, "MAC"), (str(who.address), "ADDRESS")):
            text = text.replace(own, stands) if own else text
        lines = (line.strip() for line in text.splitlines())
        said = (line for line in lines if not line.endswith(f'{NO_INITRDS}"'))  # by its title
        return cls(tuple(line for line in said if not line.startswith(_SAID_ELSEWHERE)))


def _for_all(found: Mapping[str, Item]) -> Received:
    return {(what, ""): item for what, item in found.items()}


def _file(found: Content | Missing, with_: tuple[str, ...] = ()) -> Item:
    if isinstance(found, Missing):
        return Item("(none)", found.reason, with_)
    return Item("", found.data, with_)
