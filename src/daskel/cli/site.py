"""Every command's way to its site file: where it is, and what happens when it is wrong."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from daskel.cli.output import ExitCode, UnusableSiteError
from daskel.core.site.finding import Severity
from daskel.system.control_client import ask, socket_path
from daskel.system.site_check import load_checked
from daskel.system.sitefile import SiteFile, load

_PLACES = (Path("daskel.toml"), Path("/etc/daskel/daskel.toml"))


def site_argument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--site",
        type=Path,
        metavar="FILE",
        help="the site file (default: daskel.toml here, else /etc/daskel/daskel.toml)",
    )


def server_argument(parser: argparse.ArgumentParser, text: str) -> None:
    """Which of several servers; `text`: what for."""
    more = " (default: the one that has an address of this machine)"
    parser.add_argument("--as", dest="own", metavar="NAME", help=text + more)


def change_arguments(parser: argparse.ArgumentParser) -> None:
    """What every verb has that changes something, whether or not it asks."""
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser.add_argument(
        "--dry-run", action="store_true", help="show what would change, and change nothing"
    )


def json_argument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print JSON for programs")


def path_of(args: argparse.Namespace) -> Path:
    given: Path | None = args.site
    return given or next((place for place in _PLACES if place.exists()), _PLACES[0])


def open_site(args: argparse.Namespace, *, checked: bool) -> SiteFile:
    """The site file, when it can be used. Raises UnusableSiteError."""
    path = path_of(args)
    own: str | None = getattr(args, "own", None)  # of several servers
    file = load_checked(path, own=own) if checked else load(path, own=own)
    bad = [f for f in file.findings if f.severity in (Severity.INVALID, Severity.ERROR)]
    if bad:
        raise UnusableSiteError(bad, ExitCode.WRONG_USE if file.invalid else ExitCode.BAD_NEWS)
    return file


def question(file: SiteFile, what: str, **more: object) -> dict[str, Any] | None:
    """Ask the server that runs with the store of this site file."""
    return ask(socket_path(file.state), what, **more) if file.site else None
