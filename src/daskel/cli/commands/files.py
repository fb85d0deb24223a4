"""`daskel files`: what clients can fetch, exactly as one of them would get it."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator
from pathlib import Path

from rich.table import Table

from daskel.cli import records
from daskel.cli.commands.files_adding import add_files
from daskel.cli.completing import names_of
from daskel.cli.explanations import assigned_of
from daskel.cli.output import ExitCode, Output, short_place
from daskel.cli.root_options import verb
from daskel.cli.site import change_arguments
from daskel.core.boot.identity import by_mac
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import (
    OF_CLIENTS,
    OF_GROUPS,
    Content,
    Files,
    Missing,
    Parts,
    is_secret,
)
from daskel.core.content.grub import config_path, with_server
from daskel.core.content.paths import PathRefusedError, clean_path, nearest
from daskel.core.content.signed_chain import CHAINS
from daskel.core.content.unified_images import boots_by_itself, image_of
from daskel.core.history.events import FileKind, Who
from daskel.core.site.finding import did_you_mean
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.values import counted, show_size
from daskel.system.host.confined_open import FilesFolder, why_not
from daskel.system.sitefile import SiteFile

EXAMPLE = (
    "daskel files list --as tide-01",
    "daskel files show loader/02:61:08:00:00:01.cfg --as tide-01",
    "daskel files add rescue rescue.iso",
    "daskel files add live live.iso --choice tideroom",
)
run = None  # each verb has its own
_NOBODYS = {OF_CLIENTS: "the site has no such client", OF_GROUPS: "the site has no such group"}
_WHO_ASKS = "say who asks with --as CLIENT"
_LOOKS_LIKE_TEXT = 4096  # bytes that are looked at


def arguments(parser: argparse.ArgumentParser) -> None:
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    listing = verb(
        verbs, EXAMPLE, "list", "every file that can be fetched, on the disk or computed", _list
    )
    _as(listing, "with what is computed for this client")
    show = verb(
        verbs, EXAMPLE, "show", "exactly what a client would get, and where it comes from", _show
    )
    show.add_argument("path", metavar="PATH", help="as a client asks for it")
    _as(show, "as this client")
    show.add_argument("--over", choices=("tftp", "http"), default="tftp", help="default: tftp")
    add = verb(
        verbs, EXAMPLE, "add", "copy a folder's or an ISO image's files below `files`", add_files
    )
    add.add_argument("folder", metavar="NAME", help="of the folder below `files`")
    add.add_argument("source", metavar="SOURCE", type=Path, help="a folder, or an ISO image")
    add.add_argument("--replace", action="store_true", help="a folder that is there")
    menu = add.add_argument("--choice", metavar="NAME", help="put a live system into this menu")
    menu.completer = names_of(["choice"])  # type: ignore[attr-defined]
    change_arguments(add)


def _as(parser: argparse.ArgumentParser, text: str) -> None:
    client = parser.add_argument("--as", dest="client", metavar="CLIENT", help=text)
    client.completer = names_of(["client"])  # type: ignore[attr-defined]


def _unknown(args: argparse.Namespace, output: Output, site: Site) -> bool:
    if args.client is None or args.client in site.clients:
        return False
    hint = did_you_mean(args.client, site.clients)
    output.error(f"the site has no client {args.client}", hint)
    return True


# --- list ---


def _list(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    if _unknown(args, output, file.valid):
        return ExitCode.WRONG_USE
    rows = sorted(_rows(file, args.client), key=lambda row: str(row["path"]))
    if output.as_json:
        output.json(rows)
        return ExitCode.GOOD
    if not rows:
        output.print(f"There is no file below {file.files}.")
        return ExitCode.GOOD
    grid = Table(box=None, header_style="bold", pad_edge=False)
    for title in ("path", "size", "what", "from"):
        grid.add_column(title, justify="right" if title == "size" else "left", overflow="fold")
    for row in rows:
        size = row["size"]
        shown = show_size(size) if isinstance(size, int) else "computed"
        grid.add_row(str(row["path"]), shown, str(row["what"]), str(row["from"]))
    output.console.print(grid)
    return ExitCode.GOOD


def _rows(file: SiteFile, client: str | None) -> Iterator[dict[str, object]]:
    site = file.valid
    files = Files(site, Ports())
    if file.files.is_dir():
        folder = FilesFolder(file.files)
        yield from (_disk_row(folder, path, files) for path in folder.names())
    owners: dict[str, list[str]] = {}
    for path, pattern, name in files.written:
        place = short_place(site.origin("file", pattern))
        if name is None:
            yield {"path": path, "size": None, "what": "for everybody", "from": place}
        elif client is None:
            owners.setdefault(pattern, []).append(name)
        elif name == client:
            yield {"path": path, "size": None, "what": f"for {name}", "from": place}
    for pattern, names in owners.items():
        place, what = short_place(site.origin("file", pattern)), counted(len(names), "client")
        yield {"path": pattern, "size": None, "what": f"for {what}", "from": place}
    boots = [
        name for name in ([client] if client else site.clients) if effective(site, name).entries
    ]
    by_itself = [name for name in boots if boots_by_itself(effective(site, name))]
    mac = site.clients[client].mac if client else ""
    for chain in CHAINS.values() if by_itself else ():
        if chain.loader in site.stubs:
            path = image_of(chain, mac or "{{ client.mac_dashed }}")
            what = f"for {client or counted(len(by_itself), 'client')}"
            yield {"path": path, "size": None, "what": what, "from": "what it boots"}
    if boots:
        path = config_path(mac or "{{ client.mac }}")
        what = f"for {client or counted(len(boots), 'client')}"
        yield {"path": path, "size": None, "what": what, "from": "what it boots"}


def _disk_row(folder: FilesFolder, path: str, files: Files) -> dict[str, object]:
    kind, name, inside = (*path.split("/", 2), "", "")[:3]
    whose = ""
    if inside and kind in (OF_CLIENTS, OF_GROUPS):
        there = files.site.clients if kind == OF_CLIENTS else files.site.groups
        if name not in there:
            return {"path": path, "size": 0, "what": "no client gets it", "from": _NOBODYS[kind]}
        whose = f", {name} alone" + (" (secret)" if is_secret(files.site, path) else "")
    what = files.kind_of(inside if whose else path)
    try:
        descriptor, size, _ = folder.find(path)
    except OSError as error:
        return {"path": path, "size": 0, "what": "no client gets it", "from": why_not(error)}
    os.close(descriptor)
    return {"path": path, "size": size, "what": what.value + whose, "from": "the disk"}


# --- show ---


def _show(args: argparse.Namespace, output: Output, file: SiteFile) -> ExitCode:
    site = file.valid
    if _unknown(args, output, site):
        return ExitCode.WRONG_USE
    who = by_mac(site, site.clients[args.client].mac) if args.client else Who()
    found = effective(site, args.client).segment if args.client else None
    segment = found.value if found else next(iter(site.served), None)
    if segment is None or segment not in site.segments:
        output.error("the site has no segment for it", "give the client one: segment = ...")
        return ExitCode.BAD_NEWS
    lease = records.leases(file).of(segment, str(who.mac))
    fixed = site.clients[args.client].address if args.client else None
    who = Who(who.name, who.mac, lease.address if lease else fixed)
    try:
        content = Files(site, Ports(), assigned_of(file)).content(
            segment, clean_path(_raw(args.path)), who, args.over
        )
    except PathRefusedError as error:
        output.error(f"nobody gets {args.path}: {error}", "name a path below `files`")
        return ExitCode.BAD_NEWS
    if isinstance(content, Missing):
        hint = "daskel files list shows what is whose" if args.client else _WHO_ASKS
        output.error(f"{content.path}: {content.reason}", hint)
        return ExitCode.BAD_NEWS
    if content.parts:
        return _composed(output, file, content, content.parts)
    if content.data is not None:
        return _shown(output, content.path, content.kind, content.data, _origin(site, content))
    return _from_disk(output, file, content)


def _composed(output: Output, file: SiteFile, content: Content, parts: Parts) -> ExitCode:
    """An image that is made as it is asked for: what of. It is signed where the site has a key, so
    its bytes are the server's to make."""
    made_of = [part.path for part in (parts.stub, parts.kernel, *parts.initrds)]
    by = file.signing[0].name if file.signing else None
    if output.as_json:
        about = {"path": content.path, "what": content.kind.value, "size": None}
        own = {"parts": made_of, "arguments": parts.line}
        output.json({**about, "from": "what it boots", "text": None, **own})
        return ExitCode.GOOD
    output.print(f"{content.path}: {content.kind.value}, made as it is asked for, of")
    for path in made_of:
        output.print(f"  {path}")
    output.print(f"  {parts.line or '(no arguments)'}")
    signed = f"and signed by the site's key ({by})." if by else "and not signed: there is no key."
    output.print(signed)
    return ExitCode.GOOD


def _raw(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")


def _origin(site: Site, content: Content) -> str:
    files = Files(site, Ports())
    pattern = next((pattern for path, pattern, _ in files.written if path == content.path), None)
    return short_place(site.origin("file", pattern)) if pattern else "what it boots"


def _from_disk(output: Output, file: SiteFile, content: Content) -> ExitCode:
    folder = FilesFolder(file.files) if file.files.is_dir() else None
    if folder is None:
        output.error(f"the folder {file.files} is missing", "create it, and put boot files into it")
        return ExitCode.BAD_NEWS
    try:
        descriptor, _, path = folder.find(*content.places)
    except OSError as error:
        near = nearest(content.path, folder.names())
        hint = f"there is {', '.join(near)}" if near else "daskel files list shows what there is"
        output.error(f"{content.path}: {why_not(error)}", hint)
        return ExitCode.BAD_NEWS
    with os.fdopen(descriptor, "rb") as source:
        data = source.read()
    where = str(file.files / path)
    if content.device:
        written = with_server(data, content.device)
        where += f", with {content.device} written into it" * (written != data)
        data = written
    meant = path in content.places
    kind = content.kind if meant else Files(file.valid, Ports()).kind_of(path)
    return _shown(output, content.path if meant else path, kind, data, where)


def _shown(output: Output, path: str, kind: FileKind, data: bytes, where: str) -> ExitCode:
    """Text as it is; other bytes only where they do not go to a terminal."""
    plain = b"\0" not in data[:_LOOKS_LIKE_TEXT]
    if output.as_json:
        text = data.decode("utf-8", "replace") if plain else None
        about = {"path": path, "what": kind.value, "size": len(data), "from": where}
        output.json({**about, "text": text})
        return ExitCode.GOOD
    output.errors.print(f"{path}: {kind.value}, {show_size(len(data))}, from {where}", style="dim")
    if plain or not output.console.is_terminal:
        output.out.buffer.write(data)
        output.out.buffer.flush()
    else:
        output.errors.print("This file is not text; write it to another with: > FILE")
    return ExitCode.GOOD
