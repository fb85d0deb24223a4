"""Who asks: a MAC address or an address becomes a client of the site, or somebody unknown."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases
from daskel.core.history.events import Refusal, Who
from daskel.core.site.key_types import Delivery
from daskel.core.site.layers import NOT_ASSIGNED, Assigned, Effective, effective, stranger
from daskel.core.site.model import Site
from daskel.core.site.private import private_roots
from daskel.core.site.remembered import remembered
from daskel.core.site.slate_rules import on_its_slate


def by_mac(site: Site, mac: str, address: IPv4Address | None = None) -> Who:
    """The machine with this MAC address, with its name when it is in the site."""
    return Who(site.by_mac.get(mac), mac, address)


def by_address(site: Site, leases: Leases, address: IPv4Address, now: float) -> Who:
    """The machine that has the lease of `address`, else the client whose fixed address it is."""
    mac = leases.machine_at(address, now)
    if mac:
        return by_mac(site, mac, address)
    name = site.by_address.get(address)
    return Who(name, site.clients[name].mac, address) if name else Who(address=address)


def settings_of(
    site: Site, who: Who, segment: str, entry: str | None = None,
    assigned: Assigned = NOT_ASSIGNED,
) -> Effective | None:  # fmt: skip
    """What the site says about somebody on `segment`; None when not even a MAC address is known."""
    if who.name is not None:
        found = effective(site, who.name, segment, entry, assigned.waiting.get(who.name))
        return on_its_slate(site, found, assigned)
    return stranger(site, who.mac, segment, entry) if who.mac else None


def waits(site: Site, who: Who, segment: str) -> bool:
    """A machine that is not in the site, on a segment whose unknown machines wait in the lobby."""
    return who.name is None and site.segments[segment].unknown == "lobby"


@dataclass(frozen=True, slots=True)
class Denial:
    """Why a machine gets nothing at all, and in words with the line that says so."""

    why: Refusal
    words: str


def refusal(site: Site, mac: str, segment: str) -> Denial | None:
    """Why a machine gets nothing at all on `segment`."""
    rules = site.segments[segment]
    for index, prefix in enumerate(rules.refuse):
        if mac.startswith(prefix):
            line = site.origin("segment", segment, "refuse", index)
            return Denial(Refusal.LISTED, f"refused by {line} ({prefix})")
    if mac in site.by_mac:
        return None
    if rules.allow and not mac.startswith(rules.allow):
        line = site.origin("segment", segment, "allow")
        return Denial(Refusal.NOT_LISTED, f"not in the list {line}")
    if rules.unknown == "refuse":
        line = site.origin("segment", segment, "unknown")
        return Denial(Refusal.NOT_IN_SITE, f"not in the site ({line} says refuse)")
    return None


def roots_of(
    site: Site, who: Who, segment: str, assigned: Assigned = NOT_ASSIGNED,
    way: Delivery = "files",
) -> frozenset[str]:  # fmt: skip
    """The roots that somebody on `segment` may have in one way: those of every loadout that it can
    boot, and of the one that it was started with for one boot. Private ones are in the tunnel
    alone, and nothing else is."""
    found = settings_of(site, who, segment, assigned=assigned)
    names = [*found.entries] if found else []
    running = assigned.running.get(who.name or "", "")
    names += [running] if running in site.loadouts else []
    private = private_roots(site)
    if site.tunnel and who.name is None:
        return frozenset()
    if not _in_other_ways(site):
        roots = [site.loadouts[name].root for name in names] if way == "files" else []
        return frozenset(root for root in roots if root and (root in private) is site.tunnel)
    whole = (settings_of(site, who, segment, name, assigned) for name in names)
    return frozenset(
        one.loadout.root for one in whole
        if one and one.loadout and one.loadout.root and one.way == way
        and (one.loadout.root in private) is site.tunnel
    )  # fmt: skip


@remembered
def _in_other_ways(site: Site) -> bool:
    """Whether some root does not come as files: most sites have none."""
    layers = (site.roots, site.loadouts, site.groups, site.clients)
    said = (table.delivery for tables in layers for table in tables.values())
    return any(way not in (None, "files") for way in said)
