"""Jinja2 templates, sandboxed; a name that is not known is an error."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from jinja2 import StrictUndefined, Template, TemplateError
from jinja2.sandbox import ImmutableSandboxedEnvironment


class FillError(ValueError):
    """A template that cannot be filled in; `line` counts from 1 within it."""

    def __init__(self, reason: str, line: int) -> None:
        super().__init__(reason)
        self.line = line


class _Unknown(StrictUndefined):
    @property
    def _undefined_message(self) -> str:
        return self._undefined_hint or f"there is no variable {self._undefined_name!r}"


_ENVIRONMENT = ImmutableSandboxedEnvironment(
    undefined=_Unknown, autoescape=False, keep_trailing_newline=True
)


@lru_cache(maxsize=4096)
def _compiled(text: str) -> Template:
    return _ENVIRONMENT.from_string(text)


def render(text: str, known: Mapping[str, object]) -> str:
    """Fill in a template. Raises FillError."""
    if "{" not in text:
        return text
    try:
        return _compiled(text).render(known)
    except (TemplateError, ArithmeticError, TypeError, ValueError, LookupError) as error:
        raise FillError(str(error), _line(error)) from error


def _line(error: Exception) -> int:
    """The template's line that an error comes from: its own, or the last frame inside of it."""
    line: int = getattr(error, "lineno", 0) or 0
    trace = error.__traceback__
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            line = trace.tb_lineno
        trace = trace.tb_next
    return line or 1
