# PYTHON_ARGCOMPLETE_OK
"""The command `daskel`: finds the command asked for, runs it, turns failures into words."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Sequence
from types import ModuleType

import argcomplete

from daskel import __version__
from daskel.cli import check, demo, explain, serve
from daskel.cli.output import ExitCode, Output
from daskel.store.schema import SchemaError
from daskel.system.lacking import LackingError

COMMANDS: tuple[ModuleType, ...] = (check, explain, serve, demo)  # in the order of the work


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(
        prog="daskel",
        description="Boots diskless terminals and thin clients from one server, and can say why.",
        epilog="Begin with: daskel demo",
    )
    top.add_argument("--version", action="version", version=f"daskel {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for module in COMMANDS:
        command = commands.add_parser(
            module.NAME,
            help=module.HELP,
            description=module.HELP[:1].upper() + module.HELP[1:] + ".",
            epilog="example:\n" + "\n".join(f"  {line}" for line in module.EXAMPLE),
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        module.arguments(command)
        command.set_defaults(run=module.run)
    return top


def main(arguments: Sequence[str] | None = None) -> int:
    top = parser()
    argcomplete.autocomplete(top)
    args = top.parse_args(arguments)
    output = Output(as_json=getattr(args, "json", False))
    run: Callable[[argparse.Namespace, Output], ExitCode] = args.run
    try:
        return int(run(args, output))
    except LackingError as error:
        output.error(error.problem, error.remedy)
        return ExitCode.LACKING
    except SchemaError as error:
        output.error(str(error), "move the state file away, or name another with state = ...")
        return ExitCode.LACKING
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:  # the reader of our output has gone, as `head` does
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.GOOD
