"""What all commands share: exit codes, the two streams, findings, JSON."""

from __future__ import annotations

import difflib
import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from daskel.cli.usage import UsageProblem
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.positions import Origin
from daskel.core.values import counted

if TYPE_CHECKING:  # drawing takes longer to import than most commands to run
    from rich.console import Console
    from rich.progress import Progress

_COLOURS = {
    Severity.INVALID: "bold red",
    Severity.ERROR: "bold red",
    Severity.WARNING: "yellow",
    Severity.NOTE: "cyan",
}
_MOST_FINDINGS = 200  # that are shown
_PIPE_WIDTH = 200  # columns, where nobody looks at the width


class ExitCode(IntEnum):
    """What a command ends with."""

    GOOD = 0
    BAD_NEWS = 1
    WRONG_USE = 2
    LACKING = 3
    FAULT = 70  # of Daskel itself; EX_SOFTWARE of sysexits.h


@dataclass
class Output:
    """Results go to `out`, everything else to `err`. Colour only on a terminal."""

    as_json: bool = False
    out: TextIO = field(default_factory=lambda: sys.stdout)
    err: TextIO = field(default_factory=lambda: sys.stderr)
    stdin: TextIO = field(default_factory=lambda: sys.stdin)

    @cached_property
    def console(self) -> Console:
        """Where results are drawn."""
        return _console(self.out)

    @cached_property
    def errors(self) -> Console:
        """Where everything else is."""
        return _console(self.err)

    def print(self, *what: Any) -> None:
        self.console.print(*what, markup=False, highlight=False, soft_wrap=True)

    def block(self, text: str, margin: str) -> None:
        """Lines of a file; on a terminal, long ones go on behind the margin."""
        room = self.console.width - len(margin) if self.console.is_terminal else None
        for line in text.rstrip("\n").split("\n"):
            for start in range(0, max(len(line), 1), room or max(len(line), 1)):
                self.print(margin + line[start : start + room if room else None])

    def difference(self, path: Path, before: str, after: str) -> None:
        """What changes in a file, as a unified diff."""
        from rich.text import Text

        lines = difflib.unified_diff(
            before.splitlines(), after.splitlines(), str(path), str(path), "now", "new", 1, ""
        )
        colours = {"+": "green", "-": "red", "@": "cyan"}
        for line in lines:
            head = line.startswith(("+++", "---"))
            self.print(Text(line, style="bold" if head else colours.get(line[:1], "")))

    def json(self, value: object) -> None:
        self.out.write(json.dumps(value, ensure_ascii=False, default=str) + "\n")
        self.out.flush()

    def error(self, problem: str, remedy: str = "") -> None:
        if self.as_json:
            self.json({"error": problem, "remedy": remedy})
            return
        from rich.text import Text

        self.errors.print(Text.assemble(("daskel: ", "bold red"), problem), soft_wrap=True)
        if remedy:
            self.errors.print(Text(f"        {remedy}"), soft_wrap=True)

    def agreed(self, question: str, instead: str = "give --yes") -> bool:
        """A person at the terminal says yes. Raises UsageProblem where nobody is there."""
        if not self.stdin.isatty():
            problem = f"nobody is at a terminal to answer the question: {question}"
            raise UsageProblem(problem, instead)
        self.err.write(f"{question} [y/N] ")
        self.err.flush()
        return self.stdin.readline().strip().lower() in ("y", "yes")

    def findings(self, findings: list[Finding], *, on_disk: bool = True) -> None:
        """Each with its place, the line that it is about (when it is on disk), and the way out."""
        from rich.text import Text

        for finding in findings[:_MOST_FINDINGS]:
            place = (f"{finding.origin}: ", "bold")
            severity = (f"{finding.severity.value}: ", _COLOURS[finding.severity])
            self.print(Text.assemble(place, severity, finding.problem))
            for line in _source(finding.origin) if on_disk else ():
                self.print(Text(line, style="dim"))
            self.print(Text(f"      {finding.remedy}", style="green"))
        if len(findings) > _MOST_FINDINGS:
            more = counted(len(findings) - _MOST_FINDINGS, "more finding")
            self.print(f"{more} of this kind or others: correct these first, or look at --json.")


def working(output: Output, what: str, total: int) -> Progress:
    """A progress bar on a terminal, for long work; nothing elsewhere."""
    from rich.progress import BarColumn, DownloadColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (TextColumn(what), BarColumn(), DownloadColumn(), TimeRemainingColumn())
    quiet = output.as_json or not output.errors.is_terminal
    progress = Bar(*columns, console=output.errors, transient=True, disable=quiet)
    progress.add_task(what, total=total)
    return progress


def _console(stream: TextIO) -> Console:
    from rich.console import Console

    width = None if stream.isatty() else _PIPE_WIDTH
    return Console(file=stream, width=width, highlight=False, markup=False, emoji=False)


def _source(origin: Origin) -> list[str]:
    """The line of the file and a mark under the text in question."""
    lines = _lines(origin.file)
    line = lines[origin.line - 1] if origin.line <= len(lines) else ""
    if not line.strip():
        return []
    length = max(1, min(len(origin.text), len(line) - origin.column + 1))
    return [f"    | {line}", f"    | {' ' * (origin.column - 1)}{'^' * length}"]


@lru_cache(maxsize=4)
def _lines(file: str) -> list[str]:
    """For all findings of one run."""
    try:
        return Path(file).read_text().splitlines()
    except (OSError, UnicodeDecodeError, ValueError):
        return []


def origin_json(origin: Origin | None) -> dict[str, object] | None:
    if origin is None:
        return None
    return {"file": origin.file, "line": origin.line, "column": origin.column}


def finding_json(finding: Finding) -> dict[str, object]:
    return {
        "severity": finding.severity.value,
        "place": origin_json(finding.origin),
        "text": finding.origin.text,
        "problem": finding.problem,
        "remedy": finding.remedy,
    }


def short_place(origin: Origin | None) -> str:
    """`daskel.toml:12:9`, without the folders before it."""
    if origin is None:
        return ""
    place = f":{origin.line}:{origin.column}" if origin.line else ""
    return Path(origin.file).name + place


class UnusableSiteError(Exception):
    """A site file that cannot be used: what is wrong with it, and the exit code for that."""

    def __init__(self, findings: Sequence[Finding], code: ExitCode) -> None:
        super().__init__(findings, code)
        self.findings, self.code = list(findings), code

    def say(self, output: Output) -> None:
        if output.as_json:
            output.json({"findings": [finding_json(finding) for finding in self.findings]})
        else:
            output.findings(self.findings)
