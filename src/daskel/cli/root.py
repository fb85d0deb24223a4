"""`daskel root`: root filesystems, their working trees and their sealed versions."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli.apply import question
from daskel.cli.getting import build_root, hand_out, import_root, look
from daskel.cli.output import ExitCode, Output, agreed, working
from daskel.cli.site import json_argument, open_site, path_of, site_argument
from daskel.core.boot.packages import changes
from daskel.core.site.finding import did_you_mean
from daskel.core.site.model import Site
from daskel.core.values import show_ago, show_size
from daskel.system.building import host_processor
from daskel.system.copying import Plan, need_room, plan
from daskel.system.inside import NOT_THERE, run_inside
from daskel.system.lacking import LackingError
from daskel.system.roots import RootFolder, RootState
from daskel.system.sealing import differences, drop, own_size, packages, seal
from daskel.system.sitefile import SiteFile, load
from daskel.system.slates import Slate, slates_below

EXAMPLE = (
    "daskel root list",
    "daskel root import notebook notebook.img",
    "daskel root build terminal --list text-terminal",
    "daskel root inspect notebook",
    "daskel root edit notebook -- apt-get upgrade",
    "daskel root seal notebook --note 'upgraded'",
    "daskel root use notebook 2",
)
run = None  # each verb has its own
_MOST_SHOWN = 12  # paths of a list, when --all is not given
Run = Callable[[argparse.Namespace, Output, SiteFile], ExitCode]


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    _verb(verbs, "list", "all roots, and the version that clients get", _list, named=False)
    _verb(verbs, "show", "one root, and its versions", _show)
    bring = _verb(
        verbs, "import", "make a working tree of an image or a folder", import_root, changes=True
    )
    kinds = "a folder, an archive, an ISO image, a disk image, a squashfs"
    bring.add_argument("source", type=Path, metavar="SOURCE", help=kinds)
    bring.add_argument("--partition", type=int, metavar="N", help="of a disk image, when not found")
    replacing = "instead of the working tree that is there"
    bring.add_argument("--replace", action="store_true", help=replacing)
    making = _verb(verbs, "build", "make a Debian system from nothing", build_root, changes=True)
    making.add_argument("--release", default="bookworm", help="Debian's name for it (%(default)s)")
    making.add_argument(
        "--processor", default=host_processor(), help="of the clients (%(default)s)"
    )
    making.add_argument("--package", action="append", default=[], metavar="NAME",
                        help="one more; can be given again")  # fmt: skip
    shipped = "a file with packages, or: text-terminal, thin-client"
    making.add_argument("--list", type=Path, metavar="LIST", help=shipped)
    making.add_argument("--mirror", default="http://deb.debian.org/debian", help="(%(default)s)")
    making.add_argument("--replace", action="store_true", help=replacing)
    looking = _verb(verbs, "inspect", "whether it can be booted without a disk, and why not", look)
    looking.add_argument("--version", type=int, metavar="N", help="0: the working tree")
    _verb(
        verbs, "files", "hand out the kernel and initrd of the root itself", hand_out, changes=True
    )
    edit = _verb(verbs, "edit", "run a command inside of the working tree", _edit)
    edit.add_argument("command_line", metavar="-- COMMAND", nargs=argparse.REMAINDER)
    sealing = _verb(verbs, "seal", "make the next version of the working tree", _seal, changes=True)
    sealing.add_argument("--note", default="", help="what is new, for the list of versions")
    sealing.add_argument("--use", action="store_true", help="clients get it at their next boot")
    sealing.add_argument(
        "--from", dest="client", metavar="CLIENT", help="of what this client sees, changes and all"
    )
    use = _verb(verbs, "use", "which version clients get at their next boot", _use, changes=True)
    use.add_argument("version", type=int, help="its number")
    compare = _verb(verbs, "diff", "what differs between two versions", _diff)
    compare.add_argument("old", help="a version, or: tree")
    compare.add_argument("new", nargs="?", default="tree", help="the same (default: tree)")
    compare.add_argument("--all", action="store_true", help="every path")
    dropping = _verb(verbs, "drop", "take a version away that nobody uses", _drop, changes=True)
    dropping.add_argument("version", type=int, help="its number")


def _verb(
    verbs: Any, name: str, text: str, run: Run, *, named: bool = True, changes: bool = False
) -> argparse.ArgumentParser:
    numbers = {"diff": " 1 2", "drop": " 1"}.get(name, "")
    own = [e for e in EXAMPLE if e.split()[2] == name]
    examples = own or [f"daskel root {name} notebook{numbers}"]
    parser: argparse.ArgumentParser = verbs.add_parser(
        name, help=text, description=text[:1].upper() + text[1:] + ".",
        epilog="example:\n  " + "\n  ".join(examples),
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    if named:
        root = parser.add_argument("name", metavar="ROOT")
        root.completer = _names  # type: ignore[attr-defined]
    if changes:
        parser.add_argument("--yes", action="store_true", help="do not ask")
        parser.add_argument("--dry-run", action="store_true", help="show it, and change nothing")
    site_argument(parser)
    json_argument(parser)
    parser.set_defaults(run=opened(run))
    return parser


def _names(parsed_args: argparse.Namespace, **_: Any) -> list[str]:

    site = load(path_of(parsed_args)).site
    return list(site.roots) if site else []


def opened(run: Run) -> Callable[[argparse.Namespace, Output], ExitCode]:
    """The command with its site file, and with a root that is in it."""

    def with_site(args: argparse.Namespace, output: Output) -> ExitCode:
        file = open_site(args, output, checked=False)
        if isinstance(file, ExitCode):
            return file
        assert file.site
        name = getattr(args, "name", None)
        new = run in (import_root, build_root)
        if name is not None and name not in file.site.roots and not new:
            hint = did_you_mean(name, file.site.roots)
            output.error(f"the site has no root {name}", hint)
            return ExitCode.WRONG_USE
        return run(args, output, file)

    return with_site


def root_of(file: SiteFile, name: str) -> RootFolder:
    assert file.site
    return RootFolder(file.roots, file.site.root_path(name))


def slates_of(file: SiteFile, name: str) -> list[Slate]:
    return [slate for slate in slates_below(file.slates) if slate.root == name]


def _version_name(number: int) -> str:
    return f"version {number}" if number else "the working tree"


# --- looking ---


def _list(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    assert file.site
    rows = [_row(file, file.site, name) for name in file.site.roots]
    if output.as_json:
        output.json(rows)
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    for title in ("root", "clients get", "versions", "size", "slate", "slates", "loadouts"):
        grid.add_column(title, justify="right" if title in ("size", "slates") else "left")
    for row in rows:
        used = Text(_version_name(row["used"]), style="" if row["used"] else "yellow")
        if not row["there"]:
            used = Text("its folder is missing", style="red")
        numbers = ", ".join(map(str, row["versions"])) or "none sealed"
        size = show_size(row["size"]) if row["size"] is not None else ""
        limit = f", {show_size(row['limit'])} each" if row["limit"] else ""
        grid.add_row(
            row["root"], used, numbers, size, row["slate"] + limit, str(row["slates"]),
            ", ".join(row["loadouts"]),
        )  # fmt: skip
    output.console.print(grid)
    return ExitCode.GOOD


def _row(file: SiteFile, site: Site, name: str) -> dict[str, Any]:
    root, rules = root_of(file, name), site.roots[name]
    state = root.state()
    version = state.versions.get(state.used)
    return {
        "root": name, "used": state.used, "versions": list(state.versions),
        "there": root.version(state.used).is_dir(), "size": version.size if version else None,
        "slate": rules.slate, "limit": rules.size, "slates": len(slates_of(file, name)),
        "loadouts": [n for n, loadout in site.loadouts.items() if loadout.root == name],
    }  # fmt: skip


def _show(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    state = root.state()
    on = {n: _users(file, args.name, n) for n in (0, *state.versions)}
    if output.as_json:
        versions = [
            {"version": n, "used": n == state.used, "sealed": v.sealed, "files": v.files,
             "size": v.size, "new": v.new, "note": v.note, "slates": on[n]}
            for n, v in state.versions.items()
        ]  # fmt: skip
        output.json({"root": args.name, "tree": str(root.tree), "versions": versions})
        return ExitCode.GOOD
    output.print(Text.assemble(("working tree ", "bold"), str(root.tree)))
    if not state.versions:
        output.print("No version is sealed; clients get the working tree, changes and all.")
        output.print(f"Seal one: daskel root seal {args.name}")
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    for title in ("version", "sealed", "files", "size", "new", "slates on it", "note"):
        grid.add_column(title, justify="right" if title in ("files", "size", "new") else "left")
    for number, v in sorted(state.versions.items()):
        mark = " ← clients get this one" if number == state.used else ""
        sealed = show_ago(time.time() - v.sealed)
        grid.add_row(
            f"{number}{mark}", sealed, f"{v.files:,}", show_size(v.size), show_size(v.new),
            _few(on[number], 4), v.note, style="bold" if mark else "",
        )  # fmt: skip
    output.console.print(grid)
    if on[0]:
        output.print(f"On the working tree itself: slates of {_few(on[0], 6)}")
    return ExitCode.GOOD


def _few(names: Sequence[str], most: int) -> str:
    rest = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + rest


def _users(file: SiteFile, root: str, number: int) -> list[str]:
    """The clients whose slates were made on a version."""
    states = [(slate.client, slate.state()) for slate in slates_of(file, root)]
    return [client for client, state in states if state and state.version == number]


def _diff(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    try:
        old, new = (_tree(root, word) for word in (args.old, args.new))
    except ValueError as error:
        output.error(str(error), f"daskel root show {args.name} lists them")
        return ExitCode.WRONG_USE
    found = list(differences(old, new))
    changed = changes(packages(old), packages(new))
    if output.as_json:
        paths = [{"path": d.path, "what": d.what} for d in found]
        rows = [{"name": n, "before": a or None, "after": b or None} for n, a, b in changed]
        output.json({"paths": paths, "packages": rows})
        return ExitCode.GOOD
    for name, before, after in changed:
        output.print(f"package {name}: {before or 'not installed'} → {after or 'removed'}")
    shown = found if args.all else found[:_MOST_SHOWN]
    for difference in shown:
        paint(output, difference.what, difference.path)
    if len(found) > len(shown):
        output.print(f"… and {len(found) - len(shown)} more: --all shows them")
    counts = [f"{sum(d.what == w for d in found)} {w}" for w in ("added", "removed", "changed")]
    output.print(", ".join(counts))
    return ExitCode.GOOD


def paint(output: Output, what: str, path: str, more: str = "") -> None:
    colour = {"added": "green", "removed": "red", "changed": "yellow", "replaced": "yellow"}[what]
    output.print(Text.assemble((f"{what:<9}", colour), path, (more, "dim")))


def _tree(root: RootFolder, word: str) -> Path:
    if word == "tree":
        return root.tree
    if not word.isdigit() or int(word) not in root.state().versions:
        raise ValueError(f"there is no version {word}")
    return root.version(int(word))


# --- changing ---


def _edit(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    words = [word for word in args.command_line if word != "--"] or ["/bin/sh"]
    root = root_of(file, args.name)
    if not root.tree.is_dir():
        raise LackingError(f"{root.tree} is missing", "bring one in with: daskel root import")
    with root.lock():
        code = run_inside(root.tree, words)
    if code == NOT_THERE:
        output.error(f"there is no {words[0]} in {root.tree}", "name a program of the root")
        return ExitCode.BAD_NEWS
    if code:
        output.error(f"{words[0]} ended with exit code {code}")
        return ExitCode.BAD_NEWS
    if not output.as_json:
        sealed = bool(root.state().versions)
        what = f"daskel root seal {args.name}" if sealed else "clients see it at once"
        output.errors.print(f"The working tree of {args.name} is changed; next: {what}")
    return ExitCode.GOOD


def _seal(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    assert file.site
    root, forget = root_of(file, args.name), file.site.roots[args.name].forget
    if args.client is not None:
        from daskel.cli.slate import seen_by

        return seen_by(
            file, args.name, args.client, output,
            lambda source: _make(args, output, root, source, forget),
        )  # fmt: skip
    return _make(args, output, root, root.tree, forget)


def _make(
    args: argparse.Namespace, output: Output, root: RootFolder, source: Path, forget: Sequence[str]
) -> ExitCode:
    if not source.is_dir():
        raise LackingError(f"{source} is missing", "bring one in with: daskel root import")
    with root.lock():
        state = root.state()
        last = root.version(max(state.versions)) if state.versions else None
        planned = plan(source, last, forget)
        if not output.as_json:
            _say_plan(output, args.name, state, planned)
        if args.dry_run:
            return ExitCode.GOOD
        if not args.yes and not output.as_json and not agreed("Seal it?"):
            output.print("Nothing was sealed.")
            return ExitCode.GOOD
        need_room(root.tree.parent, planned.new)
        with working(output, f"version {state.next}", planned.size) as progress:
            task = progress.task_ids[0]
            number, made = seal(
                root, source, forget, args.note, lambda size: progress.advance(task, size)
            )
        if args.use:
            root.use(number)
        used = root.state().used
    if output.as_json:
        output.json({
            "root": args.name, "version": number, "used": used, "new": made.new,
            "size": made.size, "files": made.files, "forgotten": planned.forgotten,
        })  # fmt: skip
        return ExitCode.GOOD
    output.print(f"Version {number} of {args.name}: {made.files:,} files, {show_size(made.size)}, "
                 f"of which {show_size(made.new)} are new.")  # fmt: skip
    more = "" if used == number else f"; this one with: daskel root use {args.name} {number}"
    output.print(f"Clients get version {used} at their next boot{more}")
    return ExitCode.GOOD


def _say_plan(output: Output, name: str, state: RootState, planned: Plan) -> None:
    shared = f", about {show_size(planned.new)} new" if state.versions else ""
    files, size = f"{planned.files:,} files", show_size(planned.size)
    output.print(f"Version {state.next} of {name}: {files}, {size}{shared}")
    if planned.forgotten:
        output.print(f"Left out, since it belongs to one machine: {len(planned.forgotten)} files")
        for path in planned.forgotten[:_MOST_SHOWN]:
            output.print(Text(f"  {path}", style="dim"))
        if len(planned.forgotten) > _MOST_SHOWN:
            output.print(Text(f"  … and {len(planned.forgotten) - _MOST_SHOWN} more", style="dim"))


def _use(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    state = root.state()
    if args.version not in state.versions:
        output.error(f"there is no version {args.version}", f"daskel root show {args.name}")
        return ExitCode.WRONG_USE
    kept = _users(file, args.name, state.used)
    if not args.dry_run:
        with root.lock():
            root.use(args.version)
    if output.as_json:
        output.json({"root": args.name, "used": args.version, "before": state.used})
        return ExitCode.GOOD
    output.print(f"Clients get version {args.version} of {args.name} at their next boot "
                 f"(now: {_version_name(state.used)}). Running ones stay on theirs.")  # fmt: skip
    if kept and args.version != state.used:
        output.print(f"Slates stay on the version that they were made on: {_few(kept, 6)}")
    return ExitCode.GOOD


def _drop(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root, number = root_of(file, args.name), args.version
    state = root.state()
    if number not in state.versions:
        output.error(f"there is no version {number}", f"daskel root show {args.name}")
        return ExitCode.WRONG_USE
    reason = _why_kept(file, args.name, number, state)
    if reason:
        output.error(f"version {number} of {args.name} stays: {reason[0]}", reason[1])
        return ExitCode.BAD_NEWS
    if not output.as_json:
        freed = show_size(own_size(root, number))
        output.print(f"Version {number} of {args.name} goes; {freed} of it are in no other one.")
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not agreed("Drop it?"):
        output.print("Nothing was dropped.")
        return ExitCode.GOOD
    with root.lock():
        drop(root, number)
    output.json({"root": args.name, "dropped": number}) if output.as_json else output.print("Done.")
    return ExitCode.GOOD


def _why_kept(file: SiteFile, name: str, number: int, state: RootState) -> tuple[str, str] | None:
    """Who needs a version still, and what to do."""
    if state.used == number:
        return "clients get it", f"choose another: daskel root use {name} N"
    slates = _users(file, name, number)
    if slates:
        remedy = f"wipe them, or move them: daskel slate rebase {slates[0]}"
        return f"slates were made on it: {_few(slates, 6)}", remedy
    connected = (question(file, "connected") or {}).get("clients", [])
    on = [
        c["client"] for c in connected if name in c["roots"] and c["roots"][name] in (number, None)
    ]
    if on:
        return f"connected clients may run on it: {_few(on, 6)}", "wait until they boot again"
    return None
