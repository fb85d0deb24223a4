"""One thing that a check or a diagnosis has to say."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from difflib import get_close_matches
from enum import Enum
from functools import lru_cache

from daskel.core.site.positions import Origin


class Severity(Enum):
    """How bad a finding is; `invalid` and `error` keep a site from being used."""

    INVALID = "invalid"  # the site file cannot be understood: nothing can be done with it
    ERROR = "error"  # somebody will not boot
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that a check or a diagnosis has to say."""

    severity: Severity
    origin: Origin
    problem: str  # what is wrong, one sentence without a full stop
    remedy: str  # what to do


_MOST_NAMES = 12


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A remedy for a word that is not one of `known`."""
    return _meant(word, tuple(sorted(known)))


@lru_cache(maxsize=256)
def _meant(word: str, names: tuple[str, ...]) -> str:
    """The same mistake stands in a file many times."""
    near = get_close_matches(word, names, n=1, cutoff=0.6)
    if near:
        return f"did you mean {near[0]}?"
    more = ", ..." if len(names) > _MOST_NAMES else ""
    listed = ", ".join(names[:_MOST_NAMES])
    return f"known here: {listed}{more}" if names else "there are none yet"
