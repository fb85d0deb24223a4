"""What the commands about roots and slates share: the root that is asked for, and who uses it."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence

from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import open_site
from daskel.core.site.finding import did_you_mean
from daskel.system.roots import RootFolder
from daskel.system.sitefile import SiteFile
from daskel.system.slates import Slate, slates_below

Run = Callable[[argparse.Namespace, Output, SiteFile], ExitCode]


def opened(run: Run, *, new: bool = False) -> Callable[[argparse.Namespace, Output], ExitCode]:
    """The command with its site file, and with a root that is in it, or `new`."""

    def with_site(args: argparse.Namespace, output: Output) -> ExitCode:
        file = open_site(args, output, checked=False)
        if isinstance(file, ExitCode):
            return file
        assert file.site
        name = getattr(args, "name", None)
        if name is not None and name not in file.site.roots and not new:
            hint = did_you_mean(name, file.site.roots)
            output.error(f"the site has no root {name}", hint)
            return ExitCode.WRONG_USE
        return run(args, output, file)

    return with_site


def root_of(file: SiteFile, name: str) -> RootFolder:
    assert file.site
    return RootFolder(file.roots, file.site.root_path(name))


def slates_of(file: SiteFile, name: str) -> list[Slate]:
    return [slate for slate in slates_below(file.slates) if slate.root == name]


def version_name(number: int) -> str:
    return f"version {number}" if number else "the working tree"


def few(names: Sequence[str], most: int) -> str:
    rest = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + rest


def users_of(file: SiteFile, root: str, number: int) -> list[str]:
    """The clients whose slates were made on a version."""
    states = [(slate.client, slate.state()) for slate in slates_of(file, root)]
    return [client for client, state in states if state and state.version == number]


def paint(output: Output, what: str, path: str, more: str = "") -> None:
    colour = {"added": "green", "removed": "red", "changed": "yellow", "replaced": "yellow"}[what]
    output.print(Text.assemble((f"{what:<9}", colour), path, (more, "dim")))
