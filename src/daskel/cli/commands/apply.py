"""`daskel apply`: the running server takes the site file over, after showing what changes."""

from __future__ import annotations

import argparse
from typing import Any

from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.publishing import publish
from daskel.cli.site import change_arguments, json_argument, path_of, question, site_argument
from daskel.system.sitefile import load

EXAMPLE = ("daskel apply", "daskel apply --yes")
_MOST_NAMES = 4


def arguments(parser: argparse.ArgumentParser) -> None:
    change_arguments(parser)
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load(path_of(args))
    if file.site is not None and not args.dry_run:
        publish(file, output)
    compared = question(file, "compare")
    if compared is None:
        output.error("no server runs with this site", "start it with: daskel serve")
        return ExitCode.LACKING
    if not output.as_json:
        _show(output, compared)
    if args.dry_run or not compared["differs"] or compared["findings"] or compared["restart"]:
        if output.as_json:
            output.json(compared)
        bad = compared["findings"] or compared["restart"]
        return ExitCode.BAD_NEWS if bad else ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Take this over?"):
        output.print("Nothing was changed.")
        return ExitCode.GOOD
    answer = question(file, "apply") or {}
    if "error" in answer:
        output.error(answer["error"], "run as root or as the server's user")
        return ExitCode.LACKING
    behind = [name for name, has in answer.get("servers", {}).items() if not has]
    if output.as_json:
        output.json(compared | answer)
    else:
        output.print(
            "Taken over:" if answer.get("applied") else "Not taken over:", answer.get("said")
        )
        if have := [name for name, has in answer.get("servers", {}).items() if has]:
            output.print(f"{', '.join(have)} has taken it over, too.")
        for name in behind:
            output.print(Text(f"{name} has another site file.", style="red"))
            output.print(Text(f"      copy this one to {name}; daskel apply there", style="green"))
    return ExitCode.GOOD if answer.get("applied") and not behind else ExitCode.BAD_NEWS


def _show(output: Output, compared: dict[str, Any]) -> None:
    for finding in compared["findings"]:
        output.print(Text.assemble((finding["place"] + ": ", "bold"), finding["problem"]))
        output.print(Text(f"      {finding['remedy']}", style="green"))
    if compared["findings"]:
        output.print("The site file has errors; what runs goes on as it is.")
        return
    for change in compared["changes"]:
        note = f"   ({change['unnoticed']})" if change["unnoticed"] else ""
        output.print(Text.assemble(f"  {_who(change)}{change['what']}", (note, "dim")))
    if compared["restart"]:
        output.print("Segments or folders changed: stop daskel serve and start it again.")
    elif not compared["differs"]:
        output.print("The running server has this site already.")
    elif not compared["changes"]:
        output.print("The text differs, but not what it says: comments, order or spacing.")
    elif all(change["unnoticed"] for change in compared["changes"]):
        output.print("No client notices.")


def _who(change: dict[str, Any]) -> str:
    clients = change["clients"]
    names = ", ".join(clients[:_MOST_NAMES])
    if len(clients) > _MOST_NAMES:
        names = f"{len(clients)} clients ({names}, ...)"
    strangers = [f"unknown machines on {name}" for name in change["unknown_machines_on"]]
    who = ", ".join(filter(None, [names, *strangers]))
    return f"{who}: " if who else ""
