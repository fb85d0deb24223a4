"""`daskel serve`: runs all services in the foreground and logs every event."""

from __future__ import annotations

import argparse
from contextlib import ExitStack
from pathlib import Path

from daskel.cli.output import ExitCode, Output
from daskel.cli.publishing import publish
from daskel.cli.selection import select
from daskel.cli.server_run import LEVELS, STILL, Log, run_until_ended
from daskel.cli.site import json_argument, open_site, server_argument, site_argument
from daskel.core.boot.wire import Ports, Wire
from daskel.core.history.batch import Batch
from daskel.core.site.model import Site
from daskel.core.values import few
from daskel.service.recorder import Recorder
from daskel.service.server import listening_on
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import this_machine

EXAMPLE = (
    "daskel serve",
    "daskel serve --loopback        # practise: no root, no network",
    "daskel serve --as north        # one of several servers of the site",
    "daskel serve --until-done tide # one batch, and the server ends by itself",
    "daskel serve --record packets  # each boot as a capture, for daskel diagnose --capture",
)
_LOOPBACK_BASE = 20000


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--loopback",
        nargs="?",
        type=_base,
        const=_LOOPBACK_BASE,
        metavar="BASE",
        help="practise on this machine alone: loopback addresses, port numbers moved up by BASE "
        f"(default {_LOOPBACK_BASE}), no root needed",
    )
    server_argument(parser, "be this one of the site's servers")
    parser.add_argument(
        "--until-done",
        nargs="?",
        const="",
        metavar="CLIENTS",
        help="end when these have fetched all that they boot from: clients and groups with commas "
        f"between them, or all of the site; or when nothing has moved for {STILL // 60:.0f} min",
    )
    parser.add_argument(
        "--level",
        choices=LEVELS,
        default="info",
        help="the least that is logged: debug has every file that is asked for, warning only what "
        "needs somebody's attention (default: info)",
    )
    parser.add_argument(
        "--record",
        type=Path,
        metavar="DIR",
        help="write each boot's packets into a file of its own there (pcap): heads of all, not "
        "what is in files",
    )
    site_argument(parser)
    json_argument(parser)


def _base(text: str) -> int:
    if not text.isdigit() or not 1024 <= int(text) <= 61000:
        raise argparse.ArgumentTypeError("a number from 1024 to 61000 is needed")
    return int(text)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, checked=True)
    if args.record and args.loopback:
        output.error("there are no wires to record on loopback", "give only one of the two")
        return ExitCode.WRONG_USE
    site = file.valid
    if site.servers and args.own is None and this_machine(site) is None:
        problem = f"which of the servers {few(list(site.servers), 5)} this machine is, is not clear"
        remedy = "none of their addresses is here, or those of several are: daskel serve --as NAME"
        raise MissingRequirementError(problem, remedy)
    publish(file, output)
    log = Log(output, args.level)
    if args.until_done is not None:
        log.batch = batch = _batch(args.until_done, file.valid)
        if rooted := batch.rooted():
            what = f"the roots of {few(rooted, 3)} are on this server, and end with it"
            log.note("warning", what)
    wire = Wire(Ports.from_base(args.loopback), True) if args.loopback else Wire()
    with ExitStack() as recording:
        if args.record:
            interfaces = listening_on(file.valid)
            recording.callback(Recorder(args.record, file.path, interfaces).close)
        return run_until_ended(file, file.valid, wire, log)


def _batch(words: str, site: Site) -> Batch:
    """The clients that are meant. Raises UsageProblem."""
    return Batch(site, select(site, [word.strip() for word in words.split(",") if word.strip()]))
