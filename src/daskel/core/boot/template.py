"""Templates: the short way of those that only name variables, which nearly all do; the language of
all others takes long to import (template_language)."""

from __future__ import annotations

import re
from collections.abc import Mapping

from daskel.core.boot.fill_error import FillError

__all__ = ["FillError", "only_names", "render"]

_NAMES = re.compile(r"\{\{ *([a-z][a-z_]*)(?:\.([a-z][a-z_]*))? *\}\}")


def render(text: str, known: Mapping[str, object]) -> str:
    """Fill in a template. Raises FillError."""
    if "{" not in text:
        return text
    found = only_names(text, known)
    if found is not None:
        return found
    from daskel.core.boot.template_language import fill

    return fill(text, known)


def only_names(text: str, known: Mapping[str, object]) -> str | None:
    """A template without anything but names of variables that are there; None for others."""
    if "\r" in text:  # the language makes of it what other systems end lines with
        return None
    parts = _NAMES.split(text)
    if any("{" in literal for literal in parts[::3]):
        return None
    for at in range(1, len(parts), 3):
        value, member = known.get(parts[at]), parts[at + 1]
        if member is not None:
            inside = isinstance(value, dict) and not hasattr(dict, member)
            value = value.get(member) if inside and isinstance(value, dict) else None
        if type(value) is not str:
            return None
        parts[at], parts[at + 1] = value, ""
    return "".join(parts)
