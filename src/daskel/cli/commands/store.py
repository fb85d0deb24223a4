"""`daskel store`: whether what must survive is whole, and the way back to a copy of it."""

from __future__ import annotations

import argparse
import time

from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import verb
from daskel.cli.site import change_arguments, question
from daskel.core.values import show_ago
from daskel.store.health import Health, best_copy, copies, look_at, restore
from daskel.system.sitefile import SiteFile

EXAMPLE = ("daskel store check", "daskel store restore --dry-run")
run = None  # each verb has its own


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    verb(verbs, EXAMPLE, "check", "look whether the store and its copies are whole", _check)
    text = "put the newest copy that is whole in the place of a damaged store"
    parser = verb(verbs, EXAMPLE, "restore", text, _restore)
    change_arguments(parser)


def _check(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    found = {}
    for path in (file.state, *copies(file.state)):
        if path.exists():
            found[path] = look_at(path)
    store = found.get(file.state)
    if output.as_json:
        rows = [{"file": str(path), "rows": health.rows, "problems": list(health.problems)}
                for path, health in found.items()]  # fmt: skip
        output.json({"whole": bool(store and not store.problems), "stores": rows})
    else:
        for path, health in found.items():
            age = show_ago(time.time() - path.stat().st_mtime)
            output.print(f"{path}, written {age}: {_words(health)}")
    if output.as_json:
        return ExitCode.GOOD if store and not store.problems else ExitCode.BAD_NEWS
    if store is None:
        output.error(f"there is no store {file.state}", "it is made when daskel serve starts")
        return ExitCode.BAD_NEWS
    if store.problems:
        output.error(f"{file.state} is damaged", "end the server, then: daskel store restore")
        return ExitCode.BAD_NEWS
    return ExitCode.GOOD


def _words(health: Health) -> str:
    if health.problems:
        return f"damaged: {'; '.join(health.problems)}"
    return "whole; " + ", ".join(f"{table} {rows:,}" for table, rows in health.rows.items())


def _restore(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if question(file, "status") is not None:
        output.error("the server runs with this store", "end it first")
        return ExitCode.LACKING
    if file.state.exists() and not look_at(file.state).problems:
        said = f"{file.state} is whole: nothing is restored."
        output.json({"restored": None}) if output.as_json else output.print(said)
        return ExitCode.GOOD
    found = best_copy(file.state)
    if found is None:
        remedy = "move the store away: the server begins with a new one; clients ask again"
        output.error(f"there is no copy of {file.state} that is whole", remedy)
        return ExitCode.BAD_NEWS
    copy, health = found
    age = show_ago(time.time() - copy.stat().st_mtime)
    if not output.as_json:
        output.print(f"{copy}, written {age}: {_words(health)}")
        output.print("What was given out and seen after that is not in it.")
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Restore it?"):
        output.print("Nothing was restored.")
        return ExitCode.GOOD
    aside = restore(file.state, copy)
    if output.as_json:
        output.json({"restored": str(file.state), "from": str(copy), "damaged": str(aside)})
    else:
        output.print(f"Restored. What was there before is kept as {aside}.")
    return ExitCode.GOOD
