"""The language of templates: Jinja2, sandboxed; a name that is not known is an error."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

from jinja2 import StrictUndefined, Template, TemplateError, TemplateSyntaxError, nodes
from jinja2.exceptions import TemplateRuntimeError
from jinja2.runtime import Context
from jinja2.sandbox import ImmutableSandboxedEnvironment

from daskel.core.boot.fill_error import FillError


class _Unknown(StrictUndefined):
    @property
    def _undefined_message(self) -> str:
        return self._undefined_hint or f"there is no variable {self._undefined_name!r}"


class _Environment(ImmutableSandboxedEnvironment):
    """A template cannot run for long: loops are short and not deep, products are small."""

    intercepted_binops = frozenset(("*", "**"))

    def call_binop(self, context: Context, operator: str, left: Any, right: Any) -> Any:
        """Numbers that a template may need, and no more."""
        for value in (left, right):
            if not isinstance(value, (int, float, str)) or (
                isinstance(value, (int, float)) and abs(value) > _LARGEST_FACTOR
            ):
                raise TemplateRuntimeError(f"{operator} is for numbers up to {_LARGEST_FACTOR:,}")
        if operator == "**" and isinstance(right, (int, float)) and abs(right) > _LARGEST_POWER:
            raise TemplateRuntimeError(f"** takes powers up to {_LARGEST_POWER}")
        return super().call_binop(context, operator, left, right)


def _range(*numbers: int) -> range:
    found = range(*numbers)
    if len(found) > _LONGEST:
        raise TemplateRuntimeError(f"a loop has {_LONGEST:,} turns at most")
    return found


_LONGEST, _DEEPEST = 1000, 2  # turns of a loop; loops in loops
_LARGEST_FACTOR, _LARGEST_POWER = 1_000_000, 64
_ENVIRONMENT = _Environment(undefined=_Unknown, autoescape=False, keep_trailing_newline=True)
_ENVIRONMENT.globals["range"] = _range
_ENVIRONMENT.globals.pop("lipsum", None)
_FAILURES = (TemplateError, ArithmeticError, TypeError, ValueError, LookupError, RecursionError,
             MemoryError)  # fmt: skip
_LOOPS = (nodes.For, nodes.Macro, nodes.CallBlock)


def _check_loops(node: nodes.Node, depth: int = 0) -> None:
    """Raises TemplateSyntaxError for loops in loops in loops, and for what calls itself."""
    for child in node.iter_child_nodes():
        loops = isinstance(child, _LOOPS)
        if depth + loops > _DEEPEST:
            raise TemplateSyntaxError("loops are nested too deep", child.lineno)
        if isinstance(child, (nodes.Macro, nodes.CallBlock)) or (
            isinstance(child, nodes.For) and child.recursive
        ):
            raise TemplateSyntaxError("macros and recursive loops cannot be used", child.lineno)
        _check_loops(child, depth + loops)


@lru_cache(maxsize=4096)
def _compiled(text: str) -> Template:
    _check_loops(_ENVIRONMENT.parse(text))
    return _ENVIRONMENT.from_string(text)


def fill(text: str, known: Mapping[str, object]) -> str:
    """Fill in a template. Raises FillError."""
    try:
        return _compiled(text).render(known)
    except _FAILURES as error:
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
