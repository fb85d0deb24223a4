"""`daskel check`: every finding about the site file and what it names."""

from __future__ import annotations

import argparse
from collections import Counter

from daskel.cli.output import ExitCode, Output, finding_json
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.core.site.finding import Severity
from daskel.system.sitefile import load_checked

EXAMPLE = ("daskel check", "daskel check --site /etc/daskel/daskel.toml --json")


def arguments(parser: argparse.ArgumentParser) -> None:
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load_checked(path_of(args))
    code = ExitCode.GOOD if file.usable else ExitCode.BAD_NEWS
    code = ExitCode.WRONG_USE if file.invalid else code
    if output.as_json:
        found = [finding_json(finding) for finding in file.findings]
        output.json({"site": str(file.path), "good": file.usable, "findings": found})
        return code
    output.findings(file.findings)
    output.print(_summary(Counter(finding.severity for finding in file.findings)))
    if file.usable and file.site:
        site = file.site
        counts = f"{len(site.clients)} clients, {len(site.segments)} segments"
        output.print(f"{file.path} can be served: {counts}, {len(site.loadouts)} loadouts.")
    return code


_PLURALS = {
    Severity.INVALID: "invalid",
    Severity.ERROR: "errors",
    Severity.WARNING: "warnings",
    Severity.NOTE: "notes",
}


def _summary(counts: Counter[Severity]) -> str:
    words = [
        f"{counts[s]} {_PLURALS[s] if counts[s] > 1 else s.value}" for s in Severity if counts[s]
    ]
    return "Findings: " + ", ".join(words) + "." if words else "No findings."
