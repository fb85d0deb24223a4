"""`daskel new`: a commented site file, from answers given as options or asked for."""

from __future__ import annotations

import argparse
import re
import sys
from ipaddress import AddressValueError, IPv4Address, IPv4Interface
from pathlib import Path

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument
from daskel.core.site.fresh import Answers, fresh, suggested_pool
from daskel.core.site.model import Range, parse_range
from daskel.system.interfaces import addresses
from daskel.system.lacking import LackingError
from daskel.system.sitefile import load_checked

EXAMPLE = (
    "daskel new skerry-point --server 10.61.8.1/24 --segment tideroom",
    "daskel new skerry-point        # asks",
)


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="DIR", type=Path, help="a new or empty folder")
    parser.add_argument("--name", help="the site's name (default: the folder's)")
    parser.add_argument(
        "--server", metavar="ADDRESS/LENGTH", help="this machine's address on the clients' network"
    )
    parser.add_argument("--segment", metavar="NAME", help="the network's name (default: room)")
    parser.add_argument("--pool", metavar="'FIRST - LAST'", help="addresses to give out")
    parser.add_argument("--interface", help="the interface that faces the clients")
    parser.add_argument("--router", metavar="ADDRESS")
    parser.add_argument("--domain")
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    target: Path = args.folder / "daskel.toml"
    if target.exists():
        output.error(f"{target} is there already", "name another folder")
        return ExitCode.WRONG_USE
    try:
        answers = _answers(args)
    except (ValueError, AddressValueError) as error:
        output.error(str(error), "daskel new --help has an example")
        return ExitCode.WRONG_USE
    try:
        for folder in (args.folder, args.folder / "files", args.folder / "roots"):
            folder.mkdir(parents=True, exist_ok=True)
        target.write_text(fresh(answers))
    except OSError as error:
        raise LackingError(
            f"cannot write {target} ({error.strerror})", "name another folder"
        ) from None
    file = load_checked(target)
    if output.as_json:
        output.json({"site": str(target), "good": file.usable})
    else:
        output.findings(file.findings)
        output.print(f"{target} is written: {answers.server.network}, addresses {answers.pool}.")
        output.print(f"Go on with: cd {args.folder} && daskel check")
    return ExitCode.GOOD if file.usable else ExitCode.BAD_NEWS


def _answers(args: argparse.Namespace) -> Answers:
    """Raises ValueError with a sentence."""
    asking = sys.stdin.isatty() and args.server is None
    name = args.name or args.folder.absolute().name.replace("-", " ").title()
    if asking:
        _show_addresses()
    server = _server(args.server or _ask(asking, "This machine's address there", ""))
    segment = args.segment or _ask(asking, "A name for the clients' network", "room")
    if not re.fullmatch(r"[A-Za-z0-9_-]+", segment):
        raise ValueError(f"{segment!r}: a segment's name has letters, digits and dashes")
    pool = args.pool or _ask(asking, "Addresses to give out", str(suggested_pool(server)))
    router = args.router or _ask(asking, "Router (empty: none)", "")
    domain = args.domain or _ask(asking, "Domain (empty: none)", "")
    return Answers(
        name=name,
        server=server,
        segment=segment,
        pool=_range(pool),
        interface=args.interface,
        router=IPv4Address(router) if router else None,
        domain=domain or None,
    )


def _show_addresses() -> None:
    for interface, own in addresses().items():
        sys.stderr.write(f"  {interface:<12} {', '.join(map(str, own)) or 'no address'}\n")


def _ask(asking: bool, question: str, usual: str) -> str:
    if not asking:
        return usual
    sys.stderr.write(f"{question}{f' [{usual}]' if usual else ''}: ")
    sys.stderr.flush()
    return sys.stdin.readline().strip() or usual


def _server(text: str) -> IPv4Interface:
    if "/" not in text:
        raise ValueError("--server needs an address with the network's length, like 10.61.8.1/24")
    try:
        return IPv4Interface(text)
    except ValueError:
        raise ValueError(f"{text} is not an address with a length; write 10.61.8.1/24") from None


def _range(text: str) -> Range:
    try:
        return parse_range(text)
    except ValueError as error:
        raise ValueError(f"--pool {text} {error}") from None
