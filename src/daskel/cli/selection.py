"""Which clients somebody means who names clients and groups."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from daskel.cli.completing import names_of
from daskel.cli.usage import UsageProblem
from daskel.core.site.finding import did_you_mean
from daskel.core.site.model import Site


def clients_argument(parser: argparse.ArgumentParser) -> None:
    """`who`: the words for `select`."""
    who = parser.add_argument(
        "who", nargs="*", metavar="CLIENT|GROUP", help="all when none is named"
    )
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]


def select(site: Site, words: Sequence[str]) -> list[str]:
    """The clients that are named, or are in a group that is named, in the order of the site; all
    when nothing is named. Raises UsageProblem for a word that is neither."""
    for word in words:
        if word not in site.clients and word not in site.groups:
            hint = did_you_mean(word, [*site.clients, *site.groups])
            raise UsageProblem(f"the site has no client or group {word}", hint)
    return [
        name for name, client in site.clients.items()
        if not words or name in words or set(words) & set(client.group)
    ]  # fmt: skip
