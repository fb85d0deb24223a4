"""`daskel slate`: what each client changed on top of its root."""

from __future__ import annotations

import argparse
import os
import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli.commands.slate_moving import move_slates, receive_slate, say_home
from daskel.cli.completing import names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import Run, paint, root_of, verb
from daskel.cli.site import change_arguments, path_of, question
from daskel.cli.slate_layers import base_of, connected_clients, is_connected, take_away
from daskel.core.site.finding import did_you_mean
from daskel.core.site.slate_rules import slate_of
from daskel.core.values import counted, show_ago, show_limit, show_size
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.sealing import Difference, differences
from daskel.system.roots.slates import ChangedPath, Slate, slates_below
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel slate list",
    "daskel slate show tide-01",
    "daskel slate copy-out tide-01 home ./from-tide-01",
    "daskel slate freeze tide-01",
    "daskel slate rebase tide-01",
    "daskel slate wipe tide-01",
    "daskel slate move tide-01 south   # to another server",
    "daskel slate receive tide-01 --root notebook --digest 9f86d081884c7d65",
    "daskel slate home tide-01 south   # when you have copied them yourself",
)
run = None  # each verb has its own


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    _verb(verbs, "list", "all slates on this server", _list, named=False)
    show = _verb(verbs, "show", "what a client changed, path by path", _show)
    show.add_argument("--all", action="store_true", help="every path in new folders, too")
    copy = _verb(verbs, "copy-out", "copy what a client changed, or a part of it", _copy_out)
    copy.add_argument("path", help="below the client's root, or . for all")
    copy.add_argument("target", type=Path, help="a new folder or file")
    rebase = _verb(verbs, "rebase", "move it to another version of its root", _rebase)
    rebase.add_argument("--to", type=int, metavar="N", help="default: the one that clients get")
    rebase.add_argument(
        "--take", metavar="PATH", action="append", default=[],
        help="have what the version has there (. for all); can be given again",
    )  # fmt: skip
    change_arguments(rebase)
    freeze = _verb(verbs, "freeze", "what a client has now is what every boot begins with", _freeze)
    freeze.add_argument("--undo", action="store_true", help="take the last freezing back")
    change_arguments(freeze)
    wipe = _verb(verbs, "wipe", "throw away what a client changed", _wipe)
    change_arguments(wipe)
    _of_several(verbs)


def _of_several(verbs: Any) -> None:
    """Servers."""
    move = verb(verbs, EXAMPLE, "move", "copy a client's slates to another server", move_slates)
    text = "say on which of several servers a client's slates are, after you have copied them there"
    home = verb(verbs, EXAMPLE, "home", text, say_home)
    text = "put in place what slate move has sent here: it runs this by itself"
    take = verb(verbs, EXAMPLE, "receive", text, receive_slate)
    for one in (move, home, take):
        client = one.add_argument("client", metavar="CLIENT", help="whose slates")
        client.completer = names_of(["client"])  # type: ignore[attr-defined]
    for one in (move, home):
        server = one.add_argument("server", metavar="SERVER", help="that has them from then on")
        server.completer = names_of(["server"])  # type: ignore[attr-defined]
        change_arguments(one)
    take.add_argument("--root", required=True, help="on which it is")
    digest = take.add_mutually_exclusive_group(required=True)
    digest.add_argument("--digest", metavar="HEX", help="of what was sent")
    digest.add_argument(
        "--prepare", metavar="HEX", help="say where it is to be put, or that it is here"
    )
    take.add_argument("--on", type=int, default=0, metavar="N", help="the version that it is on")


def _verb(
    verbs: Any, name: str, text: str, run: Run, *, named: bool = True
) -> argparse.ArgumentParser:
    parser = verb(verbs, EXAMPLE, name, text, run)
    if named:
        client = parser.add_argument("client", metavar="CLIENT", help="whose slate")
        client.completer = _clients  # type: ignore[attr-defined]
        parser.add_argument("--root", help="when it has slates of several")
    return parser


def _clients(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    file = load(path_of(parsed_args))
    return [slate.client for slate in slates_below(file.slates)] if file.site else []


def _chosen(args: argparse.Namespace, output: Output, file: SiteFile) -> Slate | None:
    """The client's slate; None after saying why there is none to choose."""
    found = list(slates_below(file.slates))
    mine = [s for s in found if s.client == args.client and args.root in (None, s.root)]
    if len(mine) == 1:
        return mine[0]
    if mine:
        roots = ", ".join(slate.root for slate in mine)
        output.error(f"{args.client} has slates of {roots}", "choose one with --root")
        return None
    on = f" of {args.root}" if args.root else ""
    names = {slate.client for slate in found}
    known = args.client in names
    hint = "daskel slate list shows all" if known else did_you_mean(args.client, names)
    output.error(f"{args.client} has no slate{on}", hint)
    return None


def _list(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    connected = connected_clients(file)
    rows = [row for slate in slates_below(file.slates) if (row := _row(file, slate, connected))]
    if output.as_json:
        output.json(rows)
        return ExitCode.GOOD
    if not rows:
        output.print("There are no slates; a client's is made when it first mounts its root.")
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    for title in ("client", "root", "version", "slate", "size", "files", "last mounted", ""):
        grid.add_column(title, justify="right" if title in ("size", "files") else "left")
    for row in rows:
        ago = show_ago(time.time() - row["used"])
        limit = f" of {show_limit(row['limit'])}" if row["limit"] else ""
        full = row["limit"] and row["size"] > 0.9 * row["limit"]
        size = Text(show_size(row["size"]) + limit, style="red" if full else "")
        version = str(row["version"]) if row["version"] else "working tree"
        state = "connected" if row["connected"] else ""
        if not row["known"]:
            state = "not in the site any more"
        kind = f"{row['kind']}, frozen" if row["frozen"] else row["kind"]
        grid.add_row(
            row["client"], row["root"], version, kind, size, f"{row['files']:,}", ago, state
        )
    output.console.print(grid)
    return ExitCode.GOOD


def _row(file: SiteFile, slate: Slate, connected: set[str]) -> dict[str, Any] | None:
    state, site = slate.state(), file.valid
    if state is None:
        return None
    size, files = slate.size()
    known = slate.client in site.clients and slate.root in site.roots
    return {
        "client": slate.client, "root": slate.root, "version": state.version, "size": size,
        "files": files, "frozen": bool(slate.frozen), "made": state.made,
         "used": state.used, "known": known,
        "kind": slate_of(site, site.clients[slate.client], slate.root) if known else "",
        "limit": site.roots[slate.root].size if known else None,
        "connected": slate.client in connected,
    }  # fmt: skip


def _show(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    slate = _chosen(args, output, file)
    if slate is None:
        return ExitCode.WRONG_USE
    with _reading(file, slate):
        found = list(slate.changes(base_of(file, slate)))
    if output.as_json:
        output.json([{"path": c.path, "what": c.what, "size": c.size} for c in found])
        return ExitCode.GOOD
    inside: list[ChangedPath] = []
    for change in found if not args.all else ():
        if inside and change.path.startswith(inside[0].path + "/"):
            inside.append(change)
            continue
        _say_folder(output, inside)
        inside = [change] if change.folder else []
        if not change.folder:
            _say(output, change)
    _say_folder(output, inside)
    for change in found if args.all else ():
        _say(output, change)
    size = sum(change.size for change in found)
    output.print(
        f"{slate.client} changed {counted(len(found), 'path')} of {slate.root}, {show_size(size)}."
    )
    return ExitCode.GOOD


def _say(output: Output, change: ChangedPath) -> None:
    paint(output, change.what, change.path, f"  {show_size(change.size)}" if change.size else "")


def _say_folder(output: Output, changes: list[ChangedPath]) -> None:
    """A new folder in one line, with what is in it."""
    if changes:
        size = show_size(sum(change.size for change in changes))
        more = f"  {counted(len(changes) - 1, 'path')} in it, {size}" if len(changes) > 1 else ""
        paint(output, "added", changes[0].path + "/", more)


def _copy_out(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    slate = _chosen(args, output, file)
    if slate is None:
        return ExitCode.WRONG_USE
    if os.path.lexists(args.target):
        output.error(f"{args.target} is there already", "name a new folder or file")
        return ExitCode.WRONG_USE
    path = Path(os.path.normpath(args.path.strip("/") or "."))
    with _reading(file, slate):
        copied = slate.copy(path, args.target)
    if not copied:
        hint = f"daskel slate show {slate.client} lists what it changed"
        output.error(f"{slate.client} did not change {args.path}", hint)
        return ExitCode.BAD_NEWS
    said = f"Copied to {args.target}."
    output.json({"said": said}) if output.as_json else output.print(said)
    return ExitCode.GOOD


def _wipe(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    slate = _chosen(args, output, file)
    if slate is None:
        return ExitCode.WRONG_USE
    size, files = slate.size()
    if not output.as_json:
        output.print(f"{slate.client} loses {counted(files, 'path')}, {show_size(size)}, "
                     f"that it changed on {slate.root}.")  # fmt: skip
        if is_connected(file, slate.client):
            warning = "It is connected now: what runs on it will fail until it boots again."
            output.print(Text(warning, style="yellow"))
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Wipe it?"):
        output.print("Nothing was wiped.")
        return ExitCode.GOOD
    take_away(file, slate, "wipe")
    said = f"Wiped. {slate.client} begins with a new slate when it boots."
    output.json({"wiped": slate.client, "root": slate.root}) if output.as_json else output.print(
        said
    )
    return ExitCode.GOOD


def _rebase(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    slate = _chosen(args, output, file)
    if slate is None:
        return ExitCode.WRONG_USE
    if slate.disk.exists():
        problem = f"what {slate.client} keeps is a block device, which stays on its version"
        remedy = f"daskel slate copy-out {slate.client} . FOLDER, and daskel slate wipe"
        output.error(problem, remedy)
        return ExitCode.BAD_NEWS
    old, root = base_of(file, slate), root_of(file, slate.root)
    state, versions = slate.state(), root.state()
    number = versions.used if args.to is None else args.to
    assert state
    if number not in (0, *versions.versions):
        output.error(f"there is no version {number}", f"daskel root show {slate.root} lists them")
        return ExitCode.WRONG_USE
    if number == state.version and not slate.is_on_another(old, state):
        output.print(f"The slate of {slate.client} is on version {number} already.")
        return ExitCode.GOOD
    if is_connected(file, slate.client):
        output.error(f"{slate.client} is connected", "power it off first")
        return ExitCode.BAD_NEWS
    mine = {change.path for change in slate.changes(old) if not change.folder}
    both = _conflicts(mine, differences(old, root.version(number)))
    taken = [path for path in both if any(_is_in(path, chosen) for chosen in args.take)]
    for chosen in args.take:
        if not any(_is_in(path, chosen) for path in both):
            hint = "daskel slate rebase --dry-run lists what can be chosen"
            output.error(f"{chosen} is nothing that both have changed", hint)
            return ExitCode.WRONG_USE
    if not output.as_json:
        _say_conflicts(output, slate, both, taken, number)
    if not args.dry_run:
        if not args.yes and not output.as_json and not output.agreed("Move it?"):
            output.print("Nothing was moved.")
            return ExitCode.GOOD
        take_away(file, slate, "close")
        slate.move(number, taken)
        question(file, "renew")
    if output.as_json:
        rows = [{"path": p, "version": what, "taken": p in taken} for p, what in both.items()]
        output.json({"client": slate.client, "version": number, "conflicts": rows})
    elif not args.dry_run:
        output.print(f"Moved. {slate.client} starts on version {number}.")
    return ExitCode.GOOD


def _freeze(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    slate = _chosen(args, output, file)
    if slate is None:
        return ExitCode.WRONG_USE
    state = slate.state()
    if state is None or (args.undo and not slate.frozen):
        output.error(f"the slate of {slate.client} is not frozen", "daskel slate list shows all")
        return ExitCode.BAD_NEWS
    if is_connected(file, slate.client):
        output.error(f"{slate.client} is connected", "power it off first")
        return ExitCode.BAD_NEWS
    if args.dry_run:
        what = "be kept again" if args.undo else "be what every boot begins with"
        output.print(f"What {slate.client} has changed would {what}.")
        return ExitCode.GOOD
    take_away(file, slate, "close")
    if args.undo:
        slate.thaw()
        said = f"What {slate.client} changes is kept again, on top of what it had."
        if slate.frozen:
            said = f"{slate.client} begins with what was frozen before."
    elif slate.disk.exists() or slate.upper.exists():
        slate.freeze()
        said = f"{slate.client} begins with what it has now at every boot; the rest is wiped."
    else:
        said = f"{slate.client} changed nothing since it was frozen."
    question(file, "renew")
    output.json({"said": said}) if output.as_json else output.print(said)
    return ExitCode.GOOD


def _conflicts(mine: Collection[str], theirs: Iterable[Difference]) -> dict[str, str]:
    """What a client has changed, and what became of it, or of something in it, in a version."""
    both: dict[str, str] = {}
    for difference in theirs:
        path = Path(difference.path)
        for place in map(str, (path, *path.parents)):
            if place in mine:
                both.setdefault(place, difference.what if place == str(path) else "changed")
    return both


def _is_in(path: str, folder: str) -> bool:
    return Path(path).is_relative_to(os.path.normpath(folder.strip("/") or "."))


def _say_conflicts(
    output: Output, slate: Slate, both: Mapping[str, str], taken: Sequence[str], number: int
) -> None:
    if not both:
        output.print(f"Nothing that {slate.client} changed differs in version {number}.")
        return
    output.print(f"Changed by {slate.client}, and different in version {number}:")
    for path, what in both.items():
        paint(output, what, path, "  taken from the version" if path in taken else "")
    if len(taken) < len(both):
        output.print(f"Of what is not taken from the version (--take PATH), "
                     f"{slate.client} keeps its own.")  # fmt: skip


@contextmanager
def _reading(file: SiteFile, slate: Slate) -> Iterator[None]:
    """What it holds can be read meanwhile; a block device only while its client has it not."""
    if slate.disk.exists() and is_connected(file, slate.client):
        problem = f"{slate.client} has its block device mounted"
        raise MissingRequirementError(problem, "power it off first")
    with slate.mounted():
        yield
