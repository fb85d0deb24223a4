"""TOML text becomes tables, or a list of every line that is not TOML; one bad line does not hide
the next."""

from __future__ import annotations

import re
import tomllib
from contextlib import suppress
from contextvars import ContextVar
from functools import lru_cache
from typing import Any

import tomli  # compiled; three times as fast as the same code in the standard library

from daskel.core.site.finding import Finding, Severity
from daskel.core.site.positions import Origin

_SYNTAX = re.compile(r"(.*) \(at (?:line (\d+), column (\d+)|end of document)\)", re.DOTALL)
_MOST_SYNTAX_FINDINGS = 20
# Whether other threads may go on meanwhile: what is compiled lets none of them run.
LETS_OTHERS_RUN: ContextVar[bool] = ContextVar("LETS_OTHERS_RUN", default=False)


@lru_cache(maxsize=8)
def read_toml(text: str, file: str) -> tuple[dict[str, Any] | None, list[Finding], str, bool]:
    """The tables, the syntax findings, the text that was readable, and whether that is all.

    A line that is not TOML is blanked and reading begins again, so that one run names them all;
    a broken table header or a text that never ends makes the rest unreadable. What is returned is
    shared by all who read the same text: it must not be changed.
    """
    findings: list[Finding] = []
    if LETS_OTHERS_RUN.get():
        with suppress(ValueError, RecursionError):  # broken, or TOML 1.1, which it does not know
            return tomllib.loads(text), findings, text, True
    lines = text.splitlines(keepends=True)
    while len(findings) < _MOST_SYNTAX_FINDINGS:
        try:
            return tomli.loads("".join(lines)), findings, "".join(lines), not findings
        except RecursionError:
            origin, remedy = Origin(file, 1, 1), "write tables, not tables in tables in tables"
            problem = "not TOML that can be read: tables or lists are nested too deep"
            return None, [Finding(Severity.INVALID, origin, problem, remedy)], "", False
        except tomli.TOMLDecodeError as error:
            finding = _syntax(str(error), lines, file)
            findings.append(finding)
            bad = lines[finding.origin.line - 1].strip() if lines else ""
            pair = re.match(r"[\w\"'. -]+=", bad) and not re.search(r"[\[{]\s*$|\"\"\"|'''", bad)
            if not pair:
                return None, findings, "", False
            lines[finding.origin.line - 1] = "\n"
    return None, findings, "", False


def _syntax(message: str, lines: list[str], file: str) -> Finding:
    match = _SYNTAX.fullmatch(message)
    reason, line, column = match.groups() if match else (message, None, None)
    number = min(int(line or len(lines)), len(lines)) or 1
    if line and lines and not lines[number - 1].strip():
        number -= 1  # tomli sometimes points behind the line's end
    bad = lines[number - 1].rstrip() if lines else ""
    origin = Origin(file, number, int(column or len(bad) + 1), bad.strip())
    return Finding(Severity.INVALID, origin, f"not TOML: {_lower(reason)}", "correct this line")


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]
