"""What one client gets, as commands show it."""

from __future__ import annotations

import time
from contextlib import suppress

from rich.table import Table
from rich.text import Text

from daskel.cli import records
from daskel.cli.output import Output, short_place
from daskel.core.audit.explain import Explanation, Step, explain, explain_over_ipv6
from daskel.core.boot.arguments import ArgumentError
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.pxe import Firmware, architecture_number, is_uefi
from daskel.core.dhcp6.client_messages import solicit
from daskel.core.dhcp6.message import parse
from daskel.core.history.once import Assignments
from daskel.core.replies.answer import Answers
from daskel.core.replies.answer6 import Answers6
from daskel.core.site.layers import Assigned, Effective, effective
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.slate_rules import stays_on
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.slates import slates_below
from daskel.system.sitefile import SiteFile

_XID = 1


def explain_client(
    file: SiteFile, name: str, asked: str | None, *, ipv6: bool = False
) -> tuple[Firmware, str, Explanation | str]:
    """The firmware, how it is known, and the explanation or why there is none."""
    leases, now = records.leases(file), time.time()
    found = effective(file.valid, name)
    firmware, how = _firmware(asked, found, leases.architecture_of(found.mac.value))
    if ipv6 and not asked and not is_uefi(firmware.architecture):  # which knows no IPv6
        firmware, how = Firmware.UEFI, "the usual one that asks over IPv6"
    answers = Answers(file.valid, leases, Ports(), assigned_of(file))
    try:
        if ipv6:
            six = Answers6(over_ipv6(file.valid), leases, Ports(), answers.replies.assigned)
            asks = solicit(found.mac.value, firmware.architecture, Face.of(firmware).vendor_class)
            return firmware, how, explain_over_ipv6(six, name, parse(asks), now)
        message = discover(Face.of(firmware), found.mac.value, _XID)
        return firmware, how, explain(answers, name, message, now)
    except (ArgumentError, ValueError) as error:
        return firmware, how, str(error)


def assigned_of(file: SiteFile) -> Assigned:
    """What is assigned for one boot, and what slates were made on, as far as this user sees it."""
    known, site = Assignments(file.valid, records.once(file)), file.valid
    for slate in slates_below(file.slates) if site.own_kernels else ():
        with suppress(OSError, MissingRequirementError):
            state = slate.state()
            if state and stays_on(site, slate.client, slate.root, frozen=bool(slate.frozen)):
                known.slate(slate.root, slate.client, state.version)
    return known.assigned


def _firmware(asked: str | None, found: Effective, seen: int | None) -> tuple[Firmware, str]:
    if asked:
        return Firmware(asked), "as asked"
    if found.firmware:
        number = architecture_number(found.firmware.value)
        written = Firmware.of_architecture(number) if number is not None else None
        if written:
            return written, f"by {short_place(found.firmware.origin)}"
    known = Firmware.of_architecture(seen) if seen is not None else None
    return (
        (known, "as last seen")
        if known
        else (Firmware.BIOS, "not seen yet; firmware = ... says it")
    )


def show(output: Output, explanation: Explanation, firmware: Firmware, how: str) -> None:
    asks = "without IP" if explanation.without_ip else f"firmware {firmware.value} ({how})"
    about = f"  {explanation.mac} on {explanation.segment}, {asks}"
    output.print(Text.assemble((explanation.client, "bold"), about))
    for number, step in enumerate(explanation.steps, 1):
        output.print()
        output.print(Text(f"{number}  {step.title}", style="bold cyan"))
        output.console.print(_table(step), soft_wrap=False)
        if step.text:
            output.block(step.text, "   | ")
    if explanation.problem:
        output.print()
        output.print(Text(f"It does not boot: {explanation.problem}", style="bold red"))


def _table(step: Step) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=1)
    table.add_column(justify="right", style="dim")
    table.add_column(style="dim", no_wrap=True)
    table.add_column(overflow="fold")
    table.add_column(style="green", no_wrap=True)
    for line in step.lines:
        number = str(line.number) if line.number is not None else ""
        table.add_row("", number, line.name, Text(line.value), short_place(line.origin))
    return table
