"""What was heard of each machine: its addresses, and its events with their times."""

from __future__ import annotations

import re
from ipaddress import IPv4Address

from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Files
from daskel.core.content.grub import config_mac
from daskel.core.history.events import (
    Address,
    Addressed,
    Event,
    FileKind,
    GivenBack,
    OtherServer,
    Refused,
    Seen,
    Unanswered,
    Unfit,
    Who,
)
from daskel.core.site.layers import effective
from daskel.core.site.model import Site

_GUESSES = (  # what a file probably is, by its name, where no site file tells
    (
        re.compile(r"(vmlinu|bzimage|(^|/)(linux|kernel|image)[^/]*$)", re.IGNORECASE),
        FileKind.KERNEL,
    ),
    (re.compile(r"(initr|initramfs|\.cpio)", re.IGNORECASE), FileKind.INITRD),
    (re.compile(r"\.(cfg|conf|txt|lst|json)$|grub\.cfg", re.IGNORECASE), FileKind.CONFIGURATION),
)


End = tuple[Address, int]  # an address and a port
OF_DHCP = (Seen, Addressed, GivenBack, Refused, OtherServer, Unfit, Unanswered)


class Heard:
    """What the parts of a capture's reading share: addresses, and the events so far."""

    def __init__(self, site: Site | None) -> None:
        self.site = site
        self.events: list[tuple[float, Event]] = []
        self.loaders: dict[str, str] = {}  # by machine: the boot file that it was told
        self._files = Files(site, Ports()) if site else None
        self.asked: set[str] = set()  # machines whose own DHCP messages were heard
        self._macs: dict[Address, str] = {}
        self._sure: set[Address] = set()  # whose machine was heard from DHCP

    def say(self, at: float, event: Event) -> None:
        """Keep an event, at a time in seconds since 1970."""
        self.events.append((at, event))

    def belongs(self, address: Address, mac: str, *, sure: bool) -> None:
        """`sure`: by DHCP; else by the frame, which may be a router's."""
        if sure or address not in self._sure:
            self._macs[address] = mac
        if sure:
            self._sure.add(address)

    def who(self, mac: str, address: Address | None = None) -> Who:
        """The machine with this MAC address, with the address it was seen to use last."""
        return Who(self.site.by_mac.get(mac) if self.site else None, mac, address)

    def at(self, address: Address) -> Who:
        """The machine that was seen to use an address."""
        mac = self._macs.get(address)
        return self.who(mac, address) if mac else Who(address=address)

    def segment(self, address: Address | None) -> str:
        """The site's segment that an address is in; empty when there is none."""
        segments = self.site.segments if self.site and address else {}
        own = (
            n
            for n, s in segments.items()
            if isinstance(address, IPv4Address) and address in s.network
        )
        return next(own, "")

    def active(self, mac: str, since: float) -> bool:
        """Whether something but DHCP was heard of a machine after a time."""
        return any(
            at > since and event.who.mac == mac and not isinstance(event, OF_DHCP)
            for at, event in reversed(self.events)
        )

    def starts_from_disk(self, mac: str) -> bool:
        """Whether the site tells a machine to start from its own disk, so that it gets no boot
        file."""
        name = self.site.by_mac.get(mac) if self.site else None
        found = effective(self.site, name) if self.site and name else None
        return found is not None and found.loadout is not None and found.loadout.leaves

    def kind(self, mac: str | None, path: str) -> FileKind:
        """What a file is to the boot of the one who asks for it."""
        clean = path.replace("\\", "/").lstrip("/")
        told = self.loaders.get(mac or "", "")
        told = told.split("/", 3)[-1] if "://" in told else told
        if told and told.replace("\\", "/").lstrip("/") in (clean, path):
            return FileKind.LOADER
        if config_mac(clean) is not None:
            return FileKind.CONFIGURATION
        if self._files and (kind := self._files.kind_of(clean)) is not FileKind.OTHER:
            return kind
        return next((kind for name, kind in _GUESSES if name.search(clean)), FileKind.OTHER)
