"""Verbs of `daskel root` that bring a system in, and look whether it can be booted."""

from __future__ import annotations

import argparse
import io
import json
import shutil
from importlib.resources import files
from pathlib import Path
from typing import Any

from daskel.cli.editing import Change, changing, edit, new_table, owner
from daskel.cli.output import ExitCode, Output, finding_json, working
from daskel.cli.publishing import publish
from daskel.cli.root_options import may_make
from daskel.cli.settled_options import say_who_logs_in, settled_of
from daskel.cli.site import path_of
from daskel.cli.usage import UsageProblem
from daskel.core.roots.inspect import inspect
from daskel.core.roots.machine_mounts import Machine, machine_of
from daskel.core.site.finding import Severity
from daskel.core.values import show_size
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.building import Wanted, build
from daskel.system.roots.fitting import fit
from daskel.system.roots.importing import bring_in, size_of
from daskel.system.roots.inspecting import read_facts
from daskel.system.roots.new_tree import SourceError
from daskel.system.roots.own_kernels import OwnKernel, own_kernels
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.running_machine import RunningMachine
from daskel.system.roots.sealing import discard, put_in_place
from daskel.system.sitefile import SiteFile, load

_LOST = ("was changed in it", " (sealed versions stay)")

_SOURCES = "name a folder, an archive, an image, or a machine that runs: root@ADDRESS:/"


def import_root(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """A system out of an image, a folder or a machine that runs; in the site file when it is not
    there."""
    _gives_well(args)
    machine = machine_of(args.source)
    root = _folder(file, args.name)
    if args.refresh and machine is None:
        raise UsageProblem("--refresh goes with a machine that runs", "root@ADDRESS:/ names it")
    args.replace = args.replace or args.refresh
    code = may_make(args, output, root.tree, args.name, *_LOST)
    if code is not None:
        return code
    with root.lock():
        try:
            if machine is not None:
                what = _copied(machine, root, output, refresh=args.refresh)
            else:
                what = _brought(args, root, output)
            fitted = fit(root.unfinished) if args.fit else []
        except (SourceError, OSError) as error:
            discard(root.unfinished)
            if isinstance(error, SourceError):
                output.error(str(error), error.remedy)
            else:
                where = error.filename or args.source
                output.error(f"{where}: {error.strerror or error}", _SOURCES)
            return ExitCode.BAD_NEWS
        except MissingRequirementError:
            discard(root.unfinished)
            raise
        put_in_place(root)
    return _made(args, output, file, what, {}, fitted)


def _brought(args: argparse.Namespace, root: RootFolder, output: Output) -> str:
    """Of an image or a folder of this machine."""
    source = Path(args.source)
    with working(output, source.name, size_of(source)) as progress:
        task = progress.task_ids[0]
        return bring_in(
            source, root.unfinished, args.partition, lambda size: progress.advance(task, size)
        )


def _copied(machine: Machine, root: RootFolder, output: Output, *, refresh: bool) -> str:
    """Of a machine that runs; what has not changed since is shared with the tree that is there."""
    before = root.tree if refresh and root.tree.is_dir() else None
    with (
        RunningMachine.opened(machine) as opened,
        working(output, machine.login, opened.size or 1) as progress,
    ):
        task = progress.task_ids[0]
        return opened.copy(root.unfinished, before, lambda size: progress.advance(task, size))


def build_root(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """A Debian system from nothing; in the site file when it is not there."""
    _gives_well(args)
    tree = _folder(file, args.name).tree
    code = may_make(args, output, tree, args.name, *_LOST)
    if code is not None:
        return code
    packages = [*args.package, *(_listed(args.list) if args.list else [])]
    settled = settled_of(args, output)
    wanted = Wanted(args.release, packages, args.processor, args.mirror, settled)
    root = _folder(file, args.name)
    with root.lock():
        work, steps = root.unfinished, 0
        with output.errors.status("", spinner="line") as status:

            def say(what: str, package: str) -> None:
                nonlocal steps
                steps += 1
                status.update(f"{what} {package} (step {steps:,})")

            build(work, wanted, say)
        put_in_place(root)
    what = f"Debian {args.release} for {args.processor}"
    table = {"slate": "fresh"}  # systemd wants to write
    return _made(args, output, file, what, table, [])


def _listed(path: Path) -> list[str]:
    """The packages of a list: one a line, `#` begins a comment; also one that ships with Daskel."""
    try:
        text = path.read_text()
    except FileNotFoundError:
        shipped = files("daskel.system.roots").joinpath("lists", f"{path.name}.packages")
        if not shipped.is_file():
            names = "text-terminal, thin-client"
            problem = f"there is no package list {path}"
            raise MissingRequirementError(problem, f"name a file, or one of: {names}") from None
        text = shipped.read_text()
    return [word for line in text.splitlines() for word in line.split("#")[0].split()]


def _folder(file: SiteFile, name: str) -> RootFolder:
    path = file.valid.root_path(name) if name in file.valid.roots else name
    return RootFolder(file.roots, path)


def _made(
    args: argparse.Namespace, output: Output, file: SiteFile, what: str, table: dict[str, Any],
    fitted: list[str],
) -> ExitCode:  # fmt: skip
    """Say what was made and `fitted`, with its kernels; name it in the site file."""
    tree = _folder(file, args.name).tree
    found = own_kernels(tree)
    loadout = _loadout(args, output, found)
    kernels = [_row(tree, kernel) for kernel in found]
    made = {"root": args.name, "tree": str(tree), "made_of": what, "kernels": kernels}
    made["fitted"] = fitted
    if not output.as_json:
        output.print(f"{tree} is made, of {what}.")
        for line in fitted:
            output.print(f"fitted: {line}")
        _say_kernels(output, tree, found)
        say_who_logs_in(tree, output)
    known = args.name in file.valid.roots
    changes = [] if known else [(path_of(args), new_table("root", args.name, table))]
    said = "" if known else f"[root.{args.name}] is in the site file."
    if loadout:
        changes.append(_table(args, file, "loadout", loadout, {"root": args.name}))
        said += f" The loadout {loadout} boots it."
        if group := _group(args, output, file):
            values = {"boot": loadout}
            if group not in file.valid.groups and len(file.valid.segments) == 1:
                values["segment"] = next(iter(file.valid.segments))
            changes.append(_table(args, file, "group", group, values))
            said += f" The group {group} gets it."
    if not output.as_json:
        code = edit(args, output, file, changes, said.strip(), what_next=bool(loadout))
    else:
        text = io.StringIO()  # one document says both
        code = edit(args, Output(as_json=True, out=text), file, changes, said.strip())
        output.json(made | json.loads(text.getvalue()))
    new = load(path_of(args))
    if new.usable:
        publish(new, output, args.name)
    return code


def _row(tree: Path, kernel: OwnKernel) -> dict[str, str | None]:
    """A kernel, as programs read of it."""
    return {
        "path": str(kernel.file.relative_to(tree)), "release": kernel.release,
        "processor": kernel.processor,
        "initrd": str(kernel.initrd.relative_to(tree)) if kernel.initrd else None,
    }  # fmt: skip


def _gives_well(args: argparse.Namespace) -> None:
    """Before the long work. Raises UsageProblem."""
    if args.group and not args.loadout:
        raise UsageProblem("--group goes with --loadout", "--loadout NAME says what it boots")


def _loadout(args: argparse.Namespace, output: Output, found: list[OwnKernel]) -> str | None:
    """The loadout that is to be written. A person at the terminal is asked."""
    if args.loadout and not found:
        problem = f"{args.name} has no kernel in its /boot, so that no loadout is written"
        raise MissingRequirementError(problem, f"daskel root edit {args.name}")
    if args.loadout or not found or not _asks(args, output):
        given: str | None = args.loadout
        return given
    return args.name if output.agreed(f"Write the loadout {args.name}, which boots it?") else None


def _group(args: argparse.Namespace, output: Output, file: SiteFile) -> str | None:
    """The group that is to boot it; a person at the terminal is asked about the only one."""
    if args.group or len(file.valid.groups) != 1 or not _asks(args, output):
        given: str | None = args.group
        return given
    only = next(iter(file.valid.groups))
    return only if output.agreed(f"Give it to the group {only}?") else None


def _asks(args: argparse.Namespace, output: Output) -> bool:
    return output.stdin.isatty() and not output.as_json and not args.yes


def _table(
    args: argparse.Namespace, file: SiteFile, kind: str, name: str, values: dict[str, Any]
) -> tuple[Path, Change]:
    """The change that makes a table, or sets keys of one that is there."""
    if name in file.valid.tables()[kind]:
        return owner(file, (kind, name)), changing((kind, name), values)
    return path_of(args), new_table(kind, name, values)


def _say_kernels(output: Output, tree: Path, found: list[OwnKernel]) -> None:
    for kernel in found:
        row, size = _row(tree, kernel), show_size(kernel.file.stat().st_size)
        kind = f"{kernel.release or 'unknown release'}, {kernel.processor or 'unknown processor'}"
        with_initrd = f", initrd {row['initrd']}" if kernel.initrd else ", no initrd"
        output.print(f"kernel {row['path']}: {kind}, {size}{with_initrd}")
    if not found:
        output.print("There is no kernel in its /boot; the loadout needs one from elsewhere.")


def hand_out(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Copy the root's own kernel and initrd below `files`, for loadouts that name their files."""
    root = RootFolder(file.roots, file.valid.root_path(args.name))
    found = own_kernels(root.version(root.state().used))
    if not found:
        output.error(f"{args.name} has no kernel in its /boot", "install one: daskel root edit")
        return ExitCode.BAD_NEWS
    paths = _written(file, args.name, found[0], only_said=args.dry_run)
    if output.as_json:
        output.json({"root": args.name, "release": found[0].release, "files": paths})
        return ExitCode.GOOD
    output.print(
        f"{'Would write' if args.dry_run else 'Written'}: {', '.join(paths)} ({found[0].release})"
    )
    values = f"kernel={paths[0]}" + (f" initrd={paths[1]}" if found[0].initrd else "")
    output.print(f"Name them where a loadout is to boot these: daskel loadout set NAME {values}")
    return ExitCode.GOOD


def _written(file: SiteFile, name: str, found: OwnKernel, *, only_said: bool) -> list[str]:
    """Copy a kernel and its initrd below `files`; their paths there."""
    target = file.files / name
    written = [(found.file, target / "vmlinuz")]
    written += [(found.initrd, target / "initrd.img")] if found.initrd else []
    if not only_said:
        target.mkdir(parents=True, exist_ok=True)
        for source, place in written:
            part = place.with_name(f".{place.name}")
            shutil.copyfile(source, part)
            part.chmod(0o644)
            part.replace(place)
    return [str(place.relative_to(file.files)) for _, place in written]


def look(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Findings about a root's tree, and about what its loadouts hand out with it."""
    root = RootFolder(file.roots, file.valid.root_path(args.name))
    number = root.state().used if args.version is None else args.version
    tree = root.version(number)
    if not tree.is_dir():
        output.error(f"{tree} is missing", f"daskel root show {args.name}")
        return ExitCode.WRONG_USE
    facts = read_facts(file.valid, args.name, tree, file.files)
    found = inspect(facts, file.valid.origin("root", args.name))
    if output.as_json:
        output.json(
            {"root": args.name, "version": number, "findings": [finding_json(f) for f in found]}
        )
    else:
        output.findings(found)
        bad = sum(f.severity in (Severity.ERROR, Severity.WARNING) for f in found)
        what = f"version {number}" if number else "the working tree"
        output.print(f"{args.name}, {what}: " + (f"{bad} to look at" if bad else "fit to boot"))
    worst = any(f.severity is Severity.ERROR for f in found)
    return ExitCode.BAD_NEWS if worst else ExitCode.GOOD
