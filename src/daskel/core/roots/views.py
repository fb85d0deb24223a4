"""Which views of roots a client may mount: the root as it is, or with a slate of its own on top."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.boot.arguments import (
    any_address,
    mount_path,
    representatives,
    variables,
)
from daskel.core.boot.identity import by_mac, roots_of, settings_of
from daskel.core.boot.template import FillError, render
from daskel.core.boot.wire import Ports, host
from daskel.core.content import up
from daskel.core.history.events import Address, Who
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.key_types import SlateKind
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, Effective, effective, segment_name
from daskel.core.site.model import Site
from daskel.core.site.slate_rules import slate_of

NAME_COST = 1024  # bytes of a slate's size that each name counts for, beside what is in its file


@dataclass(frozen=True, slots=True)
class View:
    """What one client sees of one root. Without a slate all see the same, and cannot write."""

    root: str
    client: str
    slate: SlateKind
    limit: int | None = None  # bytes that the client may write
    own: Mapping[str, str] = field(default_factory=dict)  # files made for it: path and text
    any_port: bool = False  # also from ports that every program of the client may use

    @property
    def export(self) -> str:
        """The name of a slate's export; the number in its handles follows from it."""
        return f"slate/{self.root}/{self.client}"


def version_export(root: str, version: int) -> str:
    """The name of the export of one version of a root, 0 for its working tree."""
    return f"root/{root}/{version}"


def views_of(
    site: Site, who: Who, segment: str, assigned: Assigned = NOT_ASSIGNED
) -> dict[str, View]:
    """By root: one for each root of the loadouts that somebody on `segment` can boot."""
    return {
        root: _view(site, who, segment, root, assigned)
        for root in sorted(roots_of(site, who, segment, assigned))
    }


def all_views(
    site: Site, leases: Leases, assigned: Assigned, now: float
) -> Iterator[tuple[IPv4Address, View]]:
    """What everybody may have whose address is known: by a lease, or by the site file where
    another DHCP server gives it."""
    held = (lease for lease in leases.held(now) if lease.address.version == 4)  # as exports are
    known = {lease.address: (lease.mac, lease.segment) for lease in held}
    for name, client in site.clients.items():
        segment = segment_name(site, client)
        if client.address and segment in site.served and site.segments[segment].dhcp == "off":
            known.setdefault(client.address, (site.clients[name].mac, segment))
    for address, (mac, segment) in known.items():
        if segment in site.served:
            who = by_mac(site, mac, address)
            for view in views_of(site, who, segment, assigned).values():
                yield address, view


def own_files(
    site: Site, who: Who, segment: str, root: str, assigned: Assigned = NOT_ASSIGNED
) -> Mapping[str, str]:
    """The files that one client gets over the image of a root; none where it may change nothing,
    or has the root not as an image."""
    images = roots_of(site, who, segment, assigned, "blocks")
    images |= roots_of(site, who, segment, assigned, "memory")
    return _view(site, who, segment, root, assigned).own if root in images else {}


def check_own(site: Site, only: Collection[str] | None = None) -> list[Finding]:
    """Templates of a root's own files that fail for some client with a slate of it; roots that
    are to tell when a system is up, of which nobody has a slate."""
    findings: dict[tuple[str, str], Finding] = {}
    plain, slated = set(), set()
    for name in representatives(site, only):
        found = effective(site, name)
        segment = found.segment.value if found.segment else ""
        named = (site.loadouts[entry].root for entry in found.entries if entry in site.loadouts)
        roots = {root for root in named if root and root in site.roots}
        for root in sorted(roots) if segment in site.segments else ():
            if slate_of(site, found.client, root) == "none":
                plain.add(root)
                continue
            slated.add(root)
            known = _known(site, found, segment, root, any_address(site.segments[segment]))
            for path, text in site.roots[root].own.items():
                try:
                    render(text, known)
                except FillError as error:
                    problem = f"{path} of the root {root}: {error} (client {name})"
                    remedy = "name what daskel explain --variables CLIENT lists"
                    place = site.origin("root", root, "own", path)
                    finding = Finding(Severity.ERROR, place, problem, remedy)
                    findings.setdefault((root, path), finding)
    for root in sorted(plain - slated if only is None else ()):
        if site.roots[root].up:
            problem = f"up = true puts nothing into the root {root}: no client has a slate of it"
            remedy = f'slate = "fresh", or run the script {up.SCRIPT} in that system yourself'
            finding = Finding(Severity.WARNING, site.origin("root", root, "up"), problem, remedy)
            findings[root, "up"] = finding
    return list(findings.values())


def _view(site: Site, who: Who, segment: str, root: str, assigned: Assigned) -> View:
    found = settings_of(site, who, segment, assigned=assigned)
    kind = slate_of(site, found.client, root) if found and who.name else "none"
    rules = site.roots[root]
    any_port = rules.ports == "any"
    if found is None or who.name is None or kind == "none":
        return View(root, who.name or "", "none", any_port=any_port)
    known = _known(site, found, segment, root, who.address)
    own = {path: _filled(text, known) for path, text in rules.own.items()}
    if rules.up:
        own |= up.files(site.segments[segment].server, Ports().http)
    return View(root, who.name, kind, rules.size, own, any_port)


def _known(
    site: Site, found: Effective, segment: str, root: str, address: Address | None
) -> Mapping[str, object]:
    here = site.segments[segment]
    path = f"{host(here.server)}:{mount_path(site, found, root)}"
    of_files = found.way == "files"
    line = f"{path} / nfs defaults 0 0" if of_files else "overlay / overlay defaults 0 0"
    export = {"name": root, "export": path, "fstab": line}
    return {**variables(site, found, address), "root": export}


def _filled(text: str, known: Mapping[str, object]) -> str:
    try:
        return render(text, known)
    except FillError as error:
        return f"# daskel: {error}\n"
