"""`daskel handoff`: what must be typed into somebody else's DHCP server."""

from __future__ import annotations

import argparse
from itertools import groupby
from typing import Any

from rich.table import Table
from rich.text import Text

from daskel.cli.output import ExitCode, Output, origin_json
from daskel.cli.site import json_argument, open_site, path_of, server_argument, site_argument
from daskel.core.audit.handoff import (
    ALWAYS,
    Part,
    Row,
    clients_of,
    for_the_chain,
    handoff,
    handoff_over_ipv6,
    machines,
    same_machine,
    zone,
)
from daskel.core.site.finding import did_you_mean
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.system.sitefile import load

EXAMPLE = (
    "daskel handoff library",
    "daskel handoff library --client lib-01",
    "daskel handoff library --ipv6",
    "daskel handoff tideroom --dns",
)
_LEAD = {
    "full": "Daskel is the DHCP server on {segment}. In its place another one would have to send:",
    "off": "Type this into the DHCP server of {segment} ({network}):",
    "proxy": "On {segment} Daskel adds all this itself, beside the other DHCP server. Only where "
    "the other server runs on this very machine must it be told:",
}
_LEAD_OVER_IPV6 = {
    "full": "Daskel is the DHCPv6 server of {segment}. Another in its place would have to send:",
    "off": "Type this into the DHCPv6 server of {segment} ({network}):",
}
_CHAIN = "The signed GRUB of Secure Boot takes its server from the other one's replies alone:"
_MOST_NAMES = 4


def arguments(parser: argparse.ArgumentParser) -> None:
    segment = parser.add_argument("segment", metavar="SEGMENT", help="its name")
    segment.completer = _segments  # type: ignore[attr-defined]
    parser.add_argument("--client", metavar="CLIENT", help="only what this one needs")
    parser.add_argument(
        "--dns", action="store_true", help="as DNS records, in the form of a zone file"
    )
    parser.add_argument(
        "--ipv6", action="store_true", help="for a DHCPv6 server, and firmware that asks there"
    )
    server_argument(parser, "for this one of the site's servers")
    site_argument(parser)
    json_argument(parser)


def _segments(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    file = load(path_of(parsed_args))
    return list(file.valid.segments) if file.valid else []


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=False)
    site = file.valid
    if args.segment not in site.segments:
        known = did_you_mean(args.segment, site.segments)
        output.error(f"there is no segment {args.segment!r}", known)
        return ExitCode.WRONG_USE
    clients = clients_of(site, args.segment)
    if args.client is not None and args.client not in clients:
        problem = f"there is no client {args.client!r} on {args.segment}"
        output.error(problem, did_you_mean(args.client, clients))
        return ExitCode.WRONG_USE
    chosen = [args.client] if args.client else clients
    if args.dns:
        return _zone(output, site, args.segment, chosen)
    if args.ipv6 and site.segments[args.segment].network6 is None:
        problem = f"segment {args.segment} has no IPv6 network"
        output.error(problem, f"add network6 = ... to [segment.{args.segment}]")
        return ExitCode.BAD_NEWS
    if not clients:
        output.error(f"segment {args.segment} has no clients", "daskel client add --help")
        return ExitCode.BAD_NEWS
    _show(output, over_ipv6(site) if args.ipv6 else site, args.segment, chosen)
    return ExitCode.GOOD


def _zone(output: Output, site: Site, segment: str, clients: list[str]) -> ExitCode:
    try:
        lines = zone(site, segment, clients)
    except ValueError as error:
        output.error(str(error), "an SRV record needs the name of a zone")
        return ExitCode.BAD_NEWS
    if output.as_json:
        output.json({"segment": segment, "zone": lines})
    else:
        output.print("\n".join(lines))
    return ExitCode.GOOD


def _show(output: Output, site: Site, segment: str, clients: list[str]) -> None:
    here = site.segments[segment]
    beside, six = here.dhcp == "proxy", bool(site.ipv4)
    chain = for_the_chain(site, segment, clients) if beside else []
    typed = handoff_over_ipv6 if six else handoff
    parts = [same_machine(site), *chain] if beside else typed(site, segment, clients)
    if output.as_json:
        own = [
            {"client": m.name, "mac": m.mac, "address": str(m.address) if m.address else None}
            for m in machines(site, clients)
        ]
        shown = [_json(part) for part in parts]
        output.json({
            "segment": segment, "dhcp": here.dhcp, "server": site.own, "parts": shown,
            "machines": own,
        })  # fmt: skip
        return
    lead = (_LEAD_OVER_IPV6 if six else _LEAD)[here.dhcp]
    output.print(lead.format(segment=segment, network=here.network))
    for part in parts:
        if part in chain:
            output.print()
            output.print(_CHAIN)
        for condition, rows in groupby(part.rows, key=lambda row: row.condition):
            output.print()
            output.print(Text(_heading(part, condition), style="bold cyan"))
            output.console.print(_table(list(rows)), soft_wrap=False)

    if not beside:
        output.print()
        output.print(Text("To each machine its own", style="bold cyan"))
        output.console.print(_machines(site, clients, six=six), soft_wrap=False)
    others = [name for name, one in site.servers.items() if segment in one.addresses]
    for name in others if site.own else ():
        if name != site.own:
            output.print()
            output.print(f"This is for the server {site.own}. In its place, for machines that boot "
                         f"from {name}: daskel handoff {segment} --as {name}")  # fmt: skip


def _machines(site: Site, clients: list[str], *, six: bool) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=1)
    for machine in machines(site, clients):
        address = str(machine.address or "any address")
        name = Text(machine.name, style="green")
        named = () if six else (Text("12", style="bold"), "host-name")  # no option of DHCPv6
        table.add_row("", machine.mac, address, *named, name)
    return table


def _heading(part: Part, condition: str) -> str:
    more = len(part.clients) - _MOST_NAMES
    names = ", ".join(part.clients[:_MOST_NAMES]) + (f" and {more} more" if more > 0 else "")
    if condition == ALWAYS:
        return f"To {names}" if names else "To every machine"
    return f"To {names or 'machines'} whose firmware sends {condition}"


def _table(rows: list[Row]) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=1)
    table.add_column(justify="right", style="bold", min_width=3)
    table.add_column(no_wrap=True, min_width=18)
    table.add_column(style="dim", no_wrap=True, min_width=9)
    table.add_column(overflow="fold", style="green", min_width=24)
    table.add_column(overflow="fold", style="dim")
    for row in rows:
        number = str(row.number) if row.number is not None else ""
        table.add_row("", number, row.name, row.type, Text(row.value), row.data.hex(" "))
    return table


def _json(part: Part) -> dict[str, object]:
    return {
        "clients": list(part.clients) or None,
        "rows": [
            {
                "condition": None if row.condition == ALWAYS else row.condition,
                "option": row.number,
                "name": row.name,
                "type": row.type,
                "value": row.value,
                "hex": row.data.hex(),
                "from": origin_json(row.origin),
            }
            for row in part.rows
        ],
    }
