"""What a shell completes: the names of a site's tables."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import Any

from daskel.cli.site import path_of
from daskel.system.sitefile import load


def names_of(kinds: Sequence[str]) -> Callable[..., list[str]]:
    """A completer: the names of all tables of some kinds."""

    def complete(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
        site = load(path_of(parsed_args)).site
        tables = {
            "client": site.clients, "group": site.groups, "loadout": site.loadouts,
            "choice": site.choices, "root": site.roots, "segment": site.segments,
            "server": site.servers,
        } if site else {}  # fmt: skip
        return [name for kind in kinds for name in tables.get(kind, ())]

    return complete
