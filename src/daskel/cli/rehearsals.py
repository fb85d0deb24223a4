"""What every kind of rehearsal shares: the jobs of simulated clients, and how their results are
judged and shown."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.table import Table
from rich.text import Text

from daskel.cli.boot_views import cause_json
from daskel.cli.output import Output
from daskel.cli.practice_server import Practice, Practised
from daskel.cli.usage import UsageProblem
from daskel.core.boot.identity import by_mac
from daskel.core.boot.images import PRIVATE
from daskel.core.content.computed import client_paths, own_places
from daskel.core.content.raw_systems import ANY, Asked, NoRawSystem, raw_system
from daskel.core.dhcp.client_messages import BOARD, FACES
from daskel.core.history.case import Case, Cause
from daskel.core.history.diagnosis import diagnose
from daskel.core.history.events import Seen, Who
from daskel.core.history.outcome import Result
from daskel.core.roots.kernels import HEAD, kernel_processor
from daskel.core.site.layers import Effective, effective
from daskel.core.site.model import Site
from daskel.core.values import few, show_duration, show_size
from daskel.rehearse.client import Board, Got, SimulatedBoot
from daskel.rehearse.dynamic_linking import starts
from daskel.rehearse.fetch import BootError, Way
from daskel.rehearse.initrds import Initrds
from daskel.rehearse.raw import MOP, RPL, RawJob
from daskel.rehearse.storm import Job
from daskel.store.reading import read_boots, read_leases
from daskel.system.roots.inside import FolderTree, inside
from daskel.system.roots.roots import RootFolder
from daskel.system.sitefile import SiteFile

_AT_ONCE = 24  # clients, without --storm
_NAMES = 6
_LOOK_BACK = 2000  # boots


@contextmanager
def folder_of(keep: Path | None) -> Iterator[Path]:
    """Where a practice writes: kept where the user says so."""
    if keep is None:
        with tempfile.TemporaryDirectory(prefix="daskel-rehearse-") as made:
            yield Path(made)
    else:
        yield keep.absolute()


def jobs_of(
    practised: Practised, file: SiteFile, names: Sequence[str], firmware: str | None
) -> list[Job]:
    """What the simulated clients are to do. Raises UsageProblem."""
    practice, site, like = practised.practice, practised.site, practised.like
    wanted = [name for name in site.clients if like.get(name) in names]
    wanted = [name for name in wanted if not practice.copies or name in like]
    seen = _seen(practice, [like[name] for name in wanted], file.valid)
    return [_job(practice, file, site, name, like[name], seen, firmware) for name in wanted]


def _seen(practice: Practice, names: Sequence[str], site: Site) -> dict[str, int | str]:
    """The architecture types that machines sent last, by MAC address; "rpl" of those that asked by
    that."""
    seen: dict[str, int | str] = dict(read_leases(practice.state).architectures())
    others = {site.clients[name].mac for name in names} - seen.keys()
    for boot in read_boots(practice.state, clients=others, most=_LOOK_BACK):
        number = next(
            (e.architecture for _, e in boot.of(Seen) if e.architecture is not None), None
        )
        if number is not None:
            seen.setdefault(boot.mac, number)
        elif any(e.over == RPL.upper() for _, e in boot.of(Seen)):
            seen.setdefault(boot.mac, RPL)
    return seen


def _job(
    practice: Practice, file: SiteFile, site: Site, name: str, like: str,
    seen: Mapping[str, int | str], firmware: str | None,
) -> Job:  # fmt: skip
    found = effective(site, name)
    if found.segment is None:
        raise UsageProblem(f"client {name} is on no segment", "daskel check says more")
    server = site.segments[found.segment.value].server
    known = seen.get(file.valid.clients[like].mac)
    if firmware in (MOP, RPL) or found.in_raw_frames:
        kind = firmware if firmware in (MOP, RPL) else RPL if known == RPL else MOP
        raw = _raw_job(site, found, kind)
        return Job(practice.wire, server, name, found.mac.value, kind, raw=raw)
    written = found.firmware.value if found.firmware else None
    if written not in FACES:
        written = None
    number = known if isinstance(known, int) else None
    face = firmware or written or firmware_of(file, found.loadout_name, number)
    board = _board(site, name) if face == BOARD else None
    try:
        way = Way.of(site, name)
    except ValueError as error:
        raise UsageProblem(str(error), "daskel explain shows what it gets") from None
    return Job(practice.wire, server, name, found.mac.value, face, way, board)


def firmware_of(file: SiteFile, loadout: str | None, seen: int | None) -> str:
    """As a machine was last seen; else as its kernel and the site's boot loaders suggest."""
    known = next((name for name, face in FACES.items() if face.architecture == seen), None)
    if seen is not None:
        return known or ("uefi-x64" if seen == 9 else BOARD)
    if file.kernels.get(loadout or "") in ("arm", "arm64"):
        return "uefi-arm64"
    here = file.valid.settings.loaders
    return "bios" if "bios" in here and "bios" not in file.valid.unbuilt else "uefi-x64"


def _raw_job(site: Site, found: Effective, kind: str) -> RawJob:
    """It asks for any system, or by the first name there is, where it would get none."""
    loadout, asked = found.loadout, ANY
    assert found.segment, "the caller looked"
    if loadout and not loadout.raw and loadout.names:
        asked = Asked(next(iter(loadout.names)), itself=kind == RPL)
    system = raw_system(site, Who(found.name, found.mac.value), found.segment.value, asked)
    if isinstance(system, NoRawSystem):
        return RawJob(kind, asked.name or "", (), 0)
    images = tuple((image.path, image.load) for image in system.images)
    return RawJob(kind, asked.name or "", images, system.start)


def _board(site: Site, name: str) -> Board:
    texts = [
        path for pattern, file in site.files.items() if not file.folder
        for path in client_paths(site, pattern, name)
    ]  # fmt: skip
    if not texts:
        raise UsageProblem(
            f"{name} is to be a board that reads text files, and the site has no text file for it",
            'write one: [file."{{ client.mac_dashed }}/..."]',
        )
    loadout = effective(site, name).loadout
    return Board(texts, (loadout and loadout.kernel) or "", loadout.initrd if loadout else ())


def boot_all(jobs: Sequence[Job], output: Output) -> list[SimulatedBoot]:
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn())
    quiet = output.as_json or not output.errors.is_terminal
    with Progress(*columns, console=output.errors, transient=True, disable=quiet) as progress:
        task = progress.add_task("booting", total=len(jobs))

        def moved(result: SimulatedBoot) -> None:
            done = 1 if result.seconds else 0
            progress.update(task, advance=done, description=f"{result.name}: {result.stage:<14}")

        with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
            return list(pool.map(lambda job: job.run(moved), jobs))


@dataclass(frozen=True)
class Rehearsed:
    """One client's rehearsal: as it saw it, and as the server's events explain it."""

    boot: SimulatedBoot
    loadout: str  # what was booted, and by which choice
    problem: str  # the first thing that is wrong, empty when nothing is
    cause: Cause | None = None
    remedy: str = ""
    warnings: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        return not self.problem


def judged(
    practised: Practised, file: SiteFile, boots: Sequence[SimulatedBoot], since: float
) -> list[Rehearsed]:
    """Each boot with the first thing that is wrong."""
    practice, site = practised.practice, practised.site
    newest = {boot.mac: boot for boot in reversed(read_boots(practice.state, since=since))}
    disk: dict[Path, str] = {}
    initrds = Initrds(file, site)
    results = []
    for boot in boots:
        problem, remedy = boot.problem or differs(file, site, boot, disk), ""
        warnings = list(boot.unsure)
        if not problem:
            problem, remedy, more = initrds.judged(boot)
            warnings += more
        if not problem and PRIVATE in boot.command_line:  # its root is looked at on the disk
            problem = init_fails(file, site, boot.name, boot.command_line)
        cause = None
        if boot.mac in newest:
            case = Case(newest[boot.mac], float("inf"))
            cause = next(iter(diagnose(case)), None)
            if boot.stage == "local disk" and case.result == Result.REFUSED:
                problem = "it gets no boot file"
        if problem and cause is None and boot.firmware in (MOP, RPL):
            remedy = _unheard(site, boot.name)
        cause = cause if problem and not remedy else None
        what = what_boots(site, boot.name)
        results.append(Rehearsed(boot, what, problem, cause, remedy, tuple(warnings)))
    return results


def init_fails(file: SiteFile, site: Site, name: str, arguments: str) -> str:
    """Why the first program of a client's root does not start there; empty when it does, as far as
    can be told."""
    loadout = effective(site, name).loadout
    if loadout is None or not loadout.root:
        return ""
    folder = RootFolder(file.roots, site.root_path(loadout.root))
    processor = None
    with suppress(OSError), file.boot_file(loadout.kernel or "").open("rb") as kernel:
        processor = kernel_processor(kernel.read(HEAD))
    try:
        starts(FolderTree(folder.version(folder.state().used)), arguments, processor)
    except BootError as error:
        return str(error)
    return ""


def _unheard(site: Site, name: str) -> str:
    """What to do for a machine that asks where nobody listens; empty where somebody does."""
    segment = effective(site, name).segment
    if segment is None or site.segments[segment.value].raw:
        return ""
    return f"add raw = true to [segment.{segment.value}]"


def what_boots(site: Site, name: str) -> str:
    """The loadout that boots by itself, and the choice that it is one of."""
    found = effective(site, name)
    if found.choice and found.loadout_name and found.boot:
        return f"{found.loadout_name} ({found.boot.value})"
    return found.loadout_name or (found.boot.value if found.boot else "")


def differs(file: SiteFile, site: Site, boot: SimulatedBoot, known: dict[Path, str]) -> str:
    """The first file whose content is not what lies on the server's disk. What is computed, or in
    a root made for its client, has no file. `known`: digests that are kept."""
    for got in boot.files:
        source = _source(file, site, boot.name, got)
        if source is None:
            continue
        if source not in known:
            known[source] = _digest(source)
        if known[source] and known[source] != got.digest:
            return f"{got.path} is not the same as {source}"
    return ""


def _source(file: SiteFile, site: Site, name: str, got: Got) -> Path | None:
    """Where a file lies on disk: of boot files the client's own first, then its groups'."""
    if got.what in ("configuration", "loader"):
        return None
    if got.what == "root":
        loadout = effective(site, name).loadout
        root = loadout.root if loadout else None
        if root is None or got.path in site.roots[root].own:
            return None
        folder = RootFolder(file.roots, site.root_path(root))
        place = inside(folder.version(folder.state().used), got.path)
        return place if place and place.is_file() else None
    path = got.path.split("/", 3)[3] if got.path.startswith("http://") else got.path
    places = [*own_places(site, by_mac(site, site.clients[name].mac), path), path]
    return next((file.files / place for place in places if (file.files / place).is_file()), None)


def _digest(path: Path) -> str:
    digest = sha256()
    with path.open("rb") as opened:
        while piece := opened.read(1 << 20):
            digest.update(piece)
    return digest.hexdigest()


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
        remedy = result.cause.remedy if result.cause else result.remedy
        alike.setdefault((key, remedy), []).append(result)
    for (_, remedy), same in alike.items():
        names = few([result.boot.name for result in same], _NAMES)
        output.print()
        output.print(Text.assemble((f"{names}: ", "bold red"), same[0].problem))
        cause = same[0].cause
        if cause:
            output.print(f"      {cause.cause}: {cause.problem}")
        if remedy:
            output.print(Text(f"      {remedy}", style="green"))
    noted: dict[str, list[str]] = {}
    for result in (result for result in results if result.good):
        for note in (result.boot.note, *result.warnings):
            noted.setdefault(note, []).append(result.boot.name)
    noted.pop("", None)
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
        "loadout": result.loadout, "warnings": list(result.warnings),
        "files": [
            {"what": g.what, "path": g.path, "bytes": g.size, "sha256": g.digest}
            for g in boot.files
        ],
    }  # fmt: skip
