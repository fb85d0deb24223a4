"""What is wrong with a site that can be understood: addresses, files, names, arguments."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping
from ipaddress import IPv4Address
from itertools import combinations
from typing import Any

from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.key_types import HOST_NAME, SLAAC
from daskel.core.site.layers import Effective, effective, segment_name, unheard
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.tables import Segment


def check(site: Site, only: Collection[str] | None = None) -> list[Finding]:
    """All findings that need no look at this machine, in no order; `only` looks closely at some
    clients alone."""
    found = [effective(site, name) for name in site.clients if only is None or name in only]
    return [
        *_segments(site),
        *_loadouts(site),
        *_limits(site),
        *_clients(site, found),
        *_duplicates(site),
        *_same_place(site),
        *_pool_sizes(site),
        *_ipv6(site, only),
        *_servers(site),
        *(_unused(site) if only is None else ()),
    ]


def _error(site: Site, path: tuple[str | int, ...], problem: str, remedy: str) -> Finding:
    return Finding(Severity.ERROR, site.positions.of(path), problem, remedy)


def _limits(site: Site) -> Iterator[Finding]:
    """What the operating system's NFS server does not keep to."""
    for name, root in site.roots.items():
        if site.settings.nfs == "kernel" and root.size is not None:
            origin = site.positions.of(("root", name, "size"))
            problem = 'a slate has no limit with nfs = "kernel"'
            remedy = "set a quota for the folder of slates, or leave one of the two out"
            yield Finding(Severity.WARNING, origin, problem, remedy)


def _unused(site: Site) -> Iterator[Finding]:
    """Tables that nobody uses: perhaps a slip, perhaps kept for later."""
    boots: set[str | None] = {client.boot for client in site.clients.values()}
    boots |= {group.boot for group in site.groups.values()}
    boots |= {segment.unknown for segment in site.segments.values()}
    loadouts = boots | {entry for choice in site.choices.values() for entry in choice.entries}
    layers = (site.settings, *site.segments.values(), *site.groups.values())
    tables = (*layers, *site.loadouts.values(), *site.clients.values())
    named = {name for table in tables for name in table.options}
    used: dict[str, set[str | None]] = {
        "root": set[str | None](loadout.root for loadout in site.loadouts.values()),
        "loadout": loadouts,
        "choice": boots,
        "group": set[str | None](n for client in site.clients.values() for n in client.group),
        "option": set[str | None](option.inside for option in site.options.values()) | named,
    }
    kinds: dict[str, Mapping[str, object]] = {
        "root": site.roots, "loadout": site.loadouts, "choice": site.choices,
        "group": site.groups, "option": site.options,
    }  # fmt: skip
    for kind, there in kinds.items():
        for name in there:
            if name not in used[kind]:
                origin = site.positions.of((kind, name), key=True)
                problem = f"nothing uses the {kind} {name}"
                yield Finding(Severity.NOTE, origin, problem, "remove it, or leave it for later")


def _segments(site: Site) -> Iterator[Finding]:
    for name, segment in site.segments.items():
        yield from _segment(site, name, segment)
    for (a, one), (b, other) in combinations(site.segments.items(), 2):
        if one.network.overlaps(other.network):
            problem = f"segment {b} ({other.network}) overlaps segment {a} ({one.network})"
            yield _error(site, ("segment", b, "network"), problem, "give each its own network")


def _servers(site: Site) -> Iterator[Finding]:
    """Several servers of one site."""
    if not site.servers:
        return
    if len(site.servers) > 1 and "://" not in site.settings.state:
        problem = f"{len(site.servers)} servers cannot share a store that is a file"
        remedy = 'name a database: state = "postgresql://..."'
        yield _error(site, ("site", "state"), problem, remedy)
    for name, segment in site.segments.items():
        having = {one: s.addresses[name] for one, s in site.servers.items() if name in s.addresses}
        if not having and segment.enabled:
            problem = f"no server has an address on segment {name}"
            remedy = f'add one to addresses in a [server.NAME]: {name} = "{segment.server}"'
            yield _error(site, ("segment", name), problem, remedy)
        having6 = [one for one, s in site.servers.items() if name in s.addresses6]
        if segment.server6 and not having6 and len(site.servers) > 1:
            problem = f"{segment.server6} would be the IPv6 address of every server on {name}"
            remedy = f'give each its own: addresses6 = {{ {name} = "{segment.server6}" }}'
            yield _error(site, ("segment", name, "server6"), problem, remedy)
        for one, address in having.items():
            place = ("server", one, "addresses", name)
            yield from _server_address(site, place, name, address)
            first = next(other for other, its in having.items() if its == address)
            if first != one:
                problem = f"{one} has the address {address}, which {first} has already"
                yield _error(site, place, problem, "give each server its own")


def _server_address(
    site: Site, place: tuple[str | int, ...], name: str, address: IPv4Address
) -> Iterator[Finding]:
    segment = site.segments[name]
    if address == segment.server:  # which is looked at with its segment
        return
    if not segment.relays:
        yield from _host_address(site, place, "server", address, segment)
    for part in segment.pool:
        if address in part:
            problem = f"pool {part} contains the server address {address}"
            yield _error(site, place, problem, "let the pool begin or end beside it")
    if address in site.by_address:
        problem = f"the address {address} is {site.by_address[address]}'s"
        yield _error(site, place, problem, "choose another address")


def _ipv6(site: Site, only: Collection[str] | None) -> Iterator[Finding]:
    """The same of what the site says about IPv6, where it does."""
    said = [n for n, s in site.segments.items() if any(getattr(s, key) for key in _OF_IPV6)]
    fixed = [n for n, c in site.clients.items() if c.address6 and (only is None or n in only)]
    if not said and not fixed:
        return
    for name in said:
        yield from _whole_ipv6(site, name, site.segments[name])
    six = over_ipv6(site)
    yield from _segments(six)
    yield from _duplicates(six, ("address",))
    for name in fixed:
        found = effective(six, name)
        here = found.segment.value if found.segment else None
        if here in six.segments:
            yield from _client_address(six, found)
        elif here in site.segments:
            problem = f"{name} has an IPv6 address, and its segment {here} has no IPv6 network"
            remedy = f"add network6 = ... to [segment.{here}]"
            yield _error(site, ("client", name, "address6"), problem, remedy)


_OF_IPV6 = ("network6", "server6", "pool6", "relays6", "advertise6")


def _whole_ipv6(site: Site, name: str, segment: Segment) -> Iterator[Finding]:
    """What belongs together is there."""
    first = next(key for key in _OF_IPV6 if getattr(segment, key))
    for key, example in (("network6", "fd61:8::/64"), ("server6", "fd61:8::1")):
        if getattr(segment, key) is None:
            problem = f"segment {name} has {first}, and no {key}"
            yield _error(site, ("segment", name, first), problem, f'add {key} = "{example}"')
    length = segment.network6.prefixlen if segment.network6 else 64
    if segment.pool6 == SLAAC and length != 64:
        problem = (
            f"machines make addresses of their own in a network of 64 bits alone, not {length}"
        )
        remedy = "write pool6 as ranges, or a network6 that ends with /64"
        yield _error(site, ("segment", name, "pool6"), problem, remedy)
    if segment.network6 and site.settings.nfs == "kernel":
        problem = 'roots come over IPv4 with nfs = "kernel", also to machines that boot over IPv6'
        origin = site.positions.of(("segment", name, "network6"))
        yield Finding(Severity.NOTE, origin, problem, 'leave nfs = "kernel" out for IPv6 alone')


def _segment(site: Site, name: str, segment: Segment) -> Iterator[Finding]:
    for key in ("server", "router"):
        address: IPv4Address | None = getattr(segment, key)
        far = key == "server" and segment.relays  # its clients come through a relay agent
        if address is not None and not far:
            yield from _host_address(site, ("segment", name, key), key, address, segment)
    first = site.segments.get(segment.shares or "")
    if segment.shares == name or (first is not None and first.shares is not None):
        remedy = "name the one segment whose interface it is"
        yield _error(
            site, ("segment", name, "shares"), f"segment {name} shares no wire that way", remedy
        )
    elif first is not None and first.dhcp != segment.dhcp:
        problem = (
            f'segments {name} and {segment.shares} are on one wire, with dhcp = "{segment.dhcp}"'
        )
        problem += f' and "{first.dhcp}"'
        yield _error(site, ("segment", name, "dhcp"), problem, "write the same for both")
    if segment.pool and segment.dhcp != "full":
        problem = f"segment {name} has a pool, and another DHCP server gives the addresses"
        origin = site.positions.of(("segment", name, "pool"), key=True)
        yield Finding(Severity.NOTE, origin, problem, 'remove it, or write dhcp = "full"')
    for index, part in enumerate(segment.pool):
        place = ("segment", name, "pool", index)
        if part.first not in segment.network or part.last not in segment.network:
            remedy = f"choose addresses from {segment.network}"
            yield _error(site, place, f"pool {part} is not inside {segment.network}", remedy)
        taken = {"server": segment.server, "router": segment.router}
        taken |= {"network": segment.network[0], "broadcast": segment.network[-1]}
        for what, own in taken.items():
            if own in part:
                problem = f"pool {part} contains the {what} address {own}"
                yield _error(site, place, problem, "let the pool begin or end beside it")
    for (_, one), (j, other) in combinations(enumerate(segment.pool), 2):
        if one.first <= other.last and other.first <= one.last:
            problem = f"pool {other} overlaps pool {one}"
            yield _error(site, ("segment", name, "pool", j), problem, "write each address once")


def _host_address(
    site: Site, place: tuple[str | int, ...], what: str, address: IPv4Address, segment: Segment
) -> Iterator[Finding]:
    """An address must lie in the network, and be neither its first nor its last."""
    network = segment.network
    if address not in network:
        problem = f"{what} {address} is not inside the network {network}"
        yield _error(site, place, problem, f"choose an address from {network}")
    elif network.prefixlen < 31 and address in (network[0], network[-1]):
        which = "network" if address == network[0] else "broadcast"
        problem = f"{what} {address} is the {which} address of {network}"
        yield _error(site, place, problem, "choose another address")


def _loadouts(site: Site) -> Iterator[Finding]:
    for name, loadout in site.loadouts.items():
        place = ("loadout", name)
        if loadout.boot == "local" and (loadout.kernel or loadout.root or loadout.initrd):
            problem = f'loadout {name} has boot = "local" and also a kernel, initrd or root'
            yield _error(site, (*place, "boot"), problem, "keep one of the two")
        elif loadout.kernel is None and loadout.root is not None:
            problem = f"loadout {name} has no kernel, and its root {loadout.root} has none in /boot"
            remedy = "install one (daskel root edit), or name another: kernel = ..."
            yield _error(site, place, problem, remedy)
        elif loadout.kernel is None and not loadout.leaves:
            remedy = 'add kernel = "...", or boot = "local" for the client\'s own disk'
            yield _error(site, place, f"loadout {name} has no kernel", remedy)


def _clients(site: Site, found: list[Effective]) -> Iterator[Finding]:
    for client in found:
        place = ("client", client.name)
        if not HOST_NAME.fullmatch(client.name):
            remedy = "use letters, digits and dashes, 63 at most"
            yield _error(site, place, f"{client.name!r} is not a host name", remedy)
        if client.boot is None:
            remedy = "add boot = ... to it or to its group"
            problem = f"client {client.name} has nothing to boot"
            yield Finding(Severity.WARNING, site.positions.of(place), problem, remedy)
        yield from _client_address(site, client)
        yield from _raw_clients(site, client)


def _raw_clients(site: Site, client: Effective) -> Iterator[Finding]:
    """A machine that asks in raw Ethernet frames, where nobody listens."""
    if where := unheard(site, client):
        problem = f"{client.name} asks in raw Ethernet frames, and segment {where} does not listen"
        origin = site.origin("client", client.name)
        yield Finding(Severity.WARNING, origin, problem, f"add raw = true to [segment.{where}]")


def _client_address(site: Site, client: Effective) -> Iterator[Finding]:
    if client.segment is None:
        remedy = did_you_mean("", site.segments)
        problem = f"client {client.name} is on no segment"
        yield _error(site, ("client", client.name), problem, f"add segment = ...; {remedy}")
        return
    segment = site.segments.get(client.segment.value)
    if segment is None or client.address is None:
        return
    address, place = client.address.value, ("client", client.name, "address")
    yield from _host_address(site, place, f"{client.name}'s address", address, segment)
    for what in ("server", "router"):
        if getattr(segment, what) == address:
            problem = f"{client.name}'s address {address} is the {what}'s"
            yield _error(site, place, problem, "choose another address")
    for part in segment.pool:
        if address in part:
            problem = f"{client.name}'s fixed address {address} lies in the pool {part}"
            yield _error(site, place, problem, "choose one outside of it, or shorten the pool")


def _duplicates(site: Site, keys: Collection[str] = ("mac", "address")) -> Iterator[Finding]:
    macs: Mapping[str, list[str]] = defaultdict(list)
    addresses: Mapping[IPv4Address, list[str]] = defaultdict(list)
    for name, client in site.clients.items():
        macs[client.mac].append(name)
        if client.address:
            addresses[client.address].append(name)
    found: dict[str, Mapping[Any, list[str]]] = {"mac": macs, "address": addresses}
    for key, groups in ((key, found[key]) for key in keys):
        for value, names in groups.items():
            for other in names[1:]:
                what = "MAC address" if key == "mac" else "address"
                problem = f"{other} has the {what} {value}, which {names[0]} has already"
                first = site.origin("client", names[0], key)
                remedy = f"change one of the two ({first} is the other)"
                yield _error(site, ("client", other, key), problem, remedy)


def _same_place(site: Site) -> Iterator[Finding]:
    """Two machines of one segment at one place of the room."""
    taken: dict[tuple[str | None, str], str] = {}
    for name, client in site.clients.items():
        if client.place:
            first = taken.setdefault((segment_name(site, client), client.place), name)
            if first != name:
                origin = site.positions.of(("client", name, "place"))
                problem = f"{name} stands at {client.place}, where {first} stands already"
                yield Finding(Severity.WARNING, origin, problem, "give each a place of its own")


def _pool_sizes(site: Site) -> Iterator[Finding]:
    """Clients without a fixed address need a place in the pool, but those that know no IP."""
    need: defaultdict[str, int] = defaultdict(int)
    without = {n for n, loadout in site.loadouts.items() if loadout.in_raw_frames}
    for name, client in site.clients.items():
        segment_given = segment_name(site, client)
        if without and effective(site, name).loadout_name in without:
            continue
        if segment_given and client.address is None:
            need[segment_given] += 1
    for name, segment in site.segments.items():
        if segment.dhcp != "full":
            continue
        size = sum(part.size for part in segment.pool)
        if need[name] > size:
            have = f"its pool has {size}" if size else "it has no pool"
            clients = "client needs" if need[name] == 1 else "clients need"
            problem = f"{need[name]} {clients} an address from segment {name}, and {have}"
            place = ("segment", name, "pool") if segment.pool else ("segment", name)
            yield _error(site, place, problem, "enlarge the pool, or give them fixed addresses")
