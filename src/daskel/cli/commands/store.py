"""`daskel store`: whether what must survive is whole, and the way back to a copy of it."""

from __future__ import annotations

import argparse
import time
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import verb
from daskel.cli.site import change_arguments, question
from daskel.core.values import show_ago, without_password
from daskel.store.health import Health, best_copy, copies, look_at, restore
from daskel.system.sitefile import SiteFile

if TYPE_CHECKING:  # their libraries take their time
    from daskel.store.database import Store
    from daskel.store.shared_store import SharedStore

EXAMPLE = (
    "daskel store check",
    "daskel store restore --dry-run",
    "daskel store copy state.db postgresql://daskel@db.skerry.example/daskel --dry-run",
)
run = None  # each verb has its own


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    verb(verbs, EXAMPLE, "check", "look whether the store and its copies are whole", _check)
    text = "put the newest copy that is whole in the place of a damaged store"
    parser = verb(verbs, EXAMPLE, "restore", text, _restore)
    change_arguments(parser)
    text = "everything from one store into another, empty one: a file, or a PostgreSQL database"
    parser = verb(verbs, EXAMPLE, "copy", text, _copy)
    parser.add_argument("source", metavar="FROM", help="a file, or postgresql://...")
    parser.add_argument("target", metavar="TO", help="the same; nothing may be in it yet")
    change_arguments(parser)


def _check(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    if file.database is not None:
        return _check_database(output, file, file.database)
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


def _check_database(output: Output, file: SiteFile, url: str) -> ExitCode:
    """Whether it can be used, and what is in it. Raises MissingRequirementError."""
    with closing(_opened(url, file)) as store:
        rows = store.counts()
    shown = without_password(url)
    if output.as_json:
        output.json({"whole": True, "stores": [{"file": shown, "rows": rows, "problems": []}]})
    else:
        output.print(f"{shown}: it answers, and can be written; {_counted(rows)}")
    return ExitCode.GOOD


def _opened(place: str, file: SiteFile) -> Store | SharedStore:
    """Raises MissingRequirementError."""
    if "://" in place:
        from daskel.store.shared_store import SharedStore

        return SharedStore(place, file.valid.settings.name, None)
    from daskel.store.database import Store

    return Store(Path(place))


def _copy(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    shown = {place: without_password(place) for place in (args.source, args.target)}
    if args.source == args.target:
        output.error(f"{shown[args.source]} is both", "name two stores")
        return ExitCode.WRONG_USE
    if "://" not in args.source and not Path(args.source).exists():
        output.error(f"there is no store {args.source}", "name the file of state = ... in [site]")
        return ExitCode.WRONG_USE
    if question(file, "status") is not None:
        output.error("a server of this site runs here", "end it first, and those elsewhere")
        return ExitCode.LACKING
    there = Path(args.target).exists() if "://" not in args.target else True
    with closing(_opened(args.source, file)) as source:
        if running := _alive(source):
            output.error(f"the server {running} runs with {shown[args.source]}", "end it first")
            return ExitCode.LACKING
        rows = source.counts()
        if args.dry_run and not there:
            return _copied(output, args, rows)
        with closing(_opened(args.target, file)) as target:
            if any(target.counts().values()):
                problem = f"{shown[args.target]} has something in it: {_counted(target.counts())}"
                output.error(problem, "name an empty one: what is in two stores cannot be merged")
                return ExitCode.WRONG_USE
            if not args.dry_run:
                rows = target.fill(source.everything())
    return _copied(output, args, rows)


def _alive(store: Store | SharedStore) -> str | None:
    """A server that runs with it."""
    servers = getattr(store, "servers", None)
    return next((one.name for one in servers() if one.alive), None) if servers else None


def _copied(output: Output, args: argparse.Namespace, rows: Mapping[str, int]) -> ExitCode:
    if output.as_json:
        output.json({"written": not args.dry_run, "rows": rows})
        return ExitCode.GOOD
    output.print(f"{'It has' if args.dry_run else 'Copied:'} {_counted(rows)}.")
    if not args.dry_run:
        said = (
            f'Now write state = "{without_password(args.target)}" in [site], and start the server.'
        )
        output.print(said)
    return ExitCode.GOOD


def _counted(rows: Mapping[str, int]) -> str:
    return ", ".join(f"{table} {count:,}" for table, count in rows.items())


def _words(health: Health) -> str:
    if health.problems:
        return f"damaged: {'; '.join(health.problems)}"
    return f"whole; {_counted(health.rows)}"


def _restore(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if file.database is not None:
        output.error("the store is a database", "PostgreSQL has its own copies: pg_restore")
        return ExitCode.LACKING
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
