"""`daskel assign`: what a client or a group boots, for good."""

from __future__ import annotations

import argparse

from daskel.cli.editing import edit, editing_arguments, names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.site import path_of
from daskel.cli.tables import set_values
from daskel.core.site.edit import EditError
from daskel.core.site.finding import did_you_mean
from daskel.system.sitefile import load

EXAMPLE = ("daskel assign tide-01 rescue", "daskel assign tide tideroom --dry-run")


def arguments(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument("who", metavar="CLIENT|GROUP")
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]
    boot = parser.add_argument(
        "boot", metavar="BOOT", help="a loadout or a choice; for a client also -, its group's again"
    )
    boot.completer = names_of(["loadout", "choice"])  # type: ignore[attr-defined]
    editing_arguments(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    if file.site is None:
        output.error("the site file cannot be read", "daskel check says why")
        return ExitCode.WRONG_USE
    kind = "client" if args.who in file.site.clients else "group"
    known = [*file.site.clients, *file.site.groups]
    if args.who not in known:
        problem = f"there is no client or group {args.who!r}"
        output.error(problem, did_you_mean(args.who, known))
        return ExitCode.WRONG_USE
    value = None if args.boot == "-" else args.boot
    said = f"{kind} {args.who} boots {args.boot}." if value else f"{args.who} boots as its group."
    try:
        changes = [set_values(file, (kind, args.who), {"boot": value})]
        clients = [args.who] if kind == "client" else None
        return edit(args, output, file, changes, said, clients)
    except EditError as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
