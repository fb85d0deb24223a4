"""Which firmware clients have: as the site file says, else as they were seen last."""

from __future__ import annotations

from collections.abc import Mapping

from daskel.core.dhcp.pxe import architecture_number
from daskel.core.site.layers import effective
from daskel.core.site.model import Site


def written(site: Site, name: str) -> int | None:
    """The architecture type that the site file says for a client; None where it says none."""
    found = effective(site, name).firmware
    return architecture_number(found.value) if found else None


def expected(site: Site, seen: Mapping[str, int]) -> dict[str, int]:
    """Architecture types by MAC address; `seen`: those that machines sent last."""
    known = dict(seen)
    for name, client in site.clients.items():
        number = written(site, name)
        if number is not None:
            known[client.mac] = number
    return known
