"""Ways in which a root cannot come to a client, before the client sees it."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from daskel.core.boot.arguments import representatives
from daskel.core.boot.segments import behind_relays
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.slate_rules import slate_rule


def check_deliveries(site: Site, only: Collection[str] | None = None) -> Iterator[Finding]:
    """What is kept cannot be in memory; the operating system's NFS server has no blocks; what is
    sent to many does not pass through routers."""
    for name, segment in site.segments.items():
        if segment.multicast and behind_relays(segment):
            problem = f"{name} is behind a relay agent, and multicast does not pass through routers"
            remedy = "leave it out: its clients get their images over HTTP all the same"
            origin = site.origin("segment", name, "multicast")
            yield Finding(Severity.WARNING, origin, problem, remedy)
    said = set()
    for name in representatives(site, only):
        for entry in effective(site, name).entries:
            found = effective(site, name, None, entry)
            if found.loadout is None or found.delivery is None or found.loadout.root is None:
                continue
            slate = slate_rule(site, name, found.client, found.loadout.root)
            problem, remedy = "", ""
            if found.way == "memory" and slate.value == "keep":
                problem = f"{name} gets its root into memory, and is to keep what it changes "
                problem += f"({slate.origin}): memory is lost when it is switched off"
                remedy = 'delivery = "blocks" or "files" keeps it; or slate = "fresh"'
            elif found.way == "blocks" and site.settings.nfs == "kernel":
                problem = 'delivery = "blocks" is served by Daskel itself, not with nfs = "kernel"'
                remedy = 'delivery = "memory" or "files", or leave out nfs = "kernel" in [site]'
            if problem and (found.delivery.origin, remedy) not in said:
                said.add((found.delivery.origin, remedy))
                yield Finding(Severity.ERROR, found.delivery.origin, problem, remedy)
