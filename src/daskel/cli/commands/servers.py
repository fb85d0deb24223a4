"""`daskel servers`: the servers of the site, and what each of them does now."""

from __future__ import annotations

import argparse
import time
from typing import Any

from rich.table import Table
from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.records import NONE_RUNS
from daskel.cli.site import json_argument, open_site, question, site_argument
from daskel.cli.site_seen import lacks, way_out
from daskel.core.audit.diff import differences
from daskel.core.values import few, show_ago, show_duration
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel servers",
    "daskel servers --compare south   # what its site file gives to whom, unlike the one here",
)
_NAMES = 3


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--compare", metavar="NAME", help="what machines get from this server, and not from here"
    )
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=False)
    if file.database is None:
        if output.as_json:
            output.json({"servers": [], "missing": [], "away": None})
        else:
            output.print("The store of this site is a file: it has one server (daskel status).")
        return ExitCode.GOOD
    status = question(file, "status")
    answer = question(file, "servers") if status else None
    if status is None or answer is None:
        output.error(NONE_RUNS, "start it with: daskel serve")
        return ExitCode.LACKING
    if args.compare:
        return _compare(args, output, file)
    rows: list[dict[str, Any]] = answer["servers"]
    named = {row["name"] for row in rows}
    missing = [name for name in file.valid.servers if name not in named]
    good = all(row["alive"] and not row["differs"] and not row["lacks"] for row in rows)
    good = good and not missing and not status["away"]
    if output.as_json:
        output.json({"servers": rows, "missing": missing, "away": status["away"]})
    else:
        _show(output, rows, missing, status["away"])
    return ExitCode.GOOD if good else ExitCode.BAD_NEWS


def _compare(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    answer = question(file, "texts", server=args.compare) or {"error": NONE_RUNS}
    if "error" in answer:
        output.error(answer["error"], "daskel servers lists them")
        return ExitCode.WRONG_USE
    folder = file.path.absolute().parent
    instead = {folder / name: text for name, text in answer["texts"].items()}
    theirs = load(file.path.absolute(), instead, file.valid.own)
    if theirs.site is None or theirs.invalid:
        output.error(f"the site file of {args.compare} cannot be understood here", "copy it here")
        return ExitCode.BAD_NEWS
    changes = differences(file.valid, theirs.site)
    if output.as_json:
        output.json({
            "changes": [
                {"what": one.what, "clients": list(one.clients),
                 "unknown_machines_on": list(one.strangers),
                 "unnoticed": one.unnoticed.value if one.unnoticed else None}
                for one in changes
            ]
        })  # fmt: skip
        return ExitCode.BAD_NEWS if changes else ExitCode.GOOD
    if changes:
        output.print(f"From {args.compare}, and not from this server, machines get:")
    for one in changes:
        who = few(list(one.clients), _NAMES)
        who += f"unknown machines on {few(list(one.strangers), _NAMES)}" if one.strangers else ""
        note = f"   ({one.unnoticed.value})" if one.unnoticed else ""
        output.print(Text.assemble(f"  {who}: " if who else "  ", one.what, (note, "dim")))
    if not changes:
        output.print(f"{args.compare} gives every machine what this server's site file says.")
    return ExitCode.BAD_NEWS if changes else ExitCode.GOOD


def _show(
    output: Output, rows: list[dict[str, Any]], missing: list[str], away: dict[str, Any] | None
) -> None:
    now = time.time()
    table = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("server", "is", "since", "version", "machine"):
        table.add_column(title, no_wrap=True)
    for title in ("leases", "clients", "lag"):
        table.add_column(title, justify="right", no_wrap=True)
    table.add_column("site file")
    for row in rows:
        here = " (this one)" if row["this"] else ""
        alive = Text("alive", style="green") if row["alive"] else Text("away", style="red")
        since = (
            show_duration(int(now - row["since"]))
            if row["alive"]
            else show_ago(max(now - row["seen"], 0))
        )
        table.add_row(
            row["name"] + here, alive, since, row["version"], row["host"], str(row["leases"]),
            str(row["clients"]), f"{row['lag'] * 1e3:.0f} ms", _file(row),
        )  # fmt: skip
    for name in missing:
        table.add_row(name, Text("never seen", style="red"), *[""] * 7)
    output.console.print(table)
    if away:
        ago = show_duration(int(now - away["since"]))
        output.print()
        output.print(Text(f"The database has not answered for {ago}: {away['why']}", style="red"))
        output.print("Machines that have an address go on; others get none until it answers.")
    for row in rows:
        for words, lack in zip(lacks(row), row["lacks"], strict=True):
            output.print(f"\n{words}.")
            output.print(Text(f"      {way_out(row['name'], lack)}", style="green"))
    differing = [row for row in rows if row["differs"]]
    if differing:
        output.print()
    for row in differing:
        files = few(row["differs"], _NAMES)
        age = "a newer" if row["newer"] else "an older"
        output.print(f"{row['name']} has {age} {files} than this server.")
        name = row["name"]
        way = f"from {name} to this machine, then:" if row["newer"] else f"to {name}, then there:"
        output.print(Text(f"      daskel servers --compare {name}", style="green"))
        output.print(Text(f"      copy it {way} daskel apply", style="green"))


def _file(row: dict[str, Any]) -> Text:
    if row["this"]:
        return Text("")
    return Text("differs", style="red") if row["differs"] else Text("the same")
