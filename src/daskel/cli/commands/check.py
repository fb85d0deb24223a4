"""`daskel check`: every finding about the site file and what it names."""

from __future__ import annotations

import argparse
from collections import Counter

from daskel.cli.completing import names_of
from daskel.cli.output import ExitCode, Output, finding_json
from daskel.cli.site import json_argument, path_of, site_argument
from daskel.cli.site_seen import load_with_seen
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import counted

EXAMPLE = ("daskel check", "daskel check --site /etc/daskel/daskel.toml --json")


def arguments(parser: argparse.ArgumentParser) -> None:
    client = parser.add_argument(
        "--client", metavar="CLIENT", help="only what concerns this one, its group and its loadout"
    )
    client.completer = names_of(["client"])  # type: ignore[attr-defined]
    site_argument(parser)
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = load_with_seen(path_of(args))
    if args.client is not None:
        if file.site is None or args.client not in file.site.clients:
            known = file.site.clients if file.site else ()
            output.error(f"there is no client {args.client!r}", did_you_mean(args.client, known))
            return ExitCode.WRONG_USE
        file.findings = _about(file.site, args.client, file.findings)
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
        counts = f"{counted(len(site.clients), 'client')}, {counted(len(site.segments), 'segment')}"
        output.print(
            f"{file.path} can be served: {counts}, {counted(len(site.loadouts), 'loadout')}."
        )
    return code


_PLURALS = {
    Severity.INVALID: "invalid",
    Severity.ERROR: "errors",
    Severity.WARNING: "warnings",
    Severity.NOTE: "notes",
}


def _about(site: Site, name: str, findings: list[Finding]) -> list[Finding]:
    """Those that stand in a table that the client is made of."""
    found = effective(site, name)
    tables = [("site",), ("client", name), *(("group", group) for group in found.client.group)]
    tables += [("loadout", entry) for entry in found.entries]
    tables += [("segment", found.segment.value)] if found.segment else []
    roots = {site.loadouts[entry].root for entry in found.entries}
    tables += [("root", root) for root in roots if root]
    places = [site.positions.of(table, key=True) for table in tables]
    starts = sorted((place.file, place.line) for place in places)
    headers = sorted(set(site.positions.tables()))

    def concerns(finding: Finding) -> bool:
        here = (finding.origin.file, finding.origin.line)
        above = [header for header in headers if header[0] == here[0] and header <= here]
        return bool(above) and above[-1] in starts

    return [finding for finding in findings if concerns(finding)]


def _summary(counts: Counter[Severity]) -> str:
    words = [
        f"{counts[s]} {_PLURALS[s] if counts[s] > 1 else s.value}" for s in Severity if counts[s]
    ]
    return "Findings: " + ", ".join(words) + "." if words else "No findings."
