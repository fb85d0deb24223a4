"""`daskel assign`: what a client or a group boots, for good or for one boot."""

from __future__ import annotations

import argparse

from daskel.cli.completing import names_of
from daskel.cli.editing import edit, editing_arguments
from daskel.cli.output import ExitCode, Output
from daskel.cli.records import NONE_RUNS
from daskel.cli.site import path_of, question
from daskel.cli.table_commands import set_values
from daskel.core.history.once import Once
from daskel.core.site.edit import EditError
from daskel.core.site.finding import did_you_mean
from daskel.store.database import Store
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel assign tide-01 rescue",
    "daskel assign tide-01 rescue --once      # then as before",
    "daskel assign tide-01 --undo             # not even once",
    "daskel assign tide tideroom --dry-run",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument("who", metavar="CLIENT|GROUP", help="its name")
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]
    boot = parser.add_argument(
        "boot",
        metavar="BOOT",
        nargs="?",
        help="a loadout or a choice; for a client also -, its group's again",
    )
    boot.completer = names_of(["loadout", "choice"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--once", action="store_true", help="for the client's next boot alone; a loadout"
    )
    parser.add_argument(
        "--undo", action="store_true", help="withdraw what was assigned for one boot"
    )
    editing_arguments(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    if file.site is None:
        output.error("the site file cannot be read", "daskel check says why")
        return ExitCode.WRONG_USE
    kind = "client" if args.who in file.valid.clients else "group"
    known = [*file.valid.clients, *file.valid.groups]
    if args.who not in known:
        problem = f"there is no client or group {args.who!r}"
        output.error(problem, did_you_mean(args.who, known))
        return ExitCode.WRONG_USE
    if args.undo and args.boot is not None:
        output.error("--undo goes without something to boot", "daskel assign CLIENT --undo")
        return ExitCode.WRONG_USE
    if args.boot is None and not args.undo:
        output.error("what shall it boot?", "name a loadout or a choice, or write --undo")
        return ExitCode.WRONG_USE
    if args.once or args.undo:
        return _for_one_boot(args, output, file)
    value = None if args.boot == "-" else args.boot
    said = f"{kind} {args.who} boots {args.boot}." if value else f"{args.who} boots as its group."
    try:
        changes = [set_values(file, (kind, args.who), {"boot": value})]
        clients = [args.who] if kind == "client" else None
        return edit(args, output, file, changes, said, clients)
    except EditError as error:
        output.error(str(error))
        return ExitCode.WRONG_USE


def _for_one_boot(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Keep it in the store, and tell the running server."""
    name, boot = args.who, None if args.undo else args.boot
    if name not in file.valid.clients:
        output.error(f"{name} is a group", "assign one client for one boot")
        return ExitCode.WRONG_USE
    if boot is not None and boot not in file.valid.loadouts:
        remedy = did_you_mean(boot, file.valid.loadouts)
        output.error(f"there is no loadout {boot!r}", remedy)
        return ExitCode.WRONG_USE
    said = f"{name} boots {boot} once." if boot else f"{name} boots as always."
    if not args.dry_run and (code := _keep(output, file, name, boot)) is not ExitCode.GOOD:
        return code
    if output.as_json:
        output.json({"written": not args.dry_run, "said": said})
    else:
        output.print(said)
    return ExitCode.GOOD


def _keep(output: Output, file: SiteFile, name: str, boot: str | None) -> ExitCode:
    if file.database is None:
        file.state.parent.mkdir(parents=True, exist_ok=True)
        store = Store(file.state)
        store.keep_once(name, [Once(name, boot)] if boot else [])
        store.close()
    answer = question(file, "once", client=name, boot=boot)
    if file.database is not None and (answer is None or "error" in answer):
        output.error(answer["error"] if answer else NONE_RUNS, "start it with: daskel serve")
        return ExitCode.LACKING
    return ExitCode.GOOD
