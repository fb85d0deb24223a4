"""A site as it is practised with: all that clients get is the same, and nothing is shared with the
server that runs, or with other networks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from daskel.core.boot.address import Leases, LeaseState
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.tables import Private, Segment

_LEFT_OUT = {"nfs": "daskel", "account": None, "https": None, "metrics": None}


@dataclass(frozen=True, slots=True)
class PracticePlaces:
    """Where what a practice writes is: absolute paths."""

    state: str
    slates: str
    uploads: str
    secret: str  # the tunnel's key
    interface: str  # and its interface, which a server that runs here does not have


def present_addresses(site: Site, leases: Leases) -> dict[str, IPv4Address]:
    """By client, where somebody else gives the addresses: the present one, or one that is free."""
    return {
        name: address
        for segment in site.segments
        if site.segments[segment].dhcp != "full"
        for name, address in _with_addresses(site, segment, leases)
    }


def practised(
    site: Site, places: PracticePlaces, addresses: Mapping[str, IPv4Address], *,
    direct: bool = False,
) -> Site:  # fmt: skip
    """`site`, with another state, and clients with fixed `addresses`. A segment without DHCP is one
    where the other server says what `daskel handoff` prints. `direct`: its clients are on this
    machine's own wires."""
    settings = site.settings.model_copy(update={
        **_LEFT_OUT, "state": places.state, "slates": places.slates, "uploads": places.uploads,
        "private": site.settings.private and _tunnel(site.settings.private, places),
    })  # fmt: skip
    segments = {name: _segment(segment, direct) for name, segment in site.segments.items()}
    fixed = {
        name: site.clients[name].model_copy(update={"address": address})
        for name, address in addresses.items()
    }
    clients = {**site.clients, **fixed}
    return replace(site, settings=settings, segments=segments, clients=clients)


def _tunnel(rules: Private, places: PracticePlaces) -> Private:
    """With a key of its own, to which each machine makes first contact; a TPM is not practised."""
    kept = tuple(place for place in rules.key if place != "tpm") or ("medium",)
    return rules.model_copy(
        update={"secret": places.secret, "interface": places.interface, "key": kept}
    )


def _segment(segment: Segment, direct: bool) -> Segment:
    changed: dict[str, object] = {"dhcp": "full"} if segment.dhcp == "off" else {}
    if direct:
        changed |= {"relays": (), "interface": None}
    return segment.model_copy(update=changed)


def _with_addresses(site: Site, segment: str, leases: Leases) -> Iterator[tuple[str, IPv4Address]]:
    here = site.segments[segment]
    own = [name for name in site.clients if _segment_of(site, name) == segment]
    fixed = {name: site.clients[name].address for name in own if site.clients[name].address}
    used = {here.server, here.router, *fixed.values()}
    free = (a for a in _from_the_end(here) if a not in used)
    for name in own:
        if name not in fixed and (address := _present(leases, segment, site, name) or next(free)):
            yield name, address


def _present(leases: Leases, segment: str, site: Site, name: str) -> IPv4Address | None:
    lease = leases.of(segment, site.clients[name].mac)
    return lease.address if lease and lease.state is not LeaseState.DECLINED else None


def _from_the_end(segment: Segment) -> Iterator[IPv4Address]:
    last = int(segment.network.broadcast_address) - 1
    return (IPv4Address(last - n) for n in range(segment.network.num_addresses - 2))


def _segment_of(site: Site, name: str) -> str | None:
    found = effective(site, name).segment
    return found.value if found else None


def with_copies(site: Site, names: Sequence[str], count: int) -> tuple[Site, dict[str, str]]:
    """A site with `count` clients in all that are like `names`, and which one each is like: the
    first are themselves. Copies have MAC addresses and fixed addresses that nobody has."""
    like = {name: name for name in names[:count]}
    clients = dict(site.clients)
    taken = {int(s.network.network_address) >> 16 & 0xFF for s in site.segments.values()}
    second = next(n for n in range(200, 256) if n not in taken)
    for number in range(count - len(like)):
        of = names[number % len(names)]
        name = f"{of}-copy-{number // len(names) + 1}"
        segment = site.segments[_segment_of(site, of) or ""]
        address = IPv4Address(int(segment.server) & 0xFF000000 | second << 16 | number + 1)
        mac = f"06:00:00:00:{number >> 8:02x}:{number & 0xFF:02x}"
        copied = {
            "mac": mac, "address": address, "address6": None, "uuid": None, "serial": None,
        }  # fmt: skip
        clients[name] = site.clients[of].model_copy(update=copied)
        like[name] = of
    return replace(site, clients=clients), like


def other_server(site: Site, segment: str, places: PracticePlaces) -> Site:
    """What the DHCP server beside Daskel's has: the same addresses, and nothing to boot."""
    here = site.segments[segment]
    own = next(a for a in _from_the_end(here) if a not in site.by_address and a != here.router)
    update = {"server": own, "dhcp": "full", "pool": (), "relays": (), "interface": None,
              "unknown": "address-only", "options": {}, "args": (), "network6": None,
              "server6": None, "pool6": None, "relays6": (), "advertise6": False}  # fmt: skip
    bare: dict[str, object] = {
        "segment": segment,
        "group": (),
        "boot": None,
        "args": (),
        "options": {},
        "boot_file": {},
    }
    clients = {
        name: client.model_copy(update=bare)
        for name, client in site.clients.items()
        if _segment_of(site, name) == segment
    }
    settings = site.settings.model_copy(update={
        "state": places.state, "slates": places.slates, "uploads": places.uploads, "loaders": (),
        "private": None,
    })  # fmt: skip
    there = {segment: here.model_copy(update=update)}
    return replace(
        site, settings=settings, segments=there, roots={}, files={}, uploads={}, groups={},
        clients=clients,
    )  # fmt: skip
