"""`daskel rehearse`: boots simulated clients, or a real one in a virtual machine, against the site
as it is on disk, without the server that runs."""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.table import Table
from rich.text import Text

from daskel.cli.boots import cause_json
from daskel.cli.editing import names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.practice import Practice, begin, free_base, serving
from daskel.cli.rooted import few
from daskel.cli.site import json_argument, open_site, site_argument
from daskel.core.boot.diagnosis import Case, Cause, diagnose
from daskel.core.boot.files import client_paths
from daskel.core.boot.outcome import Result
from daskel.core.boot.stages import Seen
from daskel.core.site.finding import did_you_mean
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import parse_duration, show_duration, show_size
from daskel.rehearse.client import Board, Boot, Got
from daskel.rehearse.fetch import Way
from daskel.rehearse.firmware import BOARD, FACES
from daskel.rehearse.storm import Job
from daskel.store.reading import read_boots, read_leases
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel rehearse                   # one simulated boot of every client",
    "daskel rehearse tide-01 --firmware uefi",
    "daskel rehearse tide --storm 300 --within 5s --plot storm.png",
    "daskel rehearse tide-01 --machine # real firmware and kernel, in a virtual machine (root)",
)
_AT_ONCE = 24  # clients, without --storm
_NAMES = 6
_LOOK_BACK = 2000  # boots


def arguments(parser: argparse.ArgumentParser) -> None:
    who = parser.add_argument(
        "who", nargs="*", metavar="CLIENT|GROUP", help="all when none is named"
    )
    who.completer = names_of(["client", "group"])  # type: ignore[attr-defined]
    parser.add_argument(
        "--firmware", choices=list(FACES),
        help="how they ask (default: as each was last seen, else by the site's loaders)",
    )  # fmt: skip
    parser.add_argument(
        "--storm", type=_many, metavar="N",
        help="so many at once: the clients themselves, then copies of them",
    )  # fmt: skip
    parser.add_argument(
        "--within", type=_seconds, default=0, metavar="TIME",
        help='with --storm: begin them spread over this time, like "5s" (default: all at once)',
    )  # fmt: skip
    parser.add_argument(
        "--plot", type=Path, metavar="FILE", help="with --storm: a picture (.png or .svg)"
    )
    parser.add_argument(
        "--machine", action="store_true",
        help="boot one client as a virtual machine with real firmware, in a network of its own",
    )  # fmt: skip
    parser.add_argument(
        "--keep", type=Path, metavar="DIR",
        help="leave the server's log and what else was made in this folder",
    )  # fmt: skip
    site_argument(parser)
    json_argument(parser)


def _many(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 5000:
        raise argparse.ArgumentTypeError("a number from 1 to 5000 is needed")
    return int(text)


def _seconds(text: str) -> int:
    try:
        return parse_duration(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text} {error}") from None


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    file = open_site(args, output, checked=True)
    if isinstance(file, ExitCode):
        return file
    assert file.site
    try:
        return _run(args, file, file.site, output)
    except WrongWishError as error:
        output.error(*error.args)
        return ExitCode.WRONG_USE


class WrongWishError(Exception):
    """What cannot be rehearsed, and what can."""


def _run(args: argparse.Namespace, file: SiteFile, site: Site, output: Output) -> ExitCode:
    names = chosen(site, args.who)
    if args.plot and args.plot.suffix not in (".png", ".svg"):
        raise WrongWishError(f"{args.plot} is no picture", "end its name with .png or .svg")
    if (args.plot or args.within) and not args.storm:
        raise WrongWishError("--plot and --within go with --storm", "daskel rehearse --help")
    if args.machine and (len(names) != 1 or args.storm):
        raise WrongWishError("one client is rehearsed as a machine", "name one; no --storm")
    if args.machine:
        from daskel.cli.machine import rehearse_machine

        return rehearse_machine(args, file, names[0], output)
    if args.storm:
        from daskel.cli.storm import rehearse_storm

        return rehearse_storm(args, file, names, output)
    return _rehearse(args, file, names, output)


def chosen(site: Site, words: Sequence[str]) -> list[str]:
    """The clients that are meant and have something to boot. Raises WrongWishError."""
    for word in words:
        if word not in site.clients and word not in site.groups:
            hint = did_you_mean(word, [*site.clients, *site.groups])
            raise WrongWishError(f"the site has no client or group {word}", hint)
    names = [
        name for name, client in site.clients.items()
        if not words or name in words or set(words) & set(client.group)
    ]  # fmt: skip
    if not names:
        raise WrongWishError("the site has no such clients", "daskel client add makes one")
    return names


@contextmanager
def folder_of(keep: Path | None) -> Iterator[Path]:
    """Where a practice writes: kept where the user says so."""
    if keep is None:
        with tempfile.TemporaryDirectory(prefix="daskel-rehearse-") as made:
            yield Path(made)
    else:
        yield keep.absolute()


def _rehearse(
    args: argparse.Namespace, file: SiteFile, names: Sequence[str], output: Output
) -> ExitCode:
    with folder_of(args.keep) as folder:
        practice = Practice(str(file.path.absolute()), str(folder), free_base())
        begin(practice, file)
        jobs = jobs_of(practice, file, names, args.firmware)
        since = time.time()
        with serving(practice):
            boots = boot_all(jobs, output)
        results = judged(practice, file, boots, since)
    _show(results, output)
    return ExitCode.GOOD if all(r.good for r in results) else ExitCode.BAD_NEWS


def jobs_of(
    practice: Practice, file: SiteFile, names: Sequence[str], firmware: str | None
) -> list[Job]:
    """What the simulated clients are to do. Raises WrongWishError."""
    assert file.site
    site, like = practice.of(file.site)
    wanted = [name for name in site.clients if like.get(name) in names]
    wanted = [name for name in wanted if not practice.copies or name in like]
    seen = _seen(practice, [like[name] for name in wanted], file.site)
    return [_job(practice, file, site, name, like[name], seen, firmware) for name in wanted]


def _seen(practice: Practice, names: Sequence[str], site: Site) -> dict[str, int]:
    """The architecture types that machines sent last, by MAC address."""
    seen = dict(read_leases(practice.state).architectures())
    others = {site.clients[name].mac for name in names} - seen.keys()
    for boot in read_boots(practice.state, clients=others, most=_LOOK_BACK):
        number = next(
            (e.architecture for _, e in boot.of(Seen) if e.architecture is not None), None
        )
        if number is not None:
            seen.setdefault(boot.mac, number)
    return seen


def _job(
    practice: Practice, file: SiteFile, site: Site, name: str, like: str, seen: Mapping[str, int],
    firmware: str | None,
) -> Job:  # fmt: skip
    found = effective(site, name)
    assert file.site
    if found.segment is None:
        raise WrongWishError(f"client {name} is on no segment", "daskel check says more")
    known = seen.get(file.site.clients[like].mac)
    face = firmware or firmware_of(file, found.loadout_name, known)
    board = _board(site, name) if face == BOARD else None
    server = site.segments[found.segment.value].server
    try:
        way = Way.of(site, name)
    except ValueError as error:
        raise WrongWishError(str(error), "daskel explain shows what it gets") from None
    return Job(practice.wire, server, name, found.mac.value, face, way, board)


def firmware_of(file: SiteFile, loadout: str | None, seen: int | None) -> str:
    """As a machine was last seen; else as its kernel and the site's boot loaders suggest."""
    assert file.site
    known = next((name for name, face in FACES.items() if face.architecture == seen), None)
    if seen is not None:
        return known or ("uefi" if seen == 9 else BOARD)
    if file.kernels.get(loadout or "") in ("arm", "arm64"):
        return "arm64"
    return "bios" if "bios" in file.site.settings.loaders else "uefi"


def _board(site: Site, name: str) -> Board:
    texts = [
        path for pattern, file in site.files.items() if not file.folder
        for path in client_paths(site, pattern, name)
    ]  # fmt: skip
    if not texts:
        raise WrongWishError(
            f"{name} is to be a board that reads text files, and the site has none for it",
            'write one: [file."{{ client.mac_dashed }}/..."]',
        )
    loadout = effective(site, name).loadout
    return Board(texts, (loadout and loadout.kernel) or "", loadout.initrd if loadout else ())


def boot_all(jobs: Sequence[Job], output: Output) -> list[Boot]:
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn())
    quiet = output.as_json or not output.errors.is_terminal
    with Progress(*columns, console=output.errors, transient=True, disable=quiet) as progress:
        task = progress.add_task("booting", total=len(jobs))

        def moved(result: Boot) -> None:
            done = 1 if result.seconds else 0
            progress.update(task, advance=done, description=f"{result.name}: {result.stage:<14}")

        with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
            return list(pool.map(lambda job: job.run(moved), jobs))


# --- what came of it ---


@dataclass(frozen=True)
class Rehearsed:
    """One client's rehearsal: as it saw it, and as the server's events explain it."""

    boot: Boot
    loadout: str
    problem: str  # the first thing that is wrong, empty when nothing is
    cause: Cause | None = None

    @property
    def good(self) -> bool:
        return not self.problem


def judged(
    practice: Practice, file: SiteFile, boots: Sequence[Boot], since: float
) -> list[Rehearsed]:
    """Each boot with the first thing that is wrong."""
    assert file.site
    site, _ = practice.of(file.site)
    newest = {boot.mac: boot for boot in reversed(read_boots(practice.state, since=since))}
    disk: dict[Path, str] = {}
    results = []
    for boot in boots:
        found = effective(site, boot.name)
        problem = boot.problem or differs(file, boot, disk)
        cause = None
        if boot.mac in newest:
            case = Case(newest[boot.mac], float("inf"))
            cause = next(iter(diagnose(case)), None)
            if boot.stage == "local disk" and case.result == Result.REFUSED:
                problem = "it is given no boot file"
        cause = cause if problem else None
        results.append(Rehearsed(boot, found.boot.value if found.boot else "", problem, cause))
    return results


def differs(file: SiteFile, boot: Boot, known: dict[Path, str]) -> str:
    """The first boot file whose content is not what lies on the server's disk. What is in a root
    may be made for its client; what is computed has no file. `known`: digests that are kept."""
    for got in boot.files:
        source = _source(file, boot.name, got)
        if got.what in ("root", "configuration", "loader") or source is None:
            continue
        if source not in known:
            known[source] = _digest(source)
        if known[source] and known[source] != got.digest:
            return f"{got.path} is not the same as {source}"
    return ""


def _source(file: SiteFile, name: str, got: Got) -> Path | None:
    """Where a file lies on disk: the client's own first."""
    assert file.site
    path = got.path.split("/", 3)[3] if got.path.startswith("http://") else got.path
    client = file.site.clients.get(name)
    own = [f"clients/{name}", *(f"groups/{group}" for group in (client.group if client else ()))]
    places = [file.files / folder / path for folder in own] + [file.files / path]
    return next((place for place in places if place.is_file()), None)


def _digest(path: Path) -> str:
    digest = sha256()
    with path.open("rb") as opened:
        while piece := opened.read(1 << 20):
            digest.update(piece)
    return digest.hexdigest()


def _show(results: Sequence[Rehearsed], output: Output) -> None:
    if output.as_json:
        good = all(result.good for result in results)
        output.json({"good": good, "clients": [result_json(result) for result in results]})
        return
    output.console.print(table_of(results))
    show_problems(results, output)
    count = sum(1 for result in results if result.good)
    output.print(f"\n{count} of {len(results)} clients would come up.")


def table_of(results: Sequence[Rehearsed]) -> Table:
    """A row for each client."""
    table = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("client", "firmware", "address", "loadout"):
        table.add_column(title, no_wrap=True)
    for title in ("boot files", "root files", "received", "time"):
        table.add_column(title, justify="right", no_wrap=True)
    table.add_column("came to")
    for result in results:
        table.add_row(*_cells(result))
    return table


def _cells(result: Rehearsed) -> list[str | Text]:
    boot = result.boot
    from_root = sum(1 for got in boot.files if got.what == "root")
    stage = Text(boot.stage, style="green" if result.good else "red")
    return [
        boot.name, boot.firmware, str(boot.address or ""), result.loadout,
        str(len(boot.files) - from_root), str(from_root or ""),
        show_size(sum(got.size for got in boot.files)), show_duration(round(boot.seconds, 2)),
        stage,
    ]  # fmt: skip


def show_problems(results: Sequence[Rehearsed], output: Output) -> None:
    """What is wrong, each once, with those that it stops."""
    alike: dict[tuple[str, str], list[Rehearsed]] = {}
    for result in (r for r in results if not r.good):
        key = result.problem.replace(result.boot.name, "NAME").replace(result.boot.mac, "MAC")
        remedy = result.cause.remedy if result.cause else ""
        alike.setdefault((key, remedy), []).append(result)
    for (_, remedy), same in alike.items():
        names = few([result.boot.name for result in same], _NAMES)
        output.print()
        output.print(Text.assemble((f"{names}: ", "bold red"), same[0].problem))
        cause = same[0].cause
        if cause:
            output.print(f"      {cause.cause}: {cause.problem}")
            output.print(Text(f"      {remedy}", style="green"))
    noted: dict[str, list[str]] = {}
    for boot in (result.boot for result in results if result.good and result.boot.note):
        noted.setdefault(boot.note, []).append(boot.name)
    for note, names_of_it in noted.items():
        output.print(f"\n{few(names_of_it, _NAMES)}: {note}")


def result_json(result: Rehearsed) -> dict[str, object]:
    boot = result.boot
    return {
        "client": boot.name, "mac": boot.mac, "firmware": boot.firmware,
        "address": str(boot.address) if boot.address else None,
        "stage": boot.stage, "good": result.good, "problem": result.problem or None,
        "finding": cause_json(result.cause) if result.cause else None,
        "seconds": round(boot.seconds, 3), "asked_again": len(boot.again),
        "command_line": boot.command_line, "note": boot.note or None,
        "files": [
            {"what": g.what, "path": g.path, "bytes": g.size, "sha256": g.digest}
            for g in boot.files
        ],
    }  # fmt: skip
