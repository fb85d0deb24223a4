"""What follows from a site is worked out once for as long as that site is used, and kept beside it.

A site never changes, so neither does what follows from it; it is forgotten together with the site.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from functools import wraps
from typing import Concatenate, ParamSpec, TypeVar, cast
from weakref import WeakKeyDictionary

from daskel.core.site.model import Site

Arguments = ParamSpec("Arguments")
Result = TypeVar("Result")


def remembered(
    make: Callable[Concatenate[Site, Arguments], Result],
) -> Callable[Concatenate[Site, Arguments], Result]:
    """A function of a site and hashable arguments that is called once for each of them.

    Only for arguments of which a site has a bounded number: never for what a datagram says.
    """
    by_site: WeakKeyDictionary[Site, dict[Hashable, Result]] = WeakKeyDictionary()

    @wraps(make)
    def once(site: Site, /, *args: Arguments.args, **named: Arguments.kwargs) -> Result:
        known = by_site.get(site)
        if known is None:
            known = by_site[site] = {}
        key = (args, *named.items()) if named else args
        try:
            return known[key]
        except KeyError:
            made = known[key] = make(site, *args, **named)
            return made

    return cast(Callable[Concatenate[Site, Arguments], Result], once)
