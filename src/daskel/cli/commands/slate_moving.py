"""`daskel slate move` and `home`: on which of several servers a client's slates are."""

from __future__ import annotations

import argparse
from pathlib import Path

from daskel.cli.other_server import OtherServer, is_another, own_name
from daskel.cli.output import ExitCode, Output, working
from daskel.cli.root_options import root_of
from daskel.cli.site import question
from daskel.cli.slate_layers import is_connected, take_away
from daskel.core.site.finding import did_you_mean
from daskel.core.values import counted, show_size
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.slates import NOT_KEPT, Slate, slates_below
from daskel.system.sitefile import SiteFile


def move_slates(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """Copy a client's slates to another server, and have it boot from there."""
    client = args.client
    if not _is_client(args, output, file) or not is_another(args, output, file):
        return ExitCode.WRONG_USE
    own, home = own_name(file), _asked(file, client=client)
    if home["home"] != own:
        problem = f"the slates of {client} are on {home['home']}, not here ({own})"
        output.error(problem, f"run this on {home['home']}")
        return ExitCode.BAD_NEWS
    slates = [slate for slate in slates_below(file.slates) if slate.client == client]
    for slate in slates:
        state = slate.state()
        if state and state.version == 0:
            problem = f"the slate of {client} is on the working tree of {slate.root}, which is here"
            remedy = f"daskel root seal {slate.root}, then: daskel slate rebase {client} --to N"
            output.error(problem, remedy)
            return ExitCode.BAD_NEWS
    if is_connected(file, client):
        output.error(f"{client} is connected", "power it off first")
        return ExitCode.BAD_NEWS
    if not output.as_json:
        size = show_size(sum(slate.size()[0] for slate in slates))
        here = f"{counted(len(slates), 'slate')} here, {size}: it cannot boot while they are copied"
        output.print(f"{client} has {here if slates else 'no slates yet'}; then it boots from "
                     f"{args.server}.")  # fmt: skip
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Move them?"):
        output.print("Nothing was moved.")
        return ExitCode.GOOD
    _asked(file, client=client, server=own, target=args.server)
    try:
        _copy(args, output, file, slates)
    except BaseException:
        _asked(file, client=client, server=own)
        raise
    _asked(file, client=client, server=args.server)
    for slate in slates:
        take_away(file, slate, "wipe")
    if output.as_json:
        output.json({"home": args.server, "before": own, "slates": len(slates)})
    else:
        output.print(f"The slates of {client} are on {args.server} from now on.")
    return ExitCode.GOOD


def _copy(args: argparse.Namespace, output: Output, file: SiteFile, slates: list[Slate]) -> None:
    with OtherServer.opened(file, args.server, output) as other:
        for slate in slates:
            state = slate.state()
            if state is None:
                continue
            take_away(file, slate, "close")
            if is_connected(file, args.client):
                problem = f"{args.client} has begun to boot meanwhile"
                raise MissingRequirementError(problem, "power it off, and try again")
            size = slate.size()[0]
            digest = _digest(slate, output, size)
            words = ("slate", "receive", args.client, "--root", slate.root)
            told = other.ask(*words, "--prepare", digest, "--on", str(state.version))
            if told["there"]:
                continue
            leave = [f"--exclude=/{name}" for name in NOT_KEPT]
            other.send(slate.folder, told["folder"], f"slate of {slate.root}", size, *leave)
            other.ask(*words, "--digest", digest)


def _digest(slate: Slate, output: Output, size: int, folder: Path | None = None) -> str:
    with working(output, "reading it", size or 1) as progress:
        task = progress.task_ids[0]
        return slate.digest(lambda done: progress.advance(task, done), folder)


def receive_slate(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """On the other server: say where a slate is to be put together; or put it in place."""
    if not _is_client(args, output, file):
        return ExitCode.WRONG_USE
    if args.root not in file.valid.roots:
        output.error(f"the site has no root {args.root}", did_you_mean(args.root, file.valid.roots))
        return ExitCode.WRONG_USE
    slate = Slate(file.slates, args.root, args.client)
    if args.prepare is not None:
        return _prepare(args, output, file, slate)
    if not slate.arriving.is_dir():
        problem = f"no slate of {args.client} on {args.root} has arrived"
        output.error(problem, "daskel slate move on another server brings it")
        return ExitCode.BAD_NEWS
    if _digest(slate, output, 1, slate.arriving) != args.digest:
        problem = f"the slate of {args.client} on {args.root} did not arrive as it was sent"
        output.error(problem, "move it once more: what is the same is not sent again")
        return ExitCode.BAD_NEWS
    slate.arrived()
    question(file, "renew")
    said = f"The slate of {args.client} on {args.root} is here."
    output.json({"said": said}) if output.as_json else output.print(said)
    return ExitCode.GOOD


def _prepare(args: argparse.Namespace, output: Output, file: SiteFile, slate: Slate) -> ExitCode:
    if not root_of(file, args.root).version(args.on).is_dir():
        problem = f"version {args.on} of {args.root} is not here"
        output.error(problem, f"send it first: daskel root send {args.root} {args.on} SERVER")
        return ExitCode.BAD_NEWS
    there = slate.state() is not None
    if there and _digest(slate, output, 1) != args.prepare:
        problem = f"there is another slate of {args.client} on {args.root} here"
        remedy = (
            f"look at it: daskel slate show {args.client}; then: daskel slate wipe {args.client}"
        )
        output.error(problem, remedy)
        return ExitCode.BAD_NEWS
    if not there:
        file.slates.mkdir(mode=0o700, parents=True, exist_ok=True)  # clients' secrets are in it
        slate.arriving.mkdir(mode=0o700, parents=True, exist_ok=True)
    told = {"there": there, "folder": str(slate.arriving.absolute())}
    output.json(told) if output.as_json else output.print(f"It goes to {slate.arriving}.")
    return ExitCode.GOOD


def say_home(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    """A client's slates are on a server, since somebody copied them there."""
    if not _is_client(args, output, file):
        return ExitCode.WRONG_USE
    if args.server not in file.valid.servers:
        known = did_you_mean(args.server, file.valid.servers)
        output.error(f"there is no server {args.server!r}", known)
        return ExitCode.WRONG_USE
    if not output.as_json:
        output.print(
            f"{args.client} boots from {args.server} alone from then on, with what is there."
        )
        below = f"{file.slates}/*/{args.client}"
        output.print(f"Copied already, with the client off? rsync -aHAX of {below}")
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Say so?"):
        output.print("Nothing was changed.")
        return ExitCode.GOOD
    answer = _asked(file, client=args.client, server=args.server)
    if output.as_json:
        output.json(answer)
    else:
        before = f", and no longer on {answer['before']}" if answer["before"] else ""
        output.print(f"The slates of {args.client} are on {args.server} from now on{before}.")
    return ExitCode.GOOD


def _is_client(args: argparse.Namespace, output: Output, file: SiteFile) -> bool:
    known = file.valid.clients
    if args.client not in known:
        output.error(f"there is no client {args.client!r}", did_you_mean(args.client, known))
    return args.client in known


def _asked(file: SiteFile, **words: str) -> dict[str, str]:
    """Raises MissingRequirementError."""
    answer = question(file, "home", **words)
    if answer is None or "error" in answer:
        said = answer["error"] if answer else "no server of this site runs here"
        raise MissingRequirementError(said, "start it with: daskel serve")
    return answer
