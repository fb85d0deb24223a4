"""What the commands about roots, slates and files share: verbs, the root that is asked for, who
uses it, and folders that are made anew."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.cli.usage import add_verb
from daskel.core.site.finding import did_you_mean
from daskel.core.site.key_types import HOST_NAME
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.slates import Slate, slates_below
from daskel.system.sitefile import SiteFile

Run = Callable[[argparse.Namespace, Output, SiteFile], ExitCode]


def opened(run: Run, *, new: bool = False) -> Callable[[argparse.Namespace, Output], ExitCode]:
    """The command with its site file, and with a root that is in it, or `new`."""

    def with_site(args: argparse.Namespace, output: Output) -> ExitCode:
        file = open_site(args, checked=False)
        name = getattr(args, "name", None)
        if name is not None and name not in file.valid.roots and not new:
            hint = did_you_mean(name, file.valid.roots)
            output.error(f"the site has no root {name}", hint)
            return ExitCode.WRONG_USE
        return run(args, output, file)

    return with_site


def verb(
    verbs: Any, examples: Sequence[str], name: str, text: str, run: Run, *, new: bool = False
) -> argparse.ArgumentParser:
    """A verb of a command, with those of the command's examples that show it."""
    parser = add_verb(verbs, examples, name, text, opened(run, new=new))
    site_argument(parser)
    json_argument(parser)
    return parser


def may_make(
    args: argparse.Namespace, output: Output, folder: Path, name: str, goes: str, stays: str = ""
) -> ExitCode | None:
    """None when a new folder of this name can be made. `goes` says what is lost with one that is
    there, `stays` what is not."""
    if not HOST_NAME.fullmatch(name):
        output.error(
            f"{name!r} is not a possible name for a folder", "use letters, digits and dashes"
        )
        return ExitCode.WRONG_USE
    if folder.exists() and any(folder.iterdir()) and not args.replace:
        output.error(f"{folder} is there already", f"give another name, or --replace it{stays}")
        return ExitCode.WRONG_USE
    if args.dry_run:
        output.print(f"Would make {folder}.")
        return ExitCode.GOOD
    if folder.exists() and not args.yes and not output.as_json:
        output.print(f"{folder} goes, with all that {goes}.")
        if not output.agreed("Replace it?"):
            output.print("Nothing was replaced.")
            return ExitCode.GOOD
    return None


def root_of(file: SiteFile, name: str) -> RootFolder:
    return RootFolder(file.roots, file.valid.root_path(name))


def slates_of(file: SiteFile, name: str) -> list[Slate]:
    return [slate for slate in slates_below(file.slates) if slate.root == name]


def version_name(number: int) -> str:
    return f"version {number}" if number else "the working tree"


def users_of(file: SiteFile, root: str, number: int) -> list[str]:
    """The clients whose slates were made on a version."""
    states = [(slate.client, slate.state()) for slate in slates_of(file, root)]
    return [client for client, state in states if state and state.version == number]


def paint(output: Output, what: str, path: str, more: str = "") -> None:
    colour = {"added": "green", "removed": "red", "changed": "yellow", "replaced": "yellow"}[what]
    output.print(Text.assemble((f"{what:<9}", colour), path, (more, "dim")))
