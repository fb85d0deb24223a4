"""Kernels against the processors of the machines that load them, as their firmware told them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping

from daskel.core.dhcp.pxe import ARCHITECTURES, processor
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import few

_MOST_NAMES = 5


def check_processors(
    site: Site, kernels: Mapping[str, str], architectures: Mapping[str, int]
) -> Iterator[Finding]:
    """A warning for each loadout whose kernel cannot run on a client that can boot it.

    `kernels` are processors by loadout; `architectures` are types (RFC 5970) by MAC address.
    """
    wrong: defaultdict[tuple[str, int], list[str]] = defaultdict(list)
    for name, client in site.clients.items():
        seen = architectures.get(client.mac)
        if seen is None or (runs := processor(seen)) is None:
            continue
        for loadout in effective(site, name).entries:
            if kernels.get(loadout, runs) != runs:
                wrong[loadout, seen].append(name)
    for (loadout, seen), names in wrong.items():
        who = few(names, _MOST_NAMES)
        firmware = ARCHITECTURES[seen]
        problem = f"the kernel of loadout {loadout} is for {kernels[loadout]}, but {who}"
        problem += f" {'boots' if len(names) == 1 else 'boot'} as {firmware}"
        remedy = "give them another loadout, or this one another kernel"
        origin = site.origin("loadout", loadout, "kernel")
        yield Finding(Severity.WARNING, origin, problem, remedy)
