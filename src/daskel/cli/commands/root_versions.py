"""Verbs of `daskel root` that change something: the working tree, and its sealed versions."""

from __future__ import annotations

import argparse
from pathlib import Path

from rich.text import Text

from daskel.cli.output import ExitCode, Output, working
from daskel.cli.publishing import publish
from daskel.cli.root_options import root_of, users_of, version_name
from daskel.cli.site import question
from daskel.cli.slate_layers import seen_by
from daskel.core.site.layers import deliveries
from daskel.core.site.private import private_roots
from daskel.core.values import counted, few, show_size
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.packing import pack
from daskel.system.roots.roots import RootFolder, RootState, Version
from daskel.system.roots.run_inside import NOT_THERE, run_inside
from daskel.system.roots.sealing import drop, own_size, seal
from daskel.system.roots.tree_copy import CopyPlan, need_room, plan
from daskel.system.sitefile import SiteFile

_MOST_SHOWN = 12  # paths of a list


def edit_tree(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    words = args.command_line or ["/bin/sh"]
    root = root_of(file, args.name)
    if not root.tree.is_dir():
        raise MissingRequirementError(
            f"{root.tree} is missing", "bring one in with: daskel root import"
        )
    with root.lock():
        code = run_inside(root.tree, words)
    if code == NOT_THERE:
        output.error(f"there is no {words[0]} in {root.tree}", "name a program of the root")
        return ExitCode.BAD_NEWS
    if code:
        output.error(f"{words[0]} ended with exit code {code}")
        return ExitCode.BAD_NEWS
    publish(file, output, args.name)
    if not output.as_json:
        sealed = bool(root.state().versions)
        what = f"daskel root seal {args.name}" if sealed else "clients see it at once"
        output.errors.print(f"The working tree of {args.name} is changed; next: {what}")
    return ExitCode.GOOD


def seal_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    if args.client is not None:
        return seen_by(
            file, args.name, args.client, output,
            lambda source: _make(args, output, file, source),
        )  # fmt: skip
    return _make(args, output, file, root.tree)


def _make(args: argparse.Namespace, output: Output, file: SiteFile, source: Path) -> ExitCode:
    root, forget = root_of(file, args.name), file.valid.roots[args.name].forget
    if not source.is_dir():
        raise MissingRequirementError(
            f"{source} is missing", "bring one in with: daskel root import"
        )
    with root.lock():
        state = root.state()
        last = root.version(max(state.versions)) if state.versions else None
        planned = plan(source, last, forget)
        if not output.as_json:
            _say_plan(output, args.name, state, planned)
        if args.dry_run:
            return ExitCode.GOOD
        if not args.yes and not output.as_json and not output.agreed("Seal it?"):
            output.print("Nothing was sealed.")
            return ExitCode.GOOD
        need_room(root.tree.parent, planned.new)
        with working(output, f"version {state.next}", planned.size) as progress:
            task = progress.task_ids[0]
            number, made = seal(
                root, source, forget, args.note, lambda size: progress.advance(task, size)
            )
        packed = _packed(file, args.name, root, number, output)
        if args.use:
            root.use(number)
        used = root.state().used
    publish(file, output, args.name)
    if output.as_json:
        output.json({
            "root": args.name, "version": number, "used": used, "new": made.new,
            "size": made.size, "files": made.files, "forgotten": planned.forgotten,
            "image": packed.image if packed else None,
        })  # fmt: skip
        return ExitCode.GOOD
    output.print(f"Version {number} of {args.name}: {made.files:,} files, {show_size(made.size)}, "
                 f"of which {show_size(made.new)} are new.")  # fmt: skip
    if packed:
        output.print(f"Its image has {show_size(packed.image)}.")
    more = "" if used == number else f"; this one with: daskel root use {args.name} {number}"
    output.print(f"Clients get version {used} at their next boot{more}")
    return ExitCode.GOOD


def _packed(
    file: SiteFile, name: str, root: RootFolder, number: int, output: Output
) -> Version | None:
    """The version with its image, where somebody gets the root as one, or needs the initrd that
    comes with it."""
    by_image = deliveries(file.valid, name) & {"blocks", "memory"}
    if not by_image and name not in private_roots(file.valid):
        return None
    return _pack(root, number, output)


def _pack(root: RootFolder, number: int, output: Output) -> Version:
    need_room(root.tree.parent, root.state().versions[number].size // 2)
    with working(output, f"image of version {number}", 100) as progress:
        task = progress.task_ids[0]
        return pack(root, number, lambda percent: progress.advance(task, percent))


def pack_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Make the image of a version, for clients that get no files."""
    root = root_of(file, args.name)
    state = root.state()
    number = args.version or state.used or max(state.versions, default=0)
    if number not in state.versions:
        what = f"there is no version {number}" if number else "no version is sealed"
        output.error(what, f"daskel root show {args.name} lists them; daskel root seal makes one")
        return ExitCode.WRONG_USE
    if args.dry_run:
        output.print(f"Would make the image of version {number} of {args.name}.")
        return ExitCode.GOOD
    with root.lock():
        made = _pack(root, number, output)
    publish(file, output, args.name)
    if output.as_json:
        output.json({
            "root": args.name, "version": number, "image": made.image, "digest": made.digest,
        })  # fmt: skip
        return ExitCode.GOOD
    size = f"{show_size(made.image)} instead of {show_size(made.size)}"
    output.print(f"The image of version {number} of {args.name} is made: {size}.")
    return ExitCode.GOOD


def _say_plan(output: Output, name: str, state: RootState, planned: CopyPlan) -> None:
    shared = f", about {show_size(planned.new)} new" if state.versions else ""
    files, size = f"{planned.files:,} files", show_size(planned.size)
    output.print(f"Version {state.next} of {name}: {files}, {size}{shared}")
    if planned.forgotten:
        output.print(
            f"Left out, since it belongs to one machine: {counted(len(planned.forgotten), 'file')}"
        )
        for path in planned.forgotten[:_MOST_SHOWN]:
            output.print(Text(f"  {path}", style="dim"))
        if len(planned.forgotten) > _MOST_SHOWN:
            output.print(Text(f"  … and {len(planned.forgotten) - _MOST_SHOWN} more", style="dim"))


def use_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root = root_of(file, args.name)
    state = root.state()
    if args.version not in state.versions:
        output.error(
            f"there is no version {args.version}", f"daskel root show {args.name} lists them"
        )
        return ExitCode.WRONG_USE
    kept = users_of(file, args.name, state.used)
    if not args.dry_run:
        with root.lock():
            root.use(args.version)
        publish(file, output, args.name)
    if output.as_json:
        output.json({"root": args.name, "used": args.version, "before": state.used})
        return ExitCode.GOOD
    output.print(f"Clients get version {args.version} of {args.name} at their next boot "
                 f"(now: {version_name(state.used)}). Running ones stay on theirs.")  # fmt: skip
    if kept and args.version != state.used:
        output.print(f"Slates stay on the version that they were made on: {few(kept, 6)}")
    return ExitCode.GOOD


def drop_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    root, number = root_of(file, args.name), args.version
    state = root.state()
    if number not in state.versions:
        output.error(f"there is no version {number}", f"daskel root show {args.name} lists them")
        return ExitCode.WRONG_USE
    reason = _why_kept(file, args.name, number, state)
    if reason:
        output.error(f"version {number} of {args.name} stays: {reason[0]}", reason[1])
        return ExitCode.BAD_NEWS
    if not output.as_json:
        freed = show_size(own_size(root, number))
        output.print(
            f"Version {number} of {args.name} goes; {freed} of it are in no other version."
        )
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Drop it?"):
        output.print("Nothing was dropped.")
        return ExitCode.GOOD
    with root.lock():
        drop(root, number)
    publish(file, output, args.name)
    output.json({"root": args.name, "dropped": number}) if output.as_json else output.print("Done.")
    return ExitCode.GOOD


def _why_kept(file: SiteFile, name: str, number: int, state: RootState) -> tuple[str, str] | None:
    """Who needs a version still, and what to do."""
    if state.used == number:
        return "clients get it", f"choose another: daskel root use {name} N"
    slates = users_of(file, name, number)
    if slates:
        remedy = f"wipe them, or move them: daskel slate rebase {slates[0]}"
        return f"slates were made on it: {few(slates, 6)}", remedy
    connected = (question(file, "connected") or {}).get("clients", [])
    on = [
        c["client"] for c in connected if name in c["roots"] and c["roots"][name] in (number, None)
    ]
    if on:
        return f"connected clients may run on it: {few(on, 6)}", "wait until they boot again"
    return None
