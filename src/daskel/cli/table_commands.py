"""The commands `client`, `group` and `loadout`: the same verbs on three kinds of tables."""

from __future__ import annotations

import argparse
import csv
import io
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from rich.table import Table as Grid

from daskel.cli.completing import names_of
from daskel.cli.editing import (
    VALUES_HELP,
    edit,
    editing_arguments,
    new_table,
    owner,
    values_of,
)
from daskel.cli.explanations import assigned_of
from daskel.cli.output import ExitCode, Output, short_place
from daskel.cli.site import json_argument, open_site, path_of, site_argument
from daskel.cli.usage import add_verb
from daskel.core.site.edit import EditError, change, remove, rename
from daskel.core.site.finding import did_you_mean
from daskel.core.site.includes import Text
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.parse import parse
from daskel.core.site.tables import Table
from daskel.core.values import counted
from daskel.system.requirements import MissingRequirementError
from daskel.system.sitefile import SiteFile, load

Run = Callable[[argparse.Namespace, Output], ExitCode]


class Tables:
    """The command of one kind of table."""

    def __init__(self, kind: str, examples: Sequence[str]) -> None:
        self.kind, self._examples = kind, examples

    def arguments(self, parser: argparse.ArgumentParser) -> None:
        verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
        self._verb(verbs, "list", f"all {self.kind}s", self.list_all, [])
        self._verb(verbs, "show", "one, as it is written", self.show, [self._name])
        self._verb(verbs, "add", "a new one", self.add, [_new_name, self._values], True)
        self._verb(verbs, "set", "change keys", self.set_keys, [self._name, self._values], True)
        self._verb(verbs, "remove", "take it away", self.remove, [self._names], True)
        if self.kind == "loadout":
            verb = [self._name, _new_name, self._values]
            self._verb(verbs, "copy", "a copy, with changes", self.copy, verb, True)
        if self.kind == "client":
            verb = [self._name, _new_name]
            self._verb(verbs, "rename", "give another name", self.rename, verb, True)
            self._verb(verbs, "import", "add from a CSV file", self.import_csv, [_csv_file], True)
            self._verb(verbs, "export", "print all as CSV", self.export_csv, [])

    def _verb(
        self,
        verbs: Any,
        name: str,
        text: str,
        run: Run,
        parts: Sequence[Callable[[argparse.ArgumentParser], None]],
        edits: bool = False,
    ) -> None:
        parser = add_verb(verbs, self._examples, name, text, _saying_why(run))
        for part in parts:
            part(parser)
        if edits:
            editing_arguments(parser)
        else:
            site_argument(parser)
            json_argument(parser)

    # --- arguments of the verbs ---

    def _name(self, parser: argparse.ArgumentParser) -> None:
        name = parser.add_argument("name", metavar="NAME", help=f"of a {self.kind}")
        name.completer = names_of([self.kind])  # type: ignore[attr-defined]

    def _names(self, parser: argparse.ArgumentParser) -> None:
        names = parser.add_argument(
            "names", metavar="NAME", nargs="+", help=f"one {self.kind}, or several"
        )
        names.completer = names_of([self.kind])  # type: ignore[attr-defined]

    def _values(self, parser: argparse.ArgumentParser) -> None:
        parser.add_argument(
            "values",
            metavar="KEY=VALUE",
            nargs="*",
            help=VALUES_HELP,
        )

    # --- verbs ---

    def list_all(self, args: argparse.Namespace, output: Output) -> ExitCode:
        file = open_site(args, checked=False)
        once = assigned_of(file).waiting if self.kind == "client" else {}
        rows = [_row(file.valid, self.kind, name, once) for name in _tables(file.valid, self.kind)]
        if output.as_json:
            output.json(rows)
            return ExitCode.GOOD
        grid = Grid(box=None, header_style="bold", pad_edge=False)
        for title in rows[0] if rows else ("name",):
            grid.add_column(title, overflow="fold")
        for row in rows:
            grid.add_row(*(str(value or "") for value in row.values()))
        output.console.print(grid)
        return ExitCode.GOOD

    def show(self, args: argparse.Namespace, output: Output) -> ExitCode:
        file = self._file(args, args.name)
        table = _tables(file.valid, self.kind)[args.name]
        said = table.model_dump(mode="json", by_alias=True, exclude_unset=True)
        if output.as_json:
            output.json({"name": args.name, **said})
            return ExitCode.GOOD
        output.print(args.name)
        grid = Grid.grid(padding=(0, 2))
        for key, value in sorted(said.items(), key=lambda item: item[0] in ("args", "options")):
            shown = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            grid.add_row("", key, shown, short_place(file.valid.origin(self.kind, args.name, key)))
        output.console.print(grid)
        return ExitCode.GOOD

    def add(self, args: argparse.Namespace, output: Output) -> ExitCode:
        values, file = values_of(self.kind, args.values), self._site_file(args)
        place = the_only_place(file.valid, values) if self.kind == "client" else {}
        changes = [(path_of(args), new_table(self.kind, args.new_name, {**values, **place}))]
        where = "".join(f", in the {key} {name}, the only one" for key, name in place.items())
        said = f"{self.kind} {args.new_name} added{where}."
        return self._edit(args, output, file, changes, said, [args.new_name])

    def set_keys(self, args: argparse.Namespace, output: Output) -> ExitCode:
        file = self._file(args, args.name)
        table = _tables(file.valid, self.kind)[args.name]
        before = table.model_dump(mode="json", by_alias=True, exclude_unset=True)
        values = values_of(self.kind, args.values, before)
        said = f"{self.kind} {args.name} changed."
        changes = [set_values(file, (self.kind, args.name), values)]
        return self._edit(args, output, file, changes, said, [args.name])

    def remove(self, args: argparse.Namespace, output: Output) -> ExitCode:
        file = self._site_file(args)
        changes = []
        for name in args.names:
            self._known(file, name)
            changes.append((owner(file, (self.kind, name)), removal((self.kind, name))))
        said = f"{self.kind} {', '.join(args.names)} removed."
        return self._edit(args, output, file, changes, said, [])

    def rename(self, args: argparse.Namespace, output: Output) -> ExitCode:
        table = (self.kind, args.name)
        file = self._file(args, args.name)
        changes = [(owner(file, table), lambda text: rename(text, table, args.new_name))]
        said = f"{args.name} is called {args.new_name} now."
        return self._edit(args, output, file, changes, said, [args.new_name])

    def copy(self, args: argparse.Namespace, output: Output) -> ExitCode:
        file = self._file(args, args.name)
        table = _tables(file.valid, self.kind)[args.name]
        values = table.model_dump(mode="json", by_alias=True, exclude_unset=True)
        changed = values_of(self.kind, args.values, values)
        differ = [_differs(key, values.get(key), value) for key, value in changed.items()]
        values |= changed
        changes = [(path_of(args), new_table(self.kind, args.new_name, values))]
        said = f"{args.new_name} is a copy of {args.name}"
        said += f", but for: {'; '.join(differ)}." if differ else "."
        return self._edit(args, output, file, changes, said, [])

    def import_csv(self, args: argparse.Namespace, output: Output) -> ExitCode:
        """Rows become tables of the main site file; from then on the CSV file is not needed."""
        try:
            text = args.file.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
        except (OSError, UnicodeDecodeError) as error:
            remedy = "name a CSV file in UTF-8"
            raise MissingRequirementError(f"cannot read {args.file} ({error})", remedy) from None
        only = parse("format = 1", "", [Text(str(args.file), text, csv=True)])
        references = ("there is no group", "there is no loadout", "there is no segment")
        bad = [f for f in only.findings if not f.problem.startswith(references)]
        if bad or not only.site:
            output.findings(bad)
            return ExitCode.WRONG_USE
        changes = []
        for name, client in only.site.clients.items():
            values = client.model_dump(mode="json", by_alias=True, exclude_unset=True)
            changes.append((path_of(args), new_table("client", name, values)))
        said = f"{counted(len(changes), 'client')} imported."
        names = list(only.site.clients)
        return self._edit(args, output, self._site_file(args), changes, said, names)

    def export_csv(self, args: argparse.Namespace, output: Output) -> ExitCode:
        """In the form that `import` and `clients-from` read."""
        file = open_site(args, checked=False)
        columns = ["name", "mac", "group", "address", "boot", "args"]
        text = io.StringIO()
        writer = csv.DictWriter(text, columns, lineterminator="\n")
        writer.writeheader()
        rows = [
            {
                "name": name,
                "mac": client.mac,
                "group": " ".join(client.group),
                "address": client.address or "",
                "boot": client.boot or "",
                "args": " ".join(client.args),
            }
            for name, client in file.valid.clients.items()
        ]
        writer.writerows(rows)
        if output.as_json:
            output.json(rows)
        else:
            output.out.write(text.getvalue())
        return ExitCode.GOOD

    def _file(self, args: argparse.Namespace, name: str) -> SiteFile:
        """The site file, when it has a table of that name. Raises EditError."""
        file = self._site_file(args)
        self._known(file, name)
        return file

    def _known(self, file: SiteFile, name: str) -> None:
        known = _tables(file.valid, self.kind) if file.valid else {}
        if name not in known:
            raise EditError(f"there is no {self.kind} {name!r}; {did_you_mean(name, known)}")

    def _site_file(self, args: argparse.Namespace) -> SiteFile:
        file = load(path_of(args))
        if file.site is None:
            raise EditError(f"{file.path} cannot be read; daskel check says why")
        return file

    def _edit(
        self,
        args: argparse.Namespace,
        output: Output,
        file: SiteFile,
        changes: Sequence[tuple[Path, Callable[[str], str]]],
        said: str,
        names: Collection[str],
    ) -> ExitCode:
        """A change of clients concerns them alone; one of groups and loadouts, everybody."""
        clients = names if self.kind == "client" else None
        return edit(args, output, file, changes, said, clients)


def the_only_place(site: Site, values: Mapping[str, Any]) -> dict[str, str]:
    """The group or segment of a new client that names neither, where there is no choice."""
    if values.get("group") or values.get("segment"):
        return {}
    if len(site.groups) == 1:
        group = next(iter(site.groups))
        if site.groups[group].segment or len(site.segments) != 1:
            return {"group": group}
        return {"group": group, "segment": next(iter(site.segments))}
    if not site.groups and len(site.segments) == 1:
        return {"segment": next(iter(site.segments))}
    return {}


def removal(table: tuple[str, str]) -> Callable[[str], str]:
    return lambda text: remove(text, table)


def set_values(
    file: SiteFile, table: tuple[str, str], values: Mapping[str, Any]
) -> tuple[Path, Callable[[str], str]]:
    """The change that sets keys of a table; single options are put among those that are there."""
    values = dict(values)
    if values.get("options") is not None:
        before = _tables(file.valid, table[0])[table[1]]
        said = before.model_dump(mode="json", by_alias=True).get("options", {})
        merged = {**said, **values["options"]}
        values["options"] = {key: value for key, value in merged.items() if value != ""}
    return owner(file, table), lambda text: change(text, table, values)


def _differs(key: str, before: object, after: object) -> str:
    """What a key was, and is."""

    def shown(value: object) -> str:
        if value is None or value == []:
            return "(nothing)"
        return ", ".join(map(str, value)) if isinstance(value, list) else str(value)

    return f"{key} {shown(before)} -> {shown(after)}"


def _tables(site: Site, kind: str) -> Mapping[str, Table]:
    kinds: dict[str, Mapping[str, Table]] = {
        "client": site.clients, "group": site.groups, "loadout": site.loadouts,
    }  # fmt: skip
    return kinds[kind]


def _row(site: Site, kind: str, name: str, once: Mapping[str, str]) -> dict[str, object]:
    if kind == "client":
        found = effective(site, name, once=once.get(name))
        return {
            "name": name,
            "mac": found.mac.value,
            "group": " ".join(found.client.group),
            "segment": found.segment.value if found.segment else None,
            "address": str(found.address.value) if found.address else "from the pool",
            "boot": found.boot.value if found.boot else None,
            "once": once.get(name),
        }
    if kind == "group":
        group = site.groups[name]
        members = [n for n, client in site.clients.items() if name in client.group]
        return {"name": name, "segment": group.segment, "boot": group.boot, "clients": len(members)}
    loadout = site.loadouts[name]
    users = [n for n in site.clients if name in effective(site, n).entries]
    boots = "its own disk" if loadout.boot == "local" else loadout.kernel or loadout.raw
    return {"name": name, "boots": boots, "root": loadout.root, "clients": len(users)}


def _new_name(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("new_name", metavar="NEW", help="a name that nothing has yet")


def _csv_file(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "file", metavar="FILE", type=Path, help="a table (CSV) whose first row names the columns"
    )


def _saying_why(run: Run) -> Run:
    """A table that cannot be edited is wrong use, said in words."""

    def safely(args: argparse.Namespace, output: Output) -> ExitCode:
        try:
            return run(args, output)
        except EditError as error:
            problem, _, remedy = str(error).partition("; ")
            output.error(problem, remedy)
            return ExitCode.WRONG_USE

    return safely
