"""Verbs of `daskel keys` about clients' keys for private roots."""

from __future__ import annotations

import argparse
import stat
import time
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli.output import ExitCode, Output
from daskel.cli.site import question
from daskel.core.boot.key_medium import LABEL, image
from daskel.core.values import show_ago
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile

_SHOWS = "daskel keys list shows whose are known"


def asked(file: SiteFile, what: str, remedy: str = _SHOWS, **words: object) -> dict[str, Any]:
    """What the server that runs says of keys; `remedy`: where it refuses. Raises
    MissingRequirementError."""
    answer = question(file, what, **words)
    if answer is None:
        problem = "no server of this site runs here, which alone knows the keys"
        raise MissingRequirementError(problem, "start it with: daskel serve")
    if "error" in answer:
        said = str(answer["error"]).partition("ValueError: ")
        raise MissingRequirementError(said[2] or said[0], remedy)
    return answer


_SERVER = {
    "now": "", "next": "knows the server's next key",
    "before": "knows another key of the server, and does not follow this one",
}  # fmt: skip


def list_keys(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    answer = asked(file, "keys")
    if output.as_json:
        output.json(answer)
        return ExitCode.GOOD
    if not answer["keys"]:
        output.print("No client has a key yet; daskel lobby list shows who waits with one.")
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    for title in ("client", "key in", "admitted", "last used", ""):
        grid.add_column(title)
    now = time.time()
    for key in answer["keys"]:
        used = show_ago(now - key["handshake"]) if key["handshake"] else "not since the start"
        odd = "" if key["fits"] else f"of the machine {key['mac']}, which is another one now"
        odd = odd or _SERVER[key["server"]]
        since = show_ago(now - key["since"])
        grid.add_row(key["client"], key["place"], since, used, Text(odd, style="yellow"))
    output.console.print(grid)
    output.print(f"The tunnel is {answer['by']}.")
    return ExitCode.GOOD


def revoke_key(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if not output.as_json:
        output.print(f"{args.client} is cut off at once, and comes to its root again when a new "
                     "key is admitted.")  # fmt: skip
    if args.dry_run:
        return ExitCode.GOOD
    if not args.yes and not output.as_json and not output.agreed("Revoke its key?"):
        output.print("Nothing was changed.")
        return ExitCode.GOOD
    answer = asked(file, "revoke", client=args.client)
    output.json(answer) if output.as_json else output.print("Done.")
    return ExitCode.GOOD


def renew_key(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    keys = asked(file, "keys")["keys"]
    lack = [key["client"] for key in keys if key["fits"] and key["server"] != "next"]
    if not output.as_json:
        if lack:
            output.print(f"Not yet told the next key: {', '.join(lack)}.")
        running = [key["client"] for key in keys if key["runs"]]
        if args.finish and lack:
            output.print("They do not follow the server then: their places for a key have to be "
                         "emptied (with a passphrase: daskel keys revoke), and they are "
                         "admitted anew.")  # fmt: skip
        if args.finish and running:
            lose = f"Lost until they are started again: the roots of {', '.join(running)}."
            output.print(Text(lose, style="yellow"))
    if args.dry_run:
        said = "Nothing was changed."
        output.json({"said": said}) if output.as_json else output.print(said)
        return ExitCode.GOOD
    if args.finish and not args.yes and not output.as_json and not output.agreed("Change it?"):
        output.print("Nothing was changed.")
        return ExitCode.GOOD
    answer = asked(file, "next_key", finish=args.finish)
    if output.as_json:
        output.json(answer)
    elif args.finish:
        output.print(f"The server has its new key. The one before is in {file.secret}.before.")
    else:
        told, all_of = len(answer["know"]), len(answer["know"]) + len(answer["lack"])
        output.print(f"Clients that know the server's next key: {told} of {all_of}. Each is told "
                     "when it starts; then: daskel keys renew --finish")  # fmt: skip
    return ExitCode.GOOD


def make_medium(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:  # noqa: ARG001
    target, data = args.target, image()
    device = target.exists() and stat.S_ISBLK(target.stat().st_mode)
    if target.exists() and not device:
        output.error(f"{target} is there already", "name a new file, or a device")
        return ExitCode.WRONG_USE
    if device and not output.as_json:
        output.print(Text(f"What is on {target} is lost.", style="yellow"))
    if args.dry_run:
        output.print(f"Would write {len(data):,} bytes to {target}.")
        return ExitCode.GOOD
    if device and not args.yes and not output.as_json and not output.agreed("Write it?"):
        output.print("Nothing was written.")
        return ExitCode.GOOD
    try:
        target.write_bytes(data) if not device else _write(target, data)
    except OSError as error:
        denied = isinstance(error, PermissionError)
        remedy = (
            "run as root" if denied else "name a device, or a new file in a folder that is there"
        )
        raise MissingRequirementError(f"{target}: {error.strerror}", remedy) from None
    said = (
        f"{target} is a medium with the label {LABEL}: put it into one machine, which writes its "
    )
    said += "key there when it starts."
    output.json({"said": said}) if output.as_json else output.print(said)
    return ExitCode.GOOD


def _write(device: Any, data: bytes) -> None:
    with device.open("r+b") as file:
        file.write(data)
