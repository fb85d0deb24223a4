"""What is wrong for machines that boot over IPv6 alone, and right for all others."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import replace

from daskel.core.boot.arguments import check_arguments, knows_ipv6, representatives
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import check_files
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import effective, segment_name
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6


def check_ipv6(site: Site, ports: Ports, only: Collection[str] | None) -> Iterator[Finding]:
    """Templates that cannot be filled in there, and roots that come over IPv4 although Daskel gives
    no addresses of it."""
    six = over_ipv6(site)
    there = {n for n, c in six.clients.items() if segment_name(six, c) in six.segments}
    names = [name for name in (six.clients if only is None else only) if name in there]
    if not names:
        return
    known = {
        str(f) for f in (*check_arguments(site, ports, names), *check_files(site, ports, names))
    }
    for finding in (*check_arguments(six, ports, names), *check_files(six, ports, names)):
        if str(finding) not in known:
            yield replace(finding, problem=f"over IPv6: {finding.problem}")
    said = set()
    for name in representatives(six, names):
        for entry in effective(six, name).entries:
            found = effective(six, name, entry=entry)
            here = site.segments.get(found.segment.value) if found.segment else None
            if here is None or not here.network6 or here.dhcp != "off" or entry in said:
                continue
            if found.loadout and found.loadout.root and not knows_ipv6(six, found):
                said.add(entry)
                problem = f"machines that boot {entry} over IPv6 mount its root over IPv4"
                remedy = (
                    f"boot the kernel of a sealed version: daskel root seal {found.loadout.root}"
                )
                yield Finding(Severity.NOTE, site.origin("loadout", entry), problem, remedy)
