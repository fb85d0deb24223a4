"""`daskel new`: a commented site file, from answers given as options or asked for."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import TypeVar

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument
from daskel.cli.site_reference import schema_text
from daskel.core.site.key_types import Range, parse_range
from daskel.core.site.new_site import SCHEMA, NewSite, fresh, suggested_pool
from daskel.system.host.interfaces import addresses
from daskel.system.requirements import MissingRequirementError
from daskel.system.site_check import load_checked

Answer = TypeVar("Answer")

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
    parser.add_argument("--router", metavar="ADDRESS", help="the clients' default router")
    parser.add_argument("--domain", help="the clients' domain")
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    target: Path = args.folder / "daskel.toml"
    if target.exists():
        output.error(f"{target} is there already", "name another folder")
        return ExitCode.WRONG_USE
    try:
        answers = _answers(args)
    except ValueError as error:
        output.error(str(error), "daskel new --help has an example")
        return ExitCode.WRONG_USE
    try:
        for folder in (args.folder, args.folder / "files", args.folder / "roots"):
            folder.mkdir(parents=True, exist_ok=True)
        target.write_text(fresh(answers))
        (args.folder / SCHEMA).write_text(schema_text())
    except OSError as error:
        raise MissingRequirementError(
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


def _answers(args: argparse.Namespace) -> NewSite:
    """Raises ValueError with a sentence."""
    asking = sys.stdin.isatty() and args.server is None
    name = args.name or args.folder.absolute().name.replace("-", " ").title()
    if asking:
        _show_addresses()
    server = _answer(args, "server", asking, "This machine's address there", "", _server)
    segment = _answer(args, "segment", asking, "A name for the clients' network", "room", _segment)
    usual = str(suggested_pool(server))
    return NewSite(
        name=name,
        server=server,
        segment=segment,
        pool=_answer(args, "pool", asking, "Addresses to give out", usual, _range),
        interface=args.interface,
        router=_answer(args, "router", asking, "Router (empty: none)", "", _router),
        domain=_answer(args, "domain", asking, "Domain (empty: none)", "", str) or None,
    )


def _show_addresses() -> None:
    for interface, own in addresses().items():
        sys.stderr.write(f"  {interface:<12} {', '.join(map(str, own)) or 'no address'}\n")


def _answer(
    args: argparse.Namespace, option: str, asking: bool,
    question: str, usual: str, read: Callable[[str], Answer],
) -> Answer:  # fmt: skip
    """What was given as an option, or is typed now: asked again until it can be read.

    Raises ValueError with a sentence for an option.
    """
    given: str | None = getattr(args, option)
    if given is not None or not asking:
        try:
            return read(given or usual)
        except ValueError as error:
            raise ValueError(f"--{option}: {error}") from None
    while True:
        sys.stderr.write(f"{question}{f' [{usual}]' if usual else ''}: ")
        sys.stderr.flush()
        line = sys.stdin.readline()
        try:
            return read(line.strip() or usual)
        except ValueError as error:
            if not line:  # the terminal was closed
                raise
            sys.stderr.write(f"  {error}\n")


def _segment(text: str) -> str:
    if not re.fullmatch(r"[A-Za-z0-9_-]+", text):
        raise ValueError(f"{text!r}: a segment's name has letters, digits and dashes")
    return text


def _router(text: str) -> IPv4Address | None:
    try:
        return IPv4Address(text) if text else None
    except ValueError:
        raise ValueError(f"{text} is not an address; write one like 10.61.8.1") from None


def _server(text: str) -> IPv4Interface:
    if "/" not in text:
        wanted = "an address with the network's length is needed, like 10.61.8.1/24"
        raise ValueError(f"{wanted}, not {text!r}" if text else wanted)
    try:
        return IPv4Interface(text)
    except ValueError:
        raise ValueError(
            f"{text!r} is not an address with a length; write one like 10.61.8.1/24"
        ) from None


def _range(text: str) -> Range:
    try:
        return parse_range(text)
    except ValueError as error:
        raise ValueError(f"{text!r} {error}") from None
