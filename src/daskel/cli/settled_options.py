"""What a new system is to be like, besides its packages: options of `daskel root build`, or asked
for at a terminal."""

from __future__ import annotations

import argparse
import getpass
from dataclasses import replace
from pathlib import Path

from daskel.cli.output import Output
from daskel.cli.usage import UsageProblem
from daskel.core.values import few
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.inspecting import accounts_of, shows_a_program
from daskel.system.roots.settling import Settled, of_this_machine

_SCREEN_LIST = "thin-client"


def settled_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--user", metavar="ACCOUNT", help="an account that can log in")
    parser.add_argument(
        "--password-file", type=Path, metavar="FILE", help="its password, in the first line"
    )
    parser.add_argument(
        "--ssh-key", type=Path, metavar="FILE", help="a public key that logs in as this account"
    )
    parser.add_argument(
        "--like-here", action="store_true", help="locale, keyboard and time zone of this machine"
    )
    parser.add_argument("--locale", help="like en_GB.UTF-8")
    parser.add_argument("--keyboard", metavar="LAYOUT", help="like gb, or de")
    parser.add_argument("--time-zone", metavar="ZONE", help="like Europe/Lisbon")
    parser.add_argument(
        "--program", metavar="COMMAND",
        help="what the screen shows, full-screen: needs the list thin-client, and its package",
    )  # fmt: skip


def settled_of(args: argparse.Namespace, output: Output) -> Settled:
    """What was given, and what a person at the terminal answers. Raises UsageProblem."""
    asks = output.stdin.isatty() and not output.as_json and not args.yes
    here = of_this_machine() if args.like_here else Settled()
    try:
        wanted = replace(
            here,
            user=args.user,
            password=_first_line(args.password_file) if args.password_file else None,
            ssh_key=_first_line(args.ssh_key) if args.ssh_key else None,
            locale=args.locale or here.locale,
            keyboard=args.keyboard or here.keyboard,
            time_zone=args.time_zone or here.time_zone,
            program=args.program,
        )
    except ValueError as error:
        raise UsageProblem(str(error), "daskel root build --help has more") from None
    if (wanted.password or wanted.ssh_key) and not wanted.user:
        raise UsageProblem("a password or key without an account", "give --user, too")
    shows = args.list is not None and args.list.name == _SCREEN_LIST
    if shows and not wanted.program:
        wanted = _with_program(wanted, output, asks)
    if asks and not wanted.user and not wanted.program:
        wanted = _with_account(wanted, output)
    if wanted.user and not (wanted.password or wanted.ssh_key):
        if not asks:
            problem = f"{wanted.user} would have no password and no key"
            raise UsageProblem(problem, "give --password-file or --ssh-key")
        wanted = replace(wanted, password=_password(wanted.user, output))
    return wanted


def _first_line(path: Path) -> str:
    try:
        lines = path.read_text().splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "not text"
        raise MissingRequirementError(f"cannot read {path} ({reason})", "name another") from None
    if not lines or not lines[0].strip():
        raise UsageProblem(f"the first line of {path} is empty", "write it there")
    return lines[0].strip()


def _with_program(wanted: Settled, output: Output, asks: bool) -> Settled:
    if not asks:
        remedy = 'say it: --program "xterm -maximized", with --package xterm'
        raise UsageProblem("the list thin-client shows one program on the screen: which?", remedy)
    while True:
        line = _asked(output, "The program that the screen shows")
        try:
            return replace(wanted, program=line)
        except ValueError as error:
            output.err.write(f"  {error}\n")


def _with_account(wanted: Settled, output: Output) -> Settled:
    while line := _asked(output, "An account that can log in (empty: none)"):
        try:
            return replace(wanted, user=line)
        except ValueError as error:
            output.err.write(f"  {error}\n")
    return wanted


def _asked(output: Output, what: str) -> str:
    """Raises UsageProblem when the terminal is closed."""
    output.err.write(f"{what}: ")
    output.err.flush()
    line = output.stdin.readline()
    if not line:
        raise UsageProblem("the terminal was closed", "give it as an option")
    return line.strip()


def _password(user: str, output: Output) -> str:
    while True:
        first = getpass.getpass(f"Password of {user}: ", output.err)
        if first and first == getpass.getpass("Once more: ", output.err):
            return first
        output.err.write("  they differ, or are empty\n")


def say_who_logs_in(tree: Path, output: Output) -> None:
    """At the end of a build or an import."""
    found, shows = accounts_of(tree), shows_a_program(tree)
    if shows:
        output.print("Its screen belongs to one program; nobody can do anything else there.")
    if found:
        output.print(f"Who can log in: {few(list(map(str, found)), 8)}.")
    elif found is not None and not shows:
        output.print("Nobody can log in: every account is locked. daskel root edit "
                     "NAME -- passwd root gives one a password.")  # fmt: skip
