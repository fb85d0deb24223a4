"""Which content for which path: safe paths, computed files, and what a file means to a boot."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from daskel.core.boot.arguments import ArgumentError, compose
from daskel.core.boot.identity import Who
from daskel.core.boot.loader import FOLDER, IMAGES, config_mac, config_path, configuration, devices
from daskel.core.boot.wire import Ports
from daskel.core.site.layers import effective
from daskel.core.site.model import Site

PATH_LIMIT = 1024  # bytes


class PathRefusedError(ValueError):
    """A path that nobody may ask for, whatever files there are."""


class FileKind(Enum):
    """What a file is to the boot of the one who asks."""

    LOADER = "loader"
    CONFIGURATION = "configuration"
    KERNEL = "kernel"
    INITRD = "initrd"
    OTHER = "file"


@dataclass(frozen=True, slots=True)
class Content:
    """`data` for a computed file; None for one below the site's `files`, at `path`."""

    path: str
    kind: FileKind
    data: bytes | None = None


@dataclass(frozen=True, slots=True)
class Missing:
    path: str
    reason: str


def clean_path(asked: bytes) -> str:
    """A path from the network as a relative path below the files folder.

    Leading slashes and backslashes are how firmware writes; `..` and NUL are refused.
    Raises PathRefusedError.
    """
    if len(asked) > PATH_LIMIT:
        raise PathRefusedError(f"a path of {len(asked)} bytes, {PATH_LIMIT} at most")
    try:
        text = asked.decode()
    except UnicodeDecodeError:
        raise PathRefusedError("a path that is not UTF-8") from None
    if not text.isprintable():
        raise PathRefusedError("a path with control characters")
    parts = [part for part in text.replace("\\", "/").split("/") if part not in ("", ".")]
    if ".." in parts:
        raise PathRefusedError("a path with ..")
    if any(len(part.encode()) > 255 for part in parts):
        raise PathRefusedError("a name of more than 255 bytes")
    if not parts:
        raise PathRefusedError("an empty path")
    return "/".join(parts)


def content(
    site: Site, segment: str, path: str, who: Who, ports: Ports, over: str
) -> Content | Missing:
    """What the one who asks for `path` (clean) on `segment` gets, `over` tftp or http.

    A boot loader that asks over HTTP is told to load the rest over HTTP, too.
    """
    mac = config_mac(path)
    if mac is None:
        return Content(path, _kind(site, path))
    name = site.by_mac.get(mac)
    if name is None:
        return Missing(path, f"no client has the MAC address {mac}")
    found = effective(site, name, segment)
    here = site.segments[segment]
    try:
        arguments = compose(site, found, here, ports, who.address if who.name == name else None)
    except ArgumentError as error:
        return Missing(path, str(error))
    text = configuration(found, devices(here, ports)[over], arguments, site.settings.name)
    return Content(config_path(mac), FileKind.CONFIGURATION, text.encode())


def _kind(site: Site, path: str) -> FileKind:
    if path in {f"{FOLDER}/{image}" for image in IMAGES.values()}:
        return FileKind.LOADER
    loadouts = site.loadouts.values()
    if any(path == loadout.kernel for loadout in loadouts):
        return FileKind.KERNEL
    if any(path in loadout.initrd for loadout in loadouts):
        return FileKind.INITRD
    return FileKind.OTHER
