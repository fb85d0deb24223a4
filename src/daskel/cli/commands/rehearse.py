"""`daskel rehearse`: boots simulated clients, or a real one in a virtual machine, against the site
as it is on disk, without the server that runs."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence
from pathlib import Path

from daskel.cli.output import ExitCode, Output
from daskel.cli.picture_file import check_name
from daskel.cli.practice_server import Practice, begin, free_base, serving
from daskel.cli.publishing import publish
from daskel.cli.rehearsals import (
    Rehearsed,
    boot_all,
    folder_of,
    jobs_of,
    judged,
    result_json,
    show_problems,
    table_of,
)
from daskel.cli.selection import clients_argument, select
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.cli.usage import UsageProblem, many, seconds
from daskel.core.dhcp.client_messages import FACES
from daskel.core.values import counted
from daskel.rehearse.keys import Step, parse_keys
from daskel.rehearse.raw import MOP, RPL
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel rehearse                   # one simulated boot of every client",
    "daskel rehearse tide-01 --firmware uefi-x64",
    "daskel rehearse tide --storm 300 --within 5s --plot storm.png",
    "daskel rehearse tide-01 --machine # real firmware and kernel, in a virtual machine (root)",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    clients_argument(parser)
    parser.add_argument(
        "--firmware", choices=[*FACES, MOP, RPL],
        help="how they ask (default: as the site file says, as each was last seen, or as its "
        "kernel suggests)",
    )  # fmt: skip
    parser.add_argument(
        "--storm", type=many, metavar="N",
        help="boot N at once: the clients themselves, then copies of them",
    )  # fmt: skip
    parser.add_argument(
        "--within", type=seconds, default=0, metavar="TIME",
        help='with --storm: begin them spread over this time, like "5s" (default: all at once)',
    )  # fmt: skip
    parser.add_argument(
        "--plot", type=Path, metavar="FILE", help="with --storm: a picture (.png or .svg)"
    )
    parser.add_argument(
        "--machine", action="store_true",
        help="boot one client as a virtual machine with real firmware, in a network of its own",
    )  # fmt: skip
    parser.add_argument(
        "--ipv6", action="store_true", help="with --machine: its firmware asks over IPv6"
    )
    parser.add_argument(
        "--stay", action="store_true",
        help="with --machine: it goes on until Ctrl-C, also when it is up or stuck",
    )  # fmt: skip
    parser.add_argument(
        "--until", metavar="STAGE|TEXT",
        help="with --machine: end when it comes to this stage (menu, kernel, root, ...), or has "
        "this text on its screen",
    )  # fmt: skip
    parser.add_argument(
        "--keys", type=_keys, default=(), metavar="KEYS",
        help='with --machine: type this, like "<see Skerry Point><down><enter>"; keys and what to '
        "wait for (<5s>, <see TEXT>) stand in < >",
    )  # fmt: skip
    parser.add_argument(
        "--keep", type=Path, metavar="DIR",
        help="leave the server's log and what else was made in this folder",
    )  # fmt: skip
    site_argument(parser)
    json_argument(parser)


def _keys(text: str) -> list[Step]:
    try:
        return parse_keys(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from None


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=True)
    names = select(file.valid, args.who)
    if not names:
        raise UsageProblem("the site has no such clients", "daskel client add makes one")
    check_name(args.plot)
    if (args.plot or args.within) and not args.storm:
        raise UsageProblem("--plot and --within go with --storm", "daskel rehearse --help")
    if (args.stay or args.until or args.keys) and not args.machine:
        raise UsageProblem("--stay, --until and --keys go with --machine", "daskel rehearse --help")
    if args.ipv6 and not args.machine:
        raise UsageProblem("--ipv6 goes with --machine", "daskel rehearse --help")
    if args.machine and (len(names) != 1 or args.storm):
        raise UsageProblem("one client is rehearsed as a machine", "name one; no --storm")
    publish(file, output)
    if args.machine:
        from daskel.cli.commands.rehearse_machine import rehearse_machine

        return rehearse_machine(args, file, names[0], output)
    if args.storm:
        from daskel.cli.commands.rehearse_storm import rehearse_storm

        return rehearse_storm(args, file, names, output)
    return _rehearse(args, file, names, output)


def _rehearse(
    args: argparse.Namespace, file: SiteFile, names: Sequence[str], output: Output
) -> ExitCode:
    with folder_of(args.keep) as folder:
        practice = Practice(str(file.path.absolute()), str(folder), free_base())
        practised = begin(practice, file)
        practice = practised.practice
        jobs = jobs_of(practised, file, names, args.firmware)
        since = time.time()
        with serving(practice):
            boots = boot_all(jobs, output)
        results = judged(practised, file, boots, since)
    _show(results, output)
    return ExitCode.GOOD if all(r.good for r in results) else ExitCode.BAD_NEWS


# --- what came of it ---


def _show(results: Sequence[Rehearsed], output: Output) -> None:
    if output.as_json:
        good = all(result.good for result in results)
        output.json({"good": good, "clients": [result_json(result) for result in results]})
        return
    output.console.print(table_of(results))
    show_problems(results, output)
    count = sum(1 for result in results if result.good)
    output.print(f"\n{count} of {counted(len(results), 'client')} would come up.")
