"""`daskel lobby`: machines that wanted to boot and are not in the site; clients that wait with a
key for their private root."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable, Sequence
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from rich.table import Table as Grid
from rich.text import Text

from daskel.cli import records
from daskel.cli.commands.client_keys import asked
from daskel.cli.completing import names_of
from daskel.cli.editing import changing, edit, editing_arguments, new_table, owner
from daskel.cli.output import ExitCode, Output
from daskel.cli.site import json_argument, path_of, question, site_argument
from daskel.cli.usage import add_verb
from daskel.core.dhcp.pxe import ARCHITECTURES
from daskel.core.history.lobby import Sighting
from daskel.core.site.edit import EditError
from daskel.core.site.layers import segment_name
from daskel.core.site.model import Site
from daskel.core.values import parse_mac, show_duration
from daskel.store.database import Store
from daskel.system.sitefile import SiteFile, load

EXAMPLE = (
    "daskel lobby list",
    "daskel lobby admit 02:61:08:00:00:0d --name tide-13 --group tide --address next",
    "daskel lobby admit all --name 'tide-{:02}' --group tide",
    "daskel lobby admit tide-01 --word JTLB6S   # with a key for its private root",
    "daskel lobby refuse 02:61:08:00:00:0d",
    "daskel lobby forget all",
)
run = None  # each verb has its own


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    listing = add_verb(verbs, EXAMPLE, "list", "who waits", _list)
    site_argument(listing)
    json_argument(listing)
    admit = _verb(verbs, "admit", "make them clients of the site", _admit)
    admit.add_argument("--name", help="its name; for several a pattern: 'tide-{:02}'")
    group = admit.add_argument("--group", help="the group that they belong to")
    group.completer = names_of(["group"])  # type: ignore[attr-defined]
    admit.add_argument("--address", help="a fixed address, or: next, the next free one")
    admit.add_argument("--boot", help="a loadout or a choice, instead of the group's")
    admit.add_argument(
        "--word",
        help="of a client that waits with a key for its private root: what its screen says",
    )
    _verb(verbs, "refuse", "put them on their segment's refuse list", _refuse)
    _verb(verbs, "forget", "take them off the list until they ask again", _forget)


def _verb(
    verbs: Any, name: str, text: str, run: Callable[[argparse.Namespace, Output], ExitCode]
) -> argparse.ArgumentParser:
    parser = add_verb(verbs, EXAMPLE, name, text, run)
    macs = parser.add_argument("macs", metavar="MAC", nargs="+", help="or: all")
    macs.completer = _waiting_macs  # type: ignore[attr-defined]
    editing_arguments(parser)
    return parser


def _waiting_macs(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    return ["all", *(sighting.mac for sighting in waiting(load(path_of(parsed_args))))]


def waiting(file: SiteFile) -> list[Sighting]:
    """The machines of the store that are not in the site (any more), newest first."""
    site = file.valid
    return [s for s in records.lobby(file) if s.mac not in site.by_mac] if site else []


def _list(args: argparse.Namespace, output: Output) -> ExitCode:
    file, now = load(path_of(args)), time.time()
    found, keys = waiting(file), _keys(file)
    if output.as_json:
        output.json([*map(_json, found), *({"key": key} for key in keys)])
        return ExitCode.GOOD
    for key in keys:
        client, word = key["client"], key["word"]
        output.print(f"{client} waits with a key for its private root. Does its screen show this "
                     f"word?   {word}")  # fmt: skip
        output.print(Text(f"      daskel lobby admit {client} --word {word}", style="green"))
    if not found:
        if not keys:
            output.print("No machine waits.")
        return ExitCode.GOOD
    grid = Grid(box=None, header_style="bold", pad_edge=False)
    relayed = any(s.relay for s in found)
    titles = ["MAC address", "segment", "firmware", "first seen", "last seen", "times"]
    for title in [*titles, *(["relay agent"] if relayed else [])]:
        grid.add_column(title)
    for s in found:
        first, last = (f"{show_duration(max(int(now - t), 0))} ago" for t in (s.first, s.last))
        grid.add_row(
            s.mac, s.segment, _firmware(s), first, last, str(s.times), *[s.relay][:relayed]
        )
    output.console.print(grid)
    return ExitCode.GOOD


def _keys(file: SiteFile) -> list[dict[str, Any]]:
    """The clients that wait with a key, where a server runs that can tell."""
    if file.site is None or file.site.settings.private is None:
        return []
    answer = question(file, "keys") or {}
    return list(answer.get("waiting", ()))


def _admit_key(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    (client,) = args.macs
    waits = next((key for key in _keys(file) if key["client"] == client), None)
    word, remedy = args.word, "daskel lobby list shows who waits, and with which word"
    if word is None and waits:
        if not output.agreed(f"Does the screen of {client} show {waits['word']}?", "give --word"):
            output.print("Then it is not admitted: somebody may be between it and the server.")
            return ExitCode.BAD_NEWS
        word = waits["word"]
    answer = asked(file, "key", remedy, client=client, word=word or "-")
    if output.as_json:
        output.json(answer)
    else:
        output.print(f"{client} is admitted; its key: {answer['place']}.")
    return ExitCode.GOOD


def _firmware(sighting: Sighting) -> str:
    number = sighting.architecture
    return ARCHITECTURES.get(number, f"type {number}") if number is not None else "unknown"


def _json(s: Sighting) -> dict[str, object]:
    return {
        "mac": s.mac, "segment": s.segment, "architecture": s.architecture,
        "firmware": _firmware(s), "vendor_class": s.vendor_class, "machine_id": s.machine_id,
        "first": s.first, "last": s.last, "times": s.times, "relay": s.relay or None,
    }  # fmt: skip


def _admit(args: argparse.Namespace, output: Output) -> ExitCode:
    known = load(path_of(args))
    if known.site and len(args.macs) == 1 and args.macs[0] in known.site.clients:
        return _admit_key(args, output, known)
    if args.name is None or args.word is not None:
        problem = "a new client needs a name" if args.name is None else "no client waits with a key"
        output.error(problem, "give --name" if args.name is None else "daskel lobby list shows all")
        return ExitCode.WRONG_USE
    try:
        file, found = _chosen(args)
        names = _names(args.name, len(found), file.valid)
        addresses = _addresses(args.address, len(found), file.valid, args.group, found)
    except (EditError, ValueError) as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
    changes = []
    for sighting, name, address in zip(found, names, addresses, strict=True):
        values = {"mac": sighting.mac, "group": args.group, "address": address, "boot": args.boot}
        if args.group is None:
            values["segment"] = sighting.segment
        changes.append((path_of(args), new_table("client", name, values)))
    return _edit_and_apply(args, output, file, changes, f"Admitted: {', '.join(names)}.")


def _refuse(args: argparse.Namespace, output: Output) -> ExitCode:
    try:
        file, found = _chosen(args)
        changes = []
        for segment in dict.fromkeys(sighting.segment for sighting in found):
            macs = [s.mac for s in found if s.segment == segment]
            refused = [*file.valid.segments[segment].refuse, *macs]
            table = ("segment", segment)
            changes.append((owner(file, table), changing(table, {"refuse": refused})))
    except (EditError, ValueError) as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
    code = _edit_and_apply(args, output, file, changes, f"Refused: {len(found)}.")
    if code is ExitCode.GOOD and not args.dry_run:
        _drop(file, [sighting.mac for sighting in found])
    return code


def _forget(args: argparse.Namespace, output: Output) -> ExitCode:
    try:
        file, found = _chosen(args)
    except (EditError, ValueError) as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
    if not args.dry_run:
        _drop(file, [sighting.mac for sighting in found])
    said = f"Forgotten: {', '.join(sighting.mac for sighting in found)}."
    output.json({"said": said}) if output.as_json else output.print(said)
    return ExitCode.GOOD


def _drop(file: SiteFile, macs: list[str]) -> None:
    question(file, "forget", macs=macs)  # which removes them from a database
    if file.database is not None:
        return
    store = Store(file.state)
    store.keep_sightings([], macs)
    store.close()


def _chosen(args: argparse.Namespace) -> tuple[SiteFile, list[Sighting]]:
    """The machines named, in the order named; `all` from the one that came first."""
    file = load(path_of(args))
    if file.site is None or file.invalid:
        raise EditError("the site file has errors; daskel check says which")
    there = {sighting.mac: sighting for sighting in waiting(file)}
    if args.macs == ["all"]:
        found = sorted(there.values(), key=lambda sighting: sighting.first)
    else:
        macs = [_mac(text) for text in args.macs]
        missing = [mac for mac in macs if mac not in there]
        if missing:
            raise EditError(f"{missing[0]} does not wait; daskel lobby list shows who does")
        found = [there[mac] for mac in macs]
    if not found:
        raise EditError("nobody waits")
    return file, found


def _mac(text: str) -> str:
    try:
        return parse_mac(text)
    except ValueError as error:
        raise EditError(f"{text!r} {error}") from None


def _names(pattern: str, count: int, site: Site) -> list[str]:
    """The name itself for one; for a pattern, the next numbers that are free."""
    if "{" not in pattern:
        if count > 1:
            raise EditError(f"{count} machines need a pattern as their name, like 'tide-{{:02}}'")
        return [pattern]
    names: list[str] = []
    number = 0
    while len(names) < count:
        number += 1
        try:
            name = pattern.format(number)
        except (ValueError, IndexError, KeyError) as error:
            raise EditError(f"{pattern!r} is no pattern like 'tide-{{:02}}' ({error})") from None
        if name not in site.clients and name not in names:
            names.append(name)
        if number > len(site.clients) + count + 1:
            raise EditError(f"{pattern!r} gives the same name again and again")
    return names


def _addresses(
    asked: str | None, count: int, site: Site, group: str | None, found: Sequence[Sighting]
) -> list[str | None]:
    """Fixed addresses as asked; `next` are the first free ones outside of the pool."""
    if asked is None:
        return [None] * count
    if asked != "next":
        if count > 1:
            raise EditError("several machines cannot have one address; write --address next")
        return [str(IPv4Address(asked))]
    given = site.groups[group].segment if group and group in site.groups else None
    taken = {client.address for client in site.clients.values() if client.address}
    addresses: list[str | None] = []
    for sighting in found:
        segment = site.segments[given or sighting.segment]
        same = [c.address for c in site.clients.values()
                if c.address and segment_name(site, c) == (given or sighting.segment)]  # fmt: skip
        start = max(same, default=segment.network[0]) + 1
        hosts = (segment.network[i] for i in range(1, segment.network.num_addresses - 1))
        free = [
            host for host in hosts
            if host not in taken and host not in (segment.server, segment.router)
            and not any(host in part for part in segment.pool)
        ]  # fmt: skip
        if not free:
            raise EditError(f"{segment.network} has no free address outside of its pool")
        chosen = next((host for host in free if host >= start), free[0])
        taken.add(chosen)
        addresses.append(str(chosen))
    return addresses


def _edit_and_apply(
    args: argparse.Namespace,
    output: Output,
    file: SiteFile,
    changes: Sequence[tuple[Path, Callable[[str], str]]],
    said: str,
) -> ExitCode:
    """A running server that had the file as it was takes the change over at once."""
    before = question(file, "status")
    ready = bool(before) and not (before or {}).get("differs")
    try:
        code = edit(args, output, file, changes, said, what_next=not ready)
    except EditError as error:
        output.error(str(error))
        return ExitCode.WRONG_USE
    if code is ExitCode.GOOD and ready and not args.dry_run:
        answer = question(file, "apply") or {}
        if not output.as_json:
            done = "The running server has it." if answer.get("applied") else answer.get("said", "")
            output.print(done)
    return code
