"""A site with several servers, as one of them has it: what is computed for machines is computed by
the same code, from the addresses of the server that answers."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from enum import Enum
from ipaddress import IPv4Address, IPv6Address
from typing import cast

from daskel.core.site.model import Site
from daskel.core.site.positions import Origin, Path, Sources
from daskel.core.site.published import KERNEL, BootSet, PublishedRoot
from daskel.core.site.tables import Server

_KEYS = {"server": "addresses", "server6": "addresses6"}  # of a segment; of a server, by segment
Versions = tuple[str, Mapping[str, str]]  # see `told_of_root`
Roots = Mapping[str, Versions]  # by root
_WITHOUT_IPV6 = {  # of a segment that other servers alone serve over IPv6
    "network6": None, "server6": None, "pool6": None, "relays6": (), "advertise6": False,
}  # fmt: skip


@dataclass(frozen=True)
class _Written:
    """Where the keys stand that a server's site is made of."""

    sources: Sources
    name: str
    own: Server

    def of(self, path: Path, *, key: bool = False) -> Origin:
        """As `Sources.of`."""
        named = _KEYS.get(str(path[2])) if len(path) > 2 and path[0] == "segment" else None
        if named and path[1] in getattr(self.own, named):
            path = ("server", self.name, named, path[1])
        return self.sources.of(path, key=key)

    def tables(self) -> list[tuple[str, int]]:
        """As `Sources.tables`."""
        return self.sources.tables()


def seen_by(site: Site, name: str) -> Site:
    """The site with this server's own addresses in its segments; those that only others serve are
    switched off."""
    own = site.servers[name]
    served = {where for server in site.servers.values() for where in server.addresses}
    served6 = {where for server in site.servers.values() for where in server.addresses6}
    segments = {}
    for where, segment in site.segments.items():
        update: dict[str, object] = {}
        if where in own.addresses:
            update["server"] = own.addresses[where]
        elif where in served:
            update["enabled"] = False
        if where in own.addresses6:
            update["server6"] = own.addresses6[where]
        elif where in served6:
            update |= _WITHOUT_IPV6
        segments[where] = segment.model_copy(update=update)
    written = cast(Sources, _Written(site.positions, name, own))
    return replace(site, segments=segments, positions=written, own=name)


def chosen(site: Site, here: Collection[IPv4Address | IPv6Address]) -> str | None:
    """The server that has one of these addresses; None where none has, or several have."""
    found = [name for name, one in site.servers.items() if set(here) & {*one.addresses.values()}]
    return found[0] if len(found) == 1 else None


def told_of_root(site: Site, root: str, used: int, there: Iterable[int]) -> Versions:
    """What a server has of a root, for the others: which version clients get, and a digest of what
    each version boots with, where it boots by itself."""
    found = site.published.get(root, PublishedRoot())
    kernels = {number: found.sets.get(str(number), BootSet("0")).files for number in there}
    digests = {
        str(n): files[KERNEL].digest if KERNEL in files else "" for n, files in kernels.items()
    }
    return str(used), {number: digest for number, digest in digests.items() if number != "0"}


class Lack(Enum):
    """How a root on another server is not as it is here."""

    MISSING = "missing"  # that version
    DIFFERS = "differs"  # another kernel has the same version
    NOT_USED = "not used"  # clients get another version there


def lacking(mine: Roots, theirs: Roots) -> list[tuple[str, str, Lack]]:
    """What another server lacks of the roots here: root, version, and how."""
    found = []
    for root, (used, versions) in mine.items():
        their_used, their_versions = theirs.get(root, ("", {}))
        for version, digest in versions.items():
            if version not in their_versions:
                found.append((root, version, Lack.MISSING))
            elif their_versions[version] != digest:
                found.append((root, version, Lack.DIFFERS))
        if used in versions and used in their_versions and their_used != used:
            found.append((root, used, Lack.NOT_USED))
    return found


def peers(site: Site) -> Mapping[str, Collection[IPv4Address | IPv6Address]]:
    """The addresses of the other servers, by their names."""
    return {
        name: {*one.addresses.values(), *one.addresses6.values()}
        for name, one in site.servers.items()
        if name != site.own
    }
