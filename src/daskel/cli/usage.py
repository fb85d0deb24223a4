"""Wrong use of a command: one exception for it, and a parser that shows the usage of the verb that
was meant, and a near word."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Sequence
from typing import Any, NoReturn

from daskel.core.site.finding import did_you_mean
from daskel.core.values import parse_duration

_HIDDEN = "_unrecognized_args"  # where argparse keeps what no parser knew

_MOST_MACHINES = 5000


class UsageProblem(Exception):  # noqa: N818 - names what was done, not a fault
    """What cannot be done as it was asked, and what can."""

    def __init__(self, problem: str, remedy: str = "") -> None:
        super().__init__(problem, remedy)
        self.problem, self.remedy = problem, remedy


class Parser(argparse.ArgumentParser):
    """Says what is wrong with a word where it stands, and what was perhaps meant."""

    def parse_known_args(  # type: ignore[override]
        self, args: Sequence[str] | None = None, namespace: argparse.Namespace | None = None
    ) -> tuple[argparse.Namespace, list[str]]:
        found, rest = super().parse_known_args(args, namespace)
        rest = [*rest, *getattr(found, _HIDDEN, [])]
        if rest:
            self._unknown(rest[0])
        return found, []

    def _unknown(self, word: str) -> NoReturn:
        if word.startswith("-"):
            options = [option for action in self._actions for option in action.option_strings]
            near = did_you_mean(word.partition("=")[0], options)
            self.error(f"there is no option {word.partition('=')[0]}{_meant(near)}")
        self.error(f"{word!r} is one word too many")

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        if action.choices is None or value in action.choices:
            return
        words = list(map(str, action.choices))
        if isinstance(action, argparse._SubParsersAction):  # noqa: SLF001 - argparse has no other name for it
            what = str(action.metavar or "word").lower()
            said = f"there is no {what} {value!r}{_meant(did_you_mean(str(value), words))}"
            raise argparse.ArgumentError(None, said)
        near = did_you_mean(str(value), words)
        said = f"{value!r} is not possible{_meant(near) or '; one of: ' + ', '.join(words)}"
        raise argparse.ArgumentError(action, said)

    def error(self, message: str) -> NoReturn:
        self.print_usage(sys.stderr)
        self.exit(2, f"daskel: {message}\n        {self.prog} --help shows more\n")


def _meant(near: str) -> str:
    return f"; {near}" if near.startswith("did you mean") else ""


def add_verb(
    verbs: Any, examples: Sequence[str], name: str, text: str, run: Callable[..., Any]
) -> argparse.ArgumentParser:
    """A verb of a command: the one way to declare it. Those of the command's examples that show it
    stand at the end of its help."""
    shown = [example for example in examples if example.split()[2:3] == [name]]
    assert shown, f"no example shows {name}"
    parser: argparse.ArgumentParser = verbs.add_parser(
        name, help=text, description=text[:1].upper() + text[1:] + ".",
        epilog="example:\n  " + "\n  ".join(shown),
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    parser.set_defaults(run=run)
    return parser


def seconds(text: str) -> int:
    """For an argument that is a duration with its unit."""
    try:
        return parse_duration(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text} {error}") from None


def many(text: str) -> int:
    """For an argument that is a number of machines."""
    if not text.isdigit() or not 1 <= int(text) <= _MOST_MACHINES:
        raise argparse.ArgumentTypeError(f"a number from 1 to {_MOST_MACHINES} is needed")
    return int(text)
