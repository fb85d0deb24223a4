"""`daskel root send`, and what it runs on the other server."""

from __future__ import annotations

import argparse
import hashlib
import json
import tempfile
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from daskel.cli.other_server import OtherServer, is_another
from daskel.cli.output import ExitCode, Output, working
from daskel.cli.publishing import publish
from daskel.cli.root_options import root_of
from daskel.core.values import show_size
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.kept import read_kept, sync_folder
from daskel.system.roots.roots import RootFolder, Version
from daskel.system.roots.sealing import discard
from daskel.system.roots.tree_digest import tree_digest
from daskel.system.sitefile import SiteFile

_TREE, _IMAGE, _INITRD, _ABOUT = "tree", "image", "initrd", "version.json"  # of what arrives


def send_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Copy a sealed version to another server of the site."""
    root = root_of(file, args.name)
    state = root.state()
    number = state.used if args.version is None else args.version
    if number not in state.versions:
        what = f"there is no version {number}" if number else "no version is in use"
        output.error(what, f"daskel root show {args.name} lists them; daskel root seal makes one")
        return ExitCode.WRONG_USE
    if not is_another(args, output, file):
        return ExitCode.WRONG_USE
    version = state.versions[number]
    if args.dry_run:
        output.print(f"Would send version {number} of {args.name} to {args.server}: "
                     f"{show_size(version.size)} at most.")  # fmt: skip
        return ExitCode.GOOD
    with root.lock(), OtherServer.opened(file, args.server, output) as other:
        digest = _digest_of(root.version(number), version, output)
        words = ("root", "receive", args.name, str(number))
        told = other.ask(*words, "--prepare", digest)
        if not told["there"]:
            _send(other, root, number, version, digest, told)
        if not told["there"] or args.use:
            told |= other.ask(*words, *(["--use"] if args.use else []))
    if output.as_json:
        output.json({
            "root": args.name, "version": number, "server": args.server, "digest": digest,
            "sent": not told["there"], "used": told["used"],
        })  # fmt: skip
        return ExitCode.GOOD
    done = "had it already, the same" if told["there"] else "has it, and its digest is the same"
    output.print(f"Version {number} of {args.name}: {args.server} {done}.")
    if told["used"] != number:
        output.print(f"Clients of {args.server} get version {told['used'] or 'of the working tree'}"
                     f"; this one with: daskel root send {args.name} {number} {args.server} --use"
                     )  # fmt: skip
    return ExitCode.GOOD


def _send(
    other: OtherServer, root: RootFolder, number: int, version: Version, digest: str,
    told: dict[str, Any],
) -> None:  # fmt: skip
    folder = told["folder"]
    share = [f"--link-dest={told['share']}"] if told["share"] else []
    other.send(root.version(number), f"{folder}/{_TREE}", f"version {number}", version.size, *share)
    about: dict[str, Any] = {"digest": digest, "version": asdict(version)}
    if version.image:
        image, initrd = root.image(number), root.client_part(number)
        about["initrd"] = _digest(initrd)
        other.send(image, f"{folder}/{_IMAGE}", "its image", version.image)
        other.send(initrd, f"{folder}/{_INITRD}", "its initrd", initrd.stat().st_size)
    with tempfile.NamedTemporaryFile("w", prefix="daskel-") as file:
        json.dump(about, file)
        file.flush()
        other.send(Path(file.name), f"{folder}/{_ABOUT}", "what it is", 1)


def _digest_of(folder: Path, version: Version, output: Output) -> str:
    with working(output, "reading it", version.size or 1) as progress:
        task = progress.task_ids[0]
        return tree_digest(folder, lambda done: progress.advance(task, done))


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


# --- on the other server ---


def receive_version(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Say where a version is to be put together; or put it in place when it is whole."""
    root, number = root_of(file, args.name), args.version
    if number < 1:
        output.error(f"there is no version {number}", "a version's number is 1 or more")
        return ExitCode.WRONG_USE
    with root.lock():
        state = root.state()
        there = number in state.versions
        if args.prepare is not None:
            return _prepare(args, output, root)
        if not there:
            _put_in_place(args, output, root)
        if args.use:
            root.use(number)
        used = root.state().used
    publish(file, output, args.name)
    if output.as_json:
        output.json({"used": used})
    else:
        output.print(f"Version {number} of {args.name} is here.")
    return ExitCode.GOOD


def _prepare(args: argparse.Namespace, output: Output, root: RootFolder) -> ExitCode:
    state, number = root.state(), args.version
    folder, there = root.arriving(number), number in state.versions
    if there and _digest_of(root.version(number), state.versions[number], output) != args.prepare:
        problem = f"version {number} of {args.name} is another one here"
        output.error(problem, "seal it anew there, which gives it another number, or drop it here")
        return ExitCode.BAD_NEWS
    if not there:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    share = max(state.versions, default=0)
    told = {
        "there": there, "folder": str(folder.absolute()), "used": state.used,
        "share": str(root.version(share).absolute()) if share else None,
    }  # fmt: skip
    output.json(told) if output.as_json else output.print(f"It goes to {folder}.")
    return ExitCode.GOOD


def _put_in_place(args: argparse.Namespace, output: Output, root: RootFolder) -> None:
    """Raises MissingRequirementError where it is not what was sent."""
    state, number = root.state(), args.version
    folder = root.arriving(number)
    remedy = "send it once more: what is the same is not sent again"
    about = read_kept(folder / _ABOUT, remedy)
    if about is None:
        problem = f"version {number} of {args.name} has not arrived"
        raise MissingRequirementError(problem, "daskel root send on another server brings it")
    try:
        version = Version(**about["version"])
    except (KeyError, TypeError) as error:
        problem = f"{folder / _ABOUT} is damaged: {error!r}"
        raise MissingRequirementError(problem, remedy) from None
    same = _digest_of(folder / _TREE, version, output) == about.get("digest")
    if version.image:
        same = same and _digest(folder / _IMAGE) == version.digest
        same = same and _digest(folder / _INITRD) == about.get("initrd")
    if not same:
        problem = f"version {number} of {args.name} did not arrive as it was sent"
        raise MissingRequirementError(problem, remedy)
    root.keep(state)  # from now on, versions without it are damage
    if version.image:
        (folder / _IMAGE).rename(root.image(number))
        (folder / _INITRD).rename(root.client_part(number))
    (folder / _TREE).rename(root.version(number))
    sync_folder(root.version(number).parent)
    used = state.used or (number if not state.versions else 0)
    versions = {**state.versions, number: version}
    root.keep(replace(state, used=used, versions=versions, last=max(state.last, number)))
    discard(folder)
