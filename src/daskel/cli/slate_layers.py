"""One client's slate: the layers below it, and what the server that runs has of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from daskel.cli.output import ExitCode, Output
from daskel.cli.root_options import root_of
from daskel.cli.site import question
from daskel.system.requirements import MissingRequirementError
from daskel.system.roots.mounts import mounted_below, overlay, own_namespace, unmount
from daskel.system.roots.slates import Slate
from daskel.system.sitefile import SiteFile


def base_of(file: SiteFile, slate: Slate) -> Path:
    """The folder of the version that a slate was made on."""
    state, site = slate.state(), file.valid
    if state is None or slate.root not in site.roots:
        raise MissingRequirementError(
            f"the root {slate.root} is not in the site any more", "put it back"
        )
    return root_of(file, slate.root).version(state.version)


def seen_by(
    file: SiteFile, root: str, client: str, output: Output, use: Callable[[Path], ExitCode]
) -> ExitCode:
    """Do something with what a client sees of a root, as it is now; nothing of it is changed."""
    slate = Slate(file.slates, root, client)
    if slate.state() is None:
        output.error(f"{client} has no slate of {root}", "daskel slate list shows all")
        return ExitCode.BAD_NEWS
    base, view = base_of(file, slate), slate.folder / "seen"
    with slate.mounted():
        return _seen(slate, base, view, use)


def _seen(slate: Slate, base: Path, view: Path, use: Callable[[Path], ExitCode]) -> ExitCode:
    try:
        own_namespace()
        view.mkdir(exist_ok=True)
        overlay(view, [*slate.layers, base])
    except OSError as error:
        problem = f"{view} cannot be mounted ({error.strerror})"
        raise MissingRequirementError(problem, "run as root") from None
    try:
        return use(view)
    finally:
        for point in mounted_below(view):
            unmount(point)
        view.rmdir()


def is_connected(file: SiteFile, client: str) -> bool:
    """It has a connection now."""
    return client in connected_clients(file)


def connected_clients(file: SiteFile) -> set[str]:
    """Clients with a connection now, as far as the server sees it."""
    clients = (question(file, "connected") or {}).get("clients", [])
    return {client["client"] for client in clients if client.get("open", True)}


def take_away(file: SiteFile, slate: Slate, how: str) -> None:
    """Close a slate, or wipe it: by the running server, else here.

    Raises MissingRequirementError.
    """
    answer = question(file, "slate", root=slate.root, client=slate.client, how=how)
    if answer is not None:
        if "error" in answer:
            raise MissingRequirementError(answer["error"], "run as root or as the server's user")
        return
    try:
        if how == "wipe":
            slate.wipe()
    except PermissionError as error:
        raise MissingRequirementError(f"{slate.folder}: {error.strerror}", "run as root") from None
