"""`daskel demo`: the demo site served on loopback, and its 22 clients booted against it."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from daskel.cli.explanations import explain_client, show
from daskel.cli.output import ExitCode, Output
from daskel.cli.practice_server import free_base, running
from daskel.cli.rehearsals import Rehearsed, boot_all, differs, show_problems, table_of, what_boots
from daskel.cli.site import json_argument
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import counted, show_duration, show_size
from daskel.demo.data import firmware_of, lay_out
from daskel.rehearse.client import SimulatedBoot, whole_root
from daskel.rehearse.fetch import Way
from daskel.rehearse.storm import Job
from daskel.system.site_check import load_checked
from daskel.system.sitefile import SiteFile

EXAMPLE = ("daskel demo", "daskel demo --keep /tmp/skerry-point")


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--keep", type=Path, metavar="DIR", help="leave the demo site in this folder afterwards"
    )
    json_argument(parser)


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    if args.keep is None:
        with tempfile.TemporaryDirectory(prefix="daskel-demo-") as folder:
            return _demo(Path(folder), output, kept=False)
    if args.keep.is_dir() and any(args.keep.iterdir()):
        output.error(f"the folder {args.keep} is not empty", "name a new one with --keep")
        return ExitCode.WRONG_USE
    args.keep.mkdir(parents=True, exist_ok=True)
    return _demo(args.keep.absolute(), output, kept=True)


def _demo(folder: Path, output: Output, *, kept: bool) -> ExitCode:
    began = time.monotonic()
    file = load_checked(lay_out(folder))
    assert file.site and file.usable, "the demo site is good"
    wire = Wire(Ports.from_base(free_base()), loopback=True)
    if not output.as_json:
        output.print(_introduction(file.valid, kept, folder))
    with _server(file, wire):
        boots = boot_all(list(_jobs(file.valid, wire)), output)
    known: dict[Path, str] = {}
    for result in boots:
        wrong = result.problem or differs(file, file.valid, result, known)
        result.problem = wrong or _unread(file, result)
    good = all(not result.problem and result.stage == "root" for result in boots)
    if output.as_json:
        output.json({"good": good, "clients": [_json(result, file) for result in boots]})
    else:
        _report(output, file, boots, time.monotonic() - began, kept)
    return ExitCode.GOOD if good else ExitCode.BAD_NEWS


def _introduction(site: Site, kept: bool, folder: Path) -> str:
    where = str(folder) if kept else "a temporary folder"
    segments = ", ".join(site.segments)
    return (
        f"{site.settings.name}: {len(site.clients)} simulated clients on {segments}, "
        f"served on loopback from {where}.\nKernels and roots are small generated stand-ins; "
        "the protocols and the server are real.\n"
    )


@contextmanager
def _server(file: SiteFile, wire: Wire) -> Iterator[None]:
    """`daskel serve` as a process of its own, ready when this is entered; its log is kept beside
    the site file."""
    base = wire.ports.dhcp - Ports().dhcp
    command = [sys.executable, "-m", "daskel", "serve", "--json", "--site", str(file.path)]
    with running([*command, "--loopback", str(base)], file.path.parent / "serve.log"):
        yield


def _jobs(site: Site, wire: Wire) -> Iterator[Job]:
    for name in site.clients:
        found = effective(site, name)
        assert found.segment
        server, way = site.segments[found.segment.value].server, Way.of(site, name)
        face = firmware_of(name).value
        yield Job(wire, server, name, found.mac.value, face, way, read=whole_root)


def _unread(file: SiteFile, result: SimulatedBoot) -> str:
    """Whether every file of its root was read."""
    found = effective(file.valid, result.name)
    root = file.roots / (found.loadout.root if found.loadout and found.loadout.root else "")
    expected = sum(1 for path in root.rglob("*") if path.is_file() and "bin/" not in str(path))
    read = sum(
        1 for got in result.files
        if got.what == "root" and "bin/" not in got.path and (root / got.path).exists()
    )  # fmt: skip
    return "" if expected == read else f"{read} of {expected} files were read from the root"


def _report(
    output: Output, file: SiteFile, boots: list[SimulatedBoot], seconds: float, kept: bool
) -> None:
    results = [Rehearsed(one, what_boots(file.valid, one.name), one.problem) for one in boots]
    output.console.print(table_of(results))
    show_problems(results, output)
    up = sum(1 for result in boots if not result.problem and result.stage == "root")
    total = sum(got.size for result in boots for got in result.files)
    came = f"{up} of {counted(len(boots), 'client')} came up"
    output.print(
        f"\n{came}: {show_size(total)} received, every file the same as on the server's disk; "
        f"{show_duration(seconds)} in all.\n"
        if up == len(boots)
        else f"\n{came}; {show_duration(seconds)} in all.\n"
    )
    output.print("What tide-01 gets, as `daskel explain tide-01` shows it:\n")
    firmware, how, explanation = explain_client(file, "tide-01", None)
    if not isinstance(explanation, str):
        show(output, explanation, firmware, how)
    if kept:
        output.print(
            f"\nGo on with: cd {file.path.parent} && daskel boots list && daskel rehearse; "
            "daskel serve --loopback"
        )


def _json(result: SimulatedBoot, file: SiteFile) -> dict[str, object]:
    return {
        "client": result.name,
        "mac": result.mac,
        "firmware": result.firmware,
        "loadout": what_boots(file.valid, result.name),
        "address": str(result.address) if result.address else None,
        "stage": result.stage,
        "problem": result.problem or None,
        "seconds": round(result.seconds, 3),
        "command_line": result.command_line,
        "files": [
            {"what": g.what, "path": g.path, "bytes": g.size, "sha256": g.digest}
            for g in result.files
        ],
    }
