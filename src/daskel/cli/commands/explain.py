"""`daskel explain`: what one client gets, step by step, and from which line."""

from __future__ import annotations

import argparse

from rich.table import Table
from rich.text import Text

from daskel.cli.completing import names_of
from daskel.cli.explanations import explain_client, show
from daskel.cli.output import ExitCode, Output, origin_json, short_place
from daskel.cli.site import json_argument, open_site, server_argument, site_argument
from daskel.core.audit.explain import Explanation
from daskel.core.boot.arguments import variables
from daskel.core.dhcp.pxe import Firmware, is_uefi
from daskel.core.site.finding import did_you_mean
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.values import parse_mac
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel explain tide-01",
    "daskel explain 02:61:08:00:00:01 --firmware uefi-x64",
    "daskel explain lib-01 --ipv6",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    client = parser.add_argument("client", metavar="CLIENT", help="its name or MAC address")
    client.completer = names_of(["client"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--firmware",
        choices=[firmware.value for firmware in Firmware],
        help="how it asks (default: as the site file says, as it was last seen, else bios)",
    )
    parser.add_argument(
        "--ipv6", action="store_true", help="what it gets when its firmware asks over IPv6"
    )
    parser.add_argument(
        "--all", action="store_true", help="show also what stronger layers have overridden"
    )
    parser.add_argument(
        "--variables", action="store_true", help="show what templates can name for this client"
    )
    server_argument(parser, "what this one of the site's servers gives it")
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=False)
    name = _name(file, args.client)
    if name is None:
        output.error(
            f"there is no client {args.client!r}", did_you_mean(args.client, file.valid.clients)
        )
        return ExitCode.WRONG_USE
    if args.variables:
        return _variables(output, file.valid, name)
    if args.ipv6 and args.firmware and not is_uefi(Firmware(args.firmware).architecture):
        output.error(f"firmware {args.firmware} does not ask over IPv6", "--firmware uefi-x64")
        return ExitCode.WRONG_USE
    here = effective(file.valid, name).segment
    if args.ipv6 and here and here.value not in over_ipv6(file.valid).segments:
        problem = f"{name}'s segment {here.value} has no IPv6 network"
        output.error(problem, f"add network6 and server6 to [segment.{here.value}]")
        return ExitCode.BAD_NEWS
    firmware, how, explanation = explain_client(file, name, args.firmware, ipv6=args.ipv6)
    if isinstance(explanation, str):
        output.error(explanation, "daskel check says what to do")
        return ExitCode.BAD_NEWS
    if output.as_json:
        output.json(_json(explanation, firmware))
    else:
        show(output, explanation, firmware, how)
        if args.all:
            _show_overridden(output, explanation)
    return ExitCode.BAD_NEWS if explanation.problem else ExitCode.GOOD


def _name(file: SiteFile, text: str) -> str | None:
    if text in file.valid.clients:
        return text
    try:
        return file.valid.by_mac.get(parse_mac(text))
    except ValueError:
        return None


def _show_overridden(output: Output, explanation: Explanation) -> None:
    output.print()
    output.print(Text("Overridden", style="bold cyan"))
    table = Table.grid(padding=(0, 2))
    for old in explanation.overridden:
        table.add_row("", old.what, old.value, short_place(old.origin), f"by {short_place(old.by)}")
    output.console.print(table if explanation.overridden else "  nothing")


def _variables(output: Output, site: Site, name: str) -> ExitCode:
    """What templates can name for one client."""
    found = effective(site, name)
    segment = site.segments.get(found.segment.value) if found.segment else None
    if segment is None:
        output.error(f"client {name} is on no segment", "daskel check says what to do")
        return ExitCode.BAD_NEWS
    known = variables(site, found, None)
    if output.as_json:
        output.json(known)
        return ExitCode.GOOD
    table = Table.grid(padding=(0, 2))
    for group, names in known.items():
        for key, value in names.items():
            table.add_row(f"{group}.{key}", value)
    output.console.print(table)
    output.print("In [file] also: arguments, kernel, initrd")
    return ExitCode.GOOD


def _json(explanation: Explanation, firmware: Firmware) -> dict[str, object]:
    return {
        "client": explanation.client,
        "mac": explanation.mac,
        "segment": explanation.segment,
        "firmware": firmware.value,
        "problem": explanation.problem or None,
        "overridden": [
            {
                "what": old.what,
                "value": old.value,
                "from": origin_json(old.origin),
                "by": origin_json(old.by),
            }
            for old in explanation.overridden
        ],
        "steps": [
            {
                "title": step.title,
                "values": [
                    {
                        "name": line.name,
                        "option": line.number,
                        "value": line.value,
                        "from": origin_json(line.origin),
                    }
                    for line in step.lines
                ],
                "text": step.text or None,
            }
            for step in explanation.steps
        ],
    }
