# PYTHON_ARGCOMPLETE_OK
"""The command `daskel`: finds the command asked for, runs it, turns failures into words.

A command's module is imported only when it is asked for: the others' libraries take a second.
"""

from __future__ import annotations

import argparse
import gc
import os
import signal
import sys
import tempfile
import traceback
from collections.abc import Callable, Sequence
from contextlib import suppress
from importlib import import_module
from types import FrameType

from daskel import __version__
from daskel.cli.output import ExitCode, Output, UnusableSiteError
from daskel.cli.usage import Parser, UsageProblem
from daskel.system.requirements import MissingRequirementError

COMMANDS = {  # in the order of the work
    "survey": "look first: interfaces, networks, ports, and who answers DHCP",
    "new": "write a commented site file, from answers given as options or asked for",
    "root": "root filesystems: bring in, change, seal as versions, look into, compare, drop",
    "client": "list, show, add, change, rename, remove, import and export clients",
    "group": "list, show, add, change and remove groups",
    "loadout": "list, show, add, copy, change and remove loadouts",
    "assign": "say what a client or a group boots",
    "slate": "what clients changed on their roots: list, show, copy out, freeze, move, wipe",
    "lobby": "list, admit, refuse and forget machines that are not in the site",
    "files": "what clients can fetch: list, show as one client gets it, add from an ISO image",
    "check": "find everything that is wrong with the site file and the files that it names",
    "explain": "show what one client gets, step by step, and the line that each value comes from",
    "handoff": "print what must be typed into somebody else's DHCP server",
    "rehearse": "boot simulated clients, or a real one in a virtual machine, against the site file",
    "serve": "answer the clients: DHCP, TFTP, HTTP and NFS, in the foreground, logging every event",
    "apply": "let the running server take the site file over, after showing what changes",
    "status": "show what runs, since when, and how far each client came",
    "wake": "switch machines on by magic packets, at a pace that the server carries; say who came",
    "watch": "watch clients boot: a line for each, what it fetches, and what it waits for",
    "boots": "past boots: list, show one whole, or a picture of many",
    "diagnose": "say why a client's boot came no further, from its events or from a capture",
    "forecast": "how long clients take from power-on to their root, and what limits them",
    "servers": "the servers of the site: which are alive, what they serve, whose site file differs",
    "store": "leases and past boots on the disk: check them, go back to a copy",
    "keys": "the site's own key for Secure Boot and HTTPS; clients' keys for private roots",
    "help": "say what a key of the site file means: its values, default, an example",
    "completion": "print what a shell needs to complete commands and the site's own names",
    "demo": "show all of it on a made-up site: no root, no network, a few seconds",
}


def _apart(words: Sequence[str]) -> tuple[Sequence[str], Sequence[str]]:
    """What stands behind `--` is another program's, with options of its own."""
    at = words.index("--") if "--" in words else len(words)
    return words[:at], words[at + 1 :]


_LONG_RUNNING = ("serve", "watch", "demo")


def parser(asked: str | None = None) -> argparse.ArgumentParser:
    """The whole command line; the arguments of the command `asked` alone, or of all."""
    top = Parser(
        prog="daskel",
        description="Boots diskless terminals and thin clients from one server, and can say why.",
        epilog="Begin with: daskel demo",
    )
    top.add_argument("--version", action="version", version=f"daskel {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, text in COMMANDS.items():
        command = commands.add_parser(
            name,
            help=text,
            description=text[:1].upper() + text[1:] + ".",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        if asked in (None, name):
            module = import_module(f"daskel.cli.commands.{name}")
            command.epilog = "example:\n" + "\n".join(f"  {line}" for line in module.EXAMPLE)
            module.arguments(command)
            command.set_defaults(run=module.run)
    return top


def _clean_up_at_the_end() -> None:
    """What a command has begun is ended also when its terminal or connection is closed."""

    own = os.getpid()

    def end(number: int, _frame: FrameType | None) -> None:
        if os.getpid() != own:  # forked, perhaps by a library: it has begun nothing
            os._exit(128 + number)
        sys.exit(128 + number)

    for number in (signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is signal.SIG_DFL:  # not with nohup
            signal.signal(number, end)


def main(arguments: Sequence[str] | None = None) -> int:
    try:
        return _main(arguments)
    except Exception as error:  # noqa: BLE001 - the last place where a fault becomes a sentence
        return _fault(error)


def _fault(error: Exception) -> int:
    """What happened goes to a file, and a sentence to the terminal."""
    text = "".join(traceback.format_exception(error))
    place = f"its details:\n{text}"
    with suppress(OSError):
        descriptor, path = tempfile.mkstemp(prefix="daskel-fault-", suffix=".txt")
        with os.fdopen(descriptor, "w") as file:
            file.write(f"daskel {__version__}, Python {sys.version}\n{text}")
        place = f"its details are in {path}"
    kind = type(error).__name__
    sys.stderr.write(f"daskel: a fault of Daskel itself ({kind}); {place}\n")
    sys.stderr.write("        please report it, with these details\n")
    return ExitCode.FAULT


def _main(arguments: Sequence[str] | None) -> int:
    words = sys.argv[1:] if arguments is None else arguments
    first = next((word for word in words if not word.startswith("-")), "")
    top = parser(None if "_ARGCOMPLETE" in os.environ else first)
    if "_ARGCOMPLETE" in os.environ:
        import argcomplete

        argcomplete.autocomplete(top)
    words, inside = _apart(words) if first == "root" else (words, [])
    args = top.parse_args(words)
    if inside:
        args.command_line = inside
    if args.command not in _LONG_RUNNING:
        gc.disable()  # a large site is many objects that live to the end
    _clean_up_at_the_end()
    output = Output(as_json=getattr(args, "json", False))
    run: Callable[[argparse.Namespace, Output], ExitCode] = args.run
    try:
        return int(run(args, output))
    except MissingRequirementError as error:
        output.error(error.problem, error.remedy)
        return ExitCode.LACKING
    except BrokenPipeError:  # the reader of our output has gone, as `head` does
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.GOOD
    except PermissionError as error:
        what = f"no permission for {error.filename}" if error.filename else str(error)
        output.error(what, "run this as root, or as a user who may")
        return ExitCode.LACKING
    except OSError as error:
        what = f"{error.filename}: {error.strerror}" if error.filename else str(error)
        output.error(
            what, "check that it is there, that this user may use it, and that the disk has room"
        )
        return ExitCode.LACKING
    except UsageProblem as error:
        output.error(error.problem, error.remedy)
        return ExitCode.WRONG_USE
    except UnusableSiteError as error:
        error.say(output)
        return error.code
    except KeyboardInterrupt:
        return 130
