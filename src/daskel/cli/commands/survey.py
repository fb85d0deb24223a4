"""`daskel survey`: what is there before anything is set up. Needs no site file."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping
from itertools import groupby
from pathlib import Path
from typing import Any

from rich.table import Table
from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.core.audit.firewall import Fate
from daskel.core.audit.machine_needs import Need, command, needs
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import SYSTEM, Face, discover
from daskel.core.dhcp.options import Code, show
from daskel.core.dhcp.packet import NOWHERE, Packet
from daskel.core.dhcp.pxe import Firmware, is_uefi
from daskel.core.dhcp6.client_messages import solicit
from daskel.core.site.finding import did_you_mean
from daskel.core.site.survey import free_networks, overlaps
from daskel.core.values import show_size
from daskel.system.host.consoles import Console, consoles
from daskel.system.host.interfaces import Interface, interfaces
from daskel.system.host.lacks import firewall, free, is_fedora, missing
from daskel.system.host.offers import HeardOffer, offers
from daskel.system.host.offers6 import Offer6, Router, heard_over_ipv6
from daskel.system.host.ports import Holder, holder, taken
from daskel.system.sitefile import SiteFile, load

EXAMPLE = ("daskel survey", "daskel survey --wire enp3s0", "daskel survey --packages")
_PORTS = [  # protocol, port, what Daskel needs it for
    ("udp", Ports.dhcp, "DHCP"),
    ("udp", Ports.tftp, "TFTP"),
    ("tcp", Ports.http, "HTTP"),
    ("tcp", 111, "port mapper: tells NFS clients the ports"),
    ("tcp", Ports.nfs, "NFS"),
    ("tcp", Ports.nbd, "NBD, for roots that come as blocks"),
    ("udp", Ports.multicast, "multicast: what clients report of it"),
    ("udp", Ports.pxe, "PXE beside another DHCP server"),
]
_WAIT = 4.0  # seconds for answers: proxies let the other server speak first
_XID, _XID6 = 0x61080000, 0x610800
_PROPOSED = 3
_LITTLE = 5_000_000_000  # bytes: a system or two


def arguments(parser: argparse.ArgumentParser) -> None:
    wire = parser.add_argument(
        "--wire",
        metavar="IFACE",
        help=f"ask there who answers DHCP ({_WAIT:.0f} s; takes no lease), and MOP; needs root",
    )
    wire.completer = lambda **_: [i.name for i in interfaces()]  # type: ignore[attr-defined]
    parser.add_argument(
        "--packages", action="store_true", help="only the command that installs what is missing"
    )
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = _site(args)
    absent = missing(needs(file.site if file else None))
    install = command(absent, is_fedora())
    if args.packages and not output.as_json:
        output.print(install or "Nothing is missing that a package brings.")
        return ExitCode.GOOD
    found = interfaces()
    by_name = {interface.name: list(interface.addresses) for interface in found}
    if args.wire is not None and args.wire not in by_name:
        output.error(f"there is no interface {args.wire}", did_you_mean(args.wire, by_name))
        return ExitCode.WRONG_USE
    ports = [*_PORTS, *_tunnel(file)]
    held = [(*port, holder(port[0], port[1])) for port in ports]
    faces = _faces()
    heard = offers(args.wire, [message for _, message in faces], _WAIT) if args.wire else None
    answered = consoles(args.wire, _WAIT / 2) if args.wire else None
    asked6 = _faces_over_ipv6()
    six, silent = None, ""
    try:
        six = heard_over_ipv6(args.wire, [m for _, m in asked6], _WAIT / 2) if args.wire else None
    except OSError as error:
        silent = f"  it cannot be asked: {error.strerror or error}"
    problems, unused = list(overlaps(by_name)), free_networks(by_name, _PROPOSED)
    filtered = firewall([(protocol, port) for protocol, port, _ in ports])
    space = _space(file)
    if output.as_json:
        servers = None if heard is None else [_server_json(h, faces[h.asked][0]) for h in heard]
        output.json(
            {
                "interfaces": [_interface_json(interface) for interface in found],
                "overlaps": problems,
                "free": [str(network) for network in unused],
                "ports": [_port_json(*port) for port in held],
                "missing": [_need_json(need) for need in absent],
                "install": install or None,
                "firewall": None
                if filtered is None
                else [
                    {"protocol": protocol, "port": port, "fate": fate.value}
                    for (protocol, port), fate in filtered.items()
                ],
                "space": [{"folder": str(path), "free": size} for path, size in space.items()],
                "wire": args.wire,
                "offers": servers,
                "ipv6": None if six is None else _six_json(*six, [name for name, _ in asked6]),
                "consoles": None if answered is None else list(map(_console_json, answered)),
            }
        )
        return ExitCode.GOOD
    _section(output, "Interfaces", _interfaces(found))
    for problem in [*problems, *_cards(found)]:
        output.print(Text(f"  {problem}", style="yellow"))
    _section(output, "Ports", _ports(held))
    if filtered is None:
        output.print(Text("  what a firewall drops is not seen: that needs root and nft", "dim"))
    for line in _filtered(filtered):
        output.print(Text(f"  {line}", style="yellow"))
    _section(output, "Missing here", _absent(absent) if absent else "  nothing")
    if install:
        output.print(Text(f"  {install}", style="green"))
    _section(output, "Free space", _spaces(space))
    _section(output, "Free private networks", "  " + ", ".join(map(str, unused)))
    if heard is not None:
        title = f"Who answers DHCP on {args.wire}"
        _section(output, title, _servers(heard, [name for name, _ in faces]))
        if any(one.offer.yiaddr != NOWHERE for one in heard):
            stays = 'Addresses are given there already; dhcp = "proxy" leaves that as it is.'
            output.print(Text(f"  {stays}", style="green"))
        told = _over_ipv6(*six, [name for name, _ in asked6]) if six else silent
        _section(output, f"Who answers over IPv6 on {args.wire}", told)
        title = f"Who answers in raw Ethernet frames (MOP) on {args.wire}"
        _section(output, title, _consoles(answered or []))
    else:
        output.print("\ndaskel survey --wire IFACE asks one of them who answers DHCP there.")
    return ExitCode.GOOD


def _site(args: argparse.Namespace) -> SiteFile | None:
    """The site file that is here, for what it wants of this machine; none is needed."""
    path = path_of(args)
    return load(path) if args.site is not None or path.exists() else None


def _tunnel(file: SiteFile | None) -> Iterator[tuple[str, int, str]]:
    rules = file.site.settings.private if file and file.site else None
    if rules:
        yield "udp", rules.port, "the tunnel of private roots"


def _cards(found: list[Interface]) -> Iterator[str]:
    """What a server of a network of its own would need."""
    if len(found) == 1:
        yield (f"{found[0].name} is the only network interface: clients on it share the wire with "
               "whoever gives addresses there")  # fmt: skip


def _filtered(found: Mapping[tuple[str, int], Fate] | None) -> Iterator[str]:
    for fate, what in ((Fate.DROPPED, "drops"), (Fate.UNTOLD, "may drop")):
        ports = [f"{port}/{protocol}" for (protocol, port), f in (found or {}).items() if f is fate]
        if ports:
            yield f"the firewall {what} what clients send to {', '.join(ports)}"


def _absent(absent: list[Need]) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    for need in absent:
        style = "yellow" if need.always else "dim"
        kind = "" if need.kind.value in ("program", "folder") else f" ({need.kind.value})"
        table.add_row(
            "", Text(f"{need.name}{kind}", style=style), Text(f"for {need.why}", style="dim")
        )
    return table


def _space(file: SiteFile | None) -> dict[Path, int]:
    """Bytes that are free where the site keeps things."""
    if file is None or file.site is None:
        return {Path.cwd(): free(Path.cwd())}
    return {path: free(path) for path in (file.files, file.roots, file.slates, file.state.parent)}


def _spaces(space: Mapping[Path, int]) -> Table:
    """A line for each disk."""
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    table.add_column(justify="right")
    for size, found in groupby(
        sorted(space.items(), key=lambda pair: pair[1]), lambda pair: pair[1]
    ):
        paths = ", ".join(str(path) for path, _ in found)
        table.add_row("", Text(show_size(size), style="yellow" if size < _LITTLE else ""), paths)
    return table


def _need_json(need: Need) -> dict[str, object]:
    return {
        "what": need.name, "kind": need.kind.value, "why": need.why,
        "debian": need.debian or None, "fedora": need.fedora or None, "always": need.always,
    }  # fmt: skip


def _faces() -> list[tuple[str, Packet]]:
    """A DISCOVER of each kind of firmware, and of a system that only wants an address."""
    mac = "02:61:00:00:00:00"  # the sender puts its own there
    asked = [(kind.value, discover(Face.of(kind), mac, _XID)) for kind in Firmware]
    return [("system", discover(SYSTEM, mac, _XID)), *asked]


def _section(output: Output, title: str, what: Any) -> None:
    output.print(Text(("\n" if title != "Interfaces" else "") + title, style="bold cyan"))
    if isinstance(what, str):
        output.print(what)
    else:
        output.console.print(what, soft_wrap=False)


def _interfaces(found: list[Interface]) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    for interface in found:
        link = Text("link", style="green") if interface.link else Text("no link", style="yellow")
        lines = [
            (str(address), "fixed" if fixed else "from DHCP: a server needs a fixed one")
            for address, fixed in interface.addresses.items()
        ] or [("no address", "")]
        for number, (address, how) in enumerate(lines):
            first = number == 0
            name = Text(interface.name if first else "", style="bold")
            style = "yellow" if how.startswith("from") else "dim"
            mac = Text(interface.hardware if first else "", style="dim")
            table.add_row("", name, link if first else "", address, Text(how, style), mac)
    return table


def _ports(held: list[tuple[str, int, str, Holder | None]]) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    table.add_column(justify="right", style="bold")
    for protocol, port, why, who in held:
        unseen = "some process: run as root to see which" if taken(protocol, port) else ""
        by = str(who or unseen)
        state = Text(f"held by {by}", style="yellow") if by else Text("free", style="green")
        table.add_row("", f"{port}/{protocol}", state, Text(why, style="dim"))
    return table


def _servers(heard: list[HeardOffer], names: list[str]) -> Table | str:
    if not heard:
        return "  nobody"
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    alike: dict[tuple[str, str, str], list[str]] = {}
    for one in sorted(heard, key=lambda h: (h.hardware, h.asked)):
        gives = one.offer.yiaddr != NOWHERE
        address = f"offers {one.offer.yiaddr}" if gives else "adds to another's offer"
        boot = _boot_of(one.offer)
        boot = f"{boot} from {one.offer.siaddr}" if boot and "://" not in boot else boot
        key = (f"{_server_of(one)} ({one.hardware})", address, boot)
        alike.setdefault(key, []).append(names[one.asked])
    told: set[str] = set()
    for (who, address, boot), faces in alike.items():
        if who not in told:
            told.add(who)
            table.add_row("", Text(who, style="bold"))
        shown = f"boot file {boot}" if boot else Text("no boot file", style="dim")
        table.add_row("", f"  {address}", shown, Text(f"to {', '.join(faces)}", style="dim"))
    return table


def _faces_over_ipv6() -> list[tuple[str, bytes]]:
    """A SOLICIT of each kind of firmware that asks over IPv6."""
    mac = "02:61:00:00:00:01"  # no real machine's
    kinds = [kind for kind in Firmware if is_uefi(kind.architecture)]
    return [
        (kind.value, solicit(mac, kind.architecture, Face.of(kind).vendor_class, _XID6 + number))
        for number, kind in enumerate(kinds)
    ]


def _over_ipv6(routers: list[Router], offers: list[Offer6], names: list[str]) -> Table | str:
    if not routers and not offers:
        return "  nobody"
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    for router in routers:
        told = ", ".join(
            f"{one.network} ({'addresses of their own' if one.slaac else 'addresses by DHCPv6'})"
            for one in router.networks
        )
        kind = "router" if router.routes else "tells of networks, and is not a router"
        table.add_row("", Text(str(router.address), style="bold"), kind, Text(told, style="dim"))
    alike: dict[tuple[str, str, str], list[str]] = {}
    for one in sorted(offers, key=lambda o: (str(o.address), o.asked)):
        address, boot = one.offer.address, one.offer.boot_file
        gives = f"offers {address}" if address else "offers no address"
        key = (str(one.address), gives, f"boot file {boot}" if boot else "no boot file")
        alike.setdefault(key, []).append(names[one.asked])
    for (who, gives, boot), faces in alike.items():
        to = Text(f"{boot} to {', '.join(faces)}", style="dim")
        table.add_row("", Text(who, style="bold"), f"DHCPv6: {gives}", to)
    return table


def _six_json(routers: list[Router], offers: list[Offer6], names: list[str]) -> dict[str, object]:
    return {
        "routers": [
            {
                "address": str(one.address), "routes": one.routes, "by_dhcp": one.by_dhcp,
                "networks": [{"network": str(n.network), "slaac": n.slaac} for n in one.networks],
            }
            for one in routers
        ],
        "offers": [
            {
                "server": str(one.address), "asked_as": names[one.asked],
                "address": str(one.offer.address) if one.offer.address else None,
                "boot_file": one.offer.boot_file or None,
            }
            for one in offers
        ],
    }  # fmt: skip


def _consoles(answered: list[Console]) -> Table | str:
    if not answered:
        return "  nobody"
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    for one in answered:
        table.add_row(
            "", Text(one.mac, style="bold"), one.told.device,
            Text(", ".join((*one.told.functions, *one.told.more)), style="dim"),
        )  # fmt: skip
    return table


def _console_json(one: Console) -> dict[str, object]:
    functions = list(one.told.functions)
    more = list(one.told.more)
    return {"mac": one.mac, "device": one.told.device, "functions": functions, "more": more}


def _server_of(one: HeardOffer) -> str:
    return str(one.offer.address_option(Code.SERVER_ID) or one.address)


def _boot_of(offer: Packet) -> str:
    named = offer.options.get(Code.BOOT_FILE, b"") or offer.file
    return show(Code.BOOT_FILE, named) if named else ""


def _interface_json(interface: Interface) -> dict[str, object]:
    own = [{"address": str(a), "fixed": fixed} for a, fixed in interface.addresses.items()]
    return {
        "name": interface.name, "mac": interface.hardware or None, "link": interface.link,
        "addresses": own,
    }  # fmt: skip


def _port_json(protocol: str, port: int, why: str, who: Holder | None) -> dict[str, object]:
    by = {"process": who.pid, "name": who.name} if who else None
    return {
        "port": port, "protocol": protocol, "for": why, "free": not taken(protocol, port), "by": by,
    }  # fmt: skip


def _server_json(one: HeardOffer, face: str) -> dict[str, object]:
    offer = one.offer
    options = {str(code): value.hex() for code, value in offer.options.items()}
    return {
        "server": _server_of(one), "mac": one.hardware, "asked_as": face,
        "address": str(offer.yiaddr) if offer.yiaddr != NOWHERE else None,
        "next_server": str(offer.siaddr) if offer.siaddr != NOWHERE else None,
        "boot_file": _boot_of(offer) or None,
        "options": options,
    }  # fmt: skip
