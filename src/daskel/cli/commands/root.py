"""`daskel root`: root filesystems, their working trees and their sealed versions."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli.commands.root_making import build_root, hand_out, import_root, look
from daskel.cli.commands.root_sending import receive_version, send_version
from daskel.cli.commands.root_versions import (
    drop_version,
    edit_tree,
    pack_version,
    seal_version,
    use_version,
)
from daskel.cli.completing import names_of
from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import (
    Run,
    paint,
    root_of,
    slates_of,
    users_of,
    verb,
    version_name,
)
from daskel.cli.settled_options import settled_arguments
from daskel.cli.site import change_arguments
from daskel.core.roots.packages import changes
from daskel.core.site.model import Site
from daskel.core.values import few, show_ago, show_limit, show_size
from daskel.system.roots.building import host_processor
from daskel.system.roots.roots import RootFolder
from daskel.system.roots.sealing import differences, packages
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel root list",
    "daskel root import notebook notebook.img",
    "daskel root import notebook root@10.61.8.50:/ --fit",
    "daskel root build terminal --list text-terminal",
    "daskel root inspect notebook",
    "daskel root edit notebook -- apt-get upgrade",
    "daskel root seal notebook --note 'upgraded'",
    "daskel root use notebook 2",
    "daskel root pack notebook",
    "daskel root send notebook south",
    "daskel root receive notebook 3",
)
run = None  # each verb has its own
_MOST_SHOWN = 12  # paths of a list, when --all is not given


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    _verb(verbs, "list", "all roots, and the version that clients get", _list, named=False)
    _verb(verbs, "show", "one root, and its versions", _show)
    bring = _verb(
        verbs, "import", "make a working tree of an image, a folder, or a machine that runs",
        import_root, changes=True,
    )  # fmt: skip
    _gives(bring)
    kinds = "a folder, an archive, an ISO image, a disk image (also qcow2, VMDK, VDI, VHDX), a "
    kinds += "squashfs, or a machine that runs: root@ADDRESS:/"
    bring.add_argument("source", metavar="SOURCE", help=kinds)
    bring.add_argument("--partition", type=int, metavar="N", help="of a disk image, when not found")
    fitting = "change what would keep the copy from booting without a disk, and say what"
    bring.add_argument("--fit", action="store_true", help=fitting)
    again = "of a machine that runs: copy what changed since, instead of the working tree"
    bring.add_argument("--refresh", action="store_true", help=again)
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
    settled_arguments(making)
    making.add_argument("--replace", action="store_true", help=replacing)
    _gives(making)
    looking = _verb(verbs, "inspect", "whether it can be booted without a disk, and why not", look)
    looking.add_argument("--version", type=int, metavar="N", help="0: the working tree")
    _verb(
        verbs,
        "files",
        "hand out the kernel and initrd of the root itself",
        hand_out,
        changes=True,
    )
    edit = _verb(verbs, "edit", "run a command inside of the working tree", edit_tree)
    edit.add_argument(
        "command_line", metavar="-- COMMAND", nargs="*", default=(), help="(default: a shell)"
    )
    sealing = _verb(
        verbs, "seal", "make the next version of the working tree", seal_version, changes=True
    )
    sealing.add_argument("--note", default="", help="what is new, for the list of versions")
    sealing.add_argument("--use", action="store_true", help="clients get it at their next boot")
    sealing.add_argument(
        "--from", dest="client", metavar="CLIENT", help="of what this client sees, changes and all"
    )
    use = _verb(
        verbs,
        "use",
        "which version clients get at their next boot",
        use_version,
        changes=True,
    )
    use.add_argument("version", type=int, help="its number")
    packing = _verb(
        verbs, "pack", "make the image of a version, for clients that get no files", pack_version,
        changes=True,
    )  # fmt: skip
    of = "its number (default: the one that clients get)"
    packing.add_argument("version", type=int, nargs="?", help=of)
    send = _verb(
        verbs, "send", "copy a sealed version to another server of the site", send_version,
        changes=True,
    )  # fmt: skip
    send.add_argument("version", type=int, nargs="?", metavar="N", help=of)
    server = send.add_argument("server", metavar="SERVER", help="its name in the site file")
    server.completer = names_of(["server"])  # type: ignore[attr-defined]
    taken = _verb(
        verbs, "receive", "put in place what root send has sent here: it runs this by itself",
        receive_version,
    )  # fmt: skip
    taken.add_argument("version", type=int, metavar="N", help="its number")
    where = "say where it is to be put, or that it is here"
    taken.add_argument("--prepare", metavar="HEX", help=where)
    for one in (send, taken):
        one.add_argument(
            "--use", action="store_true", help="clients of it get it at their next boot"
        )
    compare = _verb(verbs, "diff", "what differs between two versions", _diff)
    compare.add_argument("old", help="a version, or: tree")
    compare.add_argument("new", nargs="?", default="tree", help="the same (default: tree)")
    compare.add_argument("--all", action="store_true", help="every path")
    dropping = _verb(
        verbs, "drop", "take a version away that nobody uses", drop_version, changes=True
    )
    dropping.add_argument("version", type=int, help="its number")


def _gives(parser: argparse.ArgumentParser) -> None:
    """What it is to be used for, at once."""
    loadout = parser.add_argument(
        "--loadout",
        metavar="NAME",
        help="write this loadout, with the root's own kernel and initrd",
    )
    loadout.completer = names_of(["loadout"])  # type: ignore[attr-defined]
    group = parser.add_argument(
        "--group", metavar="NAME", help="with --loadout: this group boots it; made when it is new"
    )
    group.completer = names_of(["group"])  # type: ignore[attr-defined]


def _verb(
    verbs: Any,
    name: str,
    text: str,
    run: Run,
    *,
    named: bool = True,
    changes: bool = False,
) -> argparse.ArgumentParser:
    numbers = {"diff": " 1 2", "drop": " 1"}.get(name, "")
    examples = (*EXAMPLE, f"daskel root {name} notebook{numbers}")
    known = any(example.split()[2] == name for example in EXAMPLE)
    new = run in (import_root, build_root)
    parser = verb(verbs, EXAMPLE if known else examples, name, text, run, new=new)
    if named:
        root = parser.add_argument("name", metavar="ROOT", help="its name in the site file")
        root.completer = names_of(["root"])  # type: ignore[attr-defined]
    if changes:
        change_arguments(parser)
    return parser


# --- looking ---


def _list(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    rows = [_row(file, file.valid, name) for name in file.valid.roots]
    if output.as_json:
        output.json(rows)
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    right = ("size", "image", "slates")
    for title in ("root", "clients get", "versions", *right[:2], "slate", right[2], "loadouts"):
        grid.add_column(title, justify="right" if title in right else "left")
    for row in rows:
        used = Text(version_name(row["used"]), style="" if row["used"] else "yellow")
        if not row["there"]:
            used = Text("its folder is missing", style="red")
        numbers = ", ".join(map(str, row["versions"])) or "none sealed"
        size = show_size(row["size"]) if row["size"] is not None else ""
        image = show_size(row["image"]) if row["image"] else ""
        limit = f", {show_limit(row['limit'])} each" if row["limit"] else ""
        grid.add_row(
            row["root"], used, numbers, size, image, row["slate"] + limit, str(row["slates"]),
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
        "image": (version.image or None) if version else None,
        "slate": rules.slate, "limit": rules.size, "slates": len(slates_of(file, name)),
        "loadouts": [n for n, loadout in site.loadouts.items() if loadout.root == name],
    }  # fmt: skip


def _show(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    state = root.state()
    on = {n: users_of(file, args.name, n) for n in (0, *state.versions)}
    if output.as_json:
        versions = [
            {"version": n, "used": n == state.used, "sealed": v.sealed, "files": v.files,
             "size": v.size, "new": v.new, "note": v.note, "slates": on[n],
             "image": v.image or None, "digest": v.digest or None}
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
    numbers = ("files", "size", "new", "image")
    for title in ("version", "sealed", *numbers, "slates on it", "note"):
        grid.add_column(title, justify="right" if title in numbers else "left")
    for number, v in sorted(state.versions.items()):
        mark = " ← clients get this one" if number == state.used else ""
        sealed = show_ago(time.time() - v.sealed)
        grid.add_row(
            f"{number}{mark}", sealed, f"{v.files:,}", show_size(v.size), show_size(v.new),
            show_size(v.image) if v.image else "", few(on[number], 4), v.note,
            style="bold" if mark else "",
        )  # fmt: skip
    output.console.print(grid)
    if on[0]:
        output.print(f"On the working tree itself: slates of {few(on[0], 6)}")
    return ExitCode.GOOD


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


def _tree(root: RootFolder, word: str) -> Path:
    if word == "tree":
        return root.tree
    if not word.isdigit() or int(word) not in root.state().versions:
        raise ValueError(f"there is no version {word}")
    return root.version(int(word))
