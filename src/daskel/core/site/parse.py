"""A site file's text becomes a `Site`, or every reason why not, each with its place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError

from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.includes import Merging, Text
from daskel.core.site.key_types import UNKNOWN
from daskel.core.site.model import Site
from daskel.core.site.positions import Path, Positions, Sources
from daskel.core.site.tables import TABLES, Beginning, Client, File, Group, SiteTable, Table
from daskel.core.site.toml import read_toml

FORMAT = 1


@dataclass
class Parsed:
    """`site` holds the tables that could be understood; None when not even TOML could be read."""

    site: Site | None
    findings: list[Finding] = field(default_factory=list)


def parse(
    text: str, file: str, more: Sequence[Text] = (), templates: Mapping[str, str] | None = None
) -> Parsed:
    """Read a site file and what it includes. Every finding has the severity INVALID."""
    tables, wrong, readable, whole = read_toml(text, file)
    findings = list(wrong)
    if tables is None:
        return Parsed(None, findings)
    raw = {key: dict(value) if isinstance(value, dict) else value for key, value in tables.items()}
    sources = Sources(Positions(readable, file))
    merging = Merging(raw, sources, findings)
    for other in more:
        whole &= merging.add(other)
    site = _Reading(raw, sources, findings, whole, templates or {}).site()
    return Parsed(site, sorted(findings, key=place))


def place(finding: Finding) -> tuple[str, int, int]:
    """The order in which findings are said."""
    return finding.origin.file, finding.origin.line, finding.origin.column


@dataclass
class _Reading:
    raw: dict[str, Any]
    positions: Sources
    findings: list[Finding]
    whole: bool  # no line was unreadable, so what is missing is missing
    templates: Mapping[str, str]

    def site(self) -> Site:
        self._format()
        self._known_sections()
        self._servers_of_segments()
        tables = {kind: self._tables(kind) for kind in TABLES}
        clients = tables["client"]
        site = Site(
            settings=self._settings(),
            segments=tables["segment"],
            options=tables["option"],
            firmware=tables["firmware"],
            roots=tables["root"],
            loadouts=tables["loadout"],
            choices=tables["choice"],
            files=tables["file"],
            uploads=tables["upload"],
            servers=tables["server"],
            templates=self.templates,
            groups=tables["group"],
            clients=clients,
            positions=self.positions,
        )
        _References(site, self.raw, self.findings).check()
        return site

    def _invalid(self, path: Path, problem: str, remedy: str, *, key: bool = False) -> None:
        origin = self.positions.of(path, key=key)
        self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))

    def _format(self) -> None:
        value = self.raw.get("format")
        if value is None and self.whole:
            remedy = f"begin the file with: format = {FORMAT}"
            self._invalid((), "the format number is missing", remedy)
        elif value is not None and value != FORMAT:
            self._invalid(("format",), f"format {value} is unknown", f"write: format = {FORMAT}")
        others = {key: self.raw[key] for key in keys_of(Beginning)[1:] if key in self.raw}
        self._validated(Beginning, {"format": FORMAT, **others}, ())

    def _known_sections(self) -> None:
        known = [*keys_of(Beginning), "site", *TABLES]
        for name in self.raw:
            if name not in known:
                remedy = did_you_mean(name, known)
                self._invalid((name,), f"there is no section {name!r}", remedy, key=True)

    def _servers_of_segments(self) -> None:
        """The first address that a [server.NAME] has on a segment stands for `server` there."""
        servers, segments = self.raw.get("server"), self.raw.get("segment")
        if not isinstance(servers, dict) or not isinstance(segments, dict):
            return
        for name, segment in segments.items():
            for server in servers.values():
                addresses = server.get("addresses") if isinstance(server, dict) else None
                if isinstance(addresses, dict) and name in addresses and isinstance(segment, dict):
                    segments[name] = {"server": addresses[name], **segment}
                    break

    def _settings(self) -> SiteTable:
        """The site's own table; where it has errors, as much of it as can be understood."""
        raw = self.raw.get("site", {})
        table = self._validated(SiteTable, raw, ("site",))
        if isinstance(table, SiteTable):
            return table
        good: dict[str, object] = {}
        for key, value in raw.items() if isinstance(raw, dict) else ():
            if _fits({key: value}):
                good[key] = value
            elif isinstance(value, dict):  # a table in it
                inner = {k: v for k, v in value.items() if _fits({key: {k: v}})}
                good |= {key: inner} if _fits({key: inner}) else {}
        return SiteTable.model_validate(good)

    def _tables(self, kind: str) -> dict[str, Any]:
        """The valid tables of one kind by name; the others become findings."""
        section = self.raw.get(kind, {})
        if not isinstance(section, dict):
            self._invalid((kind,), f"{kind} is not a table", f"write [{kind}.NAME]", key=True)
            return {}
        tables = ((n, self._validated(TABLES[kind], t, (kind, n))) for n, t in section.items())
        return {name: table for name, table in tables if table is not None}

    def _validated(self, model: type[Any], table: object, path: Path) -> Any:
        if not isinstance(table, dict):
            dotted = ".".join(map(str, path))
            self._invalid(path, f"{dotted} is a value, not a table", f"write [{dotted}]", key=True)
            return None
        try:
            return model.model_validate(table)
        except ValidationError as error:
            for detail in error.errors():
                self._detail(model, path, dict(detail))
            return None

    def _detail(self, model: type[Any], path: Path, detail: Mapping[str, Any]) -> None:
        """One error of pydantic as a finding in words."""
        place, kind = (*path, *detail["loc"]), detail["type"]
        name = ".".join(str(p) for p in detail["loc"] if isinstance(p, str))
        if kind == "extra_forbidden":
            problem = f"there is no key {name!r} in [{path[0]}{'.NAME' if len(path) > 1 else ''}]"
            self._invalid(place, problem, did_you_mean(name, keys_of(model)), key=True)
        elif kind == "missing":
            if self.whole:
                remedy = f"add a line: {name} = ..."
                self._invalid(place[:-1], f"the key {name!r} is missing", remedy, key=True)
        elif kind == "literal_error":
            expected = str(detail["ctx"]["expected"]).replace("'", '"')
            shown = _toml_value(detail["input"])
            self._invalid(place, f"{name} = {shown} is not possible", f"write {expected}")
        else:
            said = _WORDS.get(kind, "{message}").format(
                message=str(detail["msg"]).removeprefix("Value error, "), **detail.get("ctx", {})
            )
            problem, _, remedy = said.partition("; ")
            shown = _toml_value(detail["input"])
            self._invalid(place, f"{name} = {shown} {problem}", remedy or "correct this value")


def keys_of(table: type[Table]) -> list[str]:
    """The keys of a kind of table as they are written."""
    return [field.alias or key for key, field in table.model_fields.items()]


_WORDS = {  # for pydantic's kinds of errors
    "string_type": "is not text; write it in quotes",
    "tuple_type": "is not a list; write it in brackets",
    "bool_type": "is neither true nor false; write one of the two, without quotes",
    "int_type": "is not a whole number; write one, without quotes",
    "mapping_type": "is not a table; write {{ name = value }}",
    "dict_type": "is not a table; write {{ name = value }}",
    "less_than": "is too large; write less than {lt}",
    "model_type": "is not a table; write {{ name = value }}",
    "greater_than_equal": "is too small; write {ge} at least",
    "less_than_equal": "is too large; write {le} at most",
    "too_short": "is too short; write one at least",
}


def _toml_value(value: object) -> str:
    if isinstance(value, str):
        return '"' + value + '"'
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {_toml_value(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_toml_value, value)) + "]"
    return str(value).lower() if isinstance(value, bool) else str(value)


@dataclass
class _References:
    """Names in one table that stand for another table."""

    site: Site
    raw: Mapping[str, Any]
    findings: list[Finding]

    def check(self) -> None:
        site = self.site
        for name, group in site.groups.items():
            self._table("group", name, group)
        for name, client in site.clients.items():
            self._table("client", name, client)
            for index, group_name in enumerate(client.group):
                raw = self.raw["client"][name]["group"]
                place: Path = () if isinstance(raw, str) else (index,)
                self._known("group", group_name, ("client", name, "group", *place))
        for name, choice in site.choices.items():
            for index, entry in enumerate(choice.entries):
                self._known("loadout", entry, ("choice", name, "entries", index))
            if choice.default is not None and choice.default not in choice.entries:
                problem = f"the default {choice.default!r} is not among the entries"
                remedy = did_you_mean(choice.default, choice.entries)
                origin = site.positions.of(("choice", name, "default"))
                self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))
        for name, segment in site.segments.items():
            if segment.shares is not None:
                self._known("segment", segment.shares, ("segment", name, "shares"))
            if segment.unknown not in UNKNOWN:
                known = [*UNKNOWN, *site.loadouts]
                self._one_of("loadout", segment.unknown, known, ("segment", name, "unknown"))
        for name in set(site.loadouts) & set(site.choices):
            origin = site.positions.of(("choice", name), key=True)
            problem = f"{name} is the name of a choice and of a loadout"
            self.findings.append(Finding(Severity.INVALID, origin, problem, "rename one of them"))
        for name, segment in site.segments.items():
            having = [s.addresses[name] for s in site.servers.values() if name in s.addresses]
            whole = len(site.servers) == len(self.raw.get("server", ()))  # else one is wrong itself
            if whole and having and segment.server not in having:
                problem = (
                    f"segment {name} has the server {segment.server}, which no [server.NAME] has"
                )
                origin = site.positions.of(("segment", name, "server"))
                remedy = "leave it out here"
                self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))
        for name, server in site.servers.items():
            for key in ("addresses", "addresses6"):
                for segment in getattr(server, key):
                    self._known("segment", segment, ("server", name, key, segment))
        for name, file in site.files.items():
            self._file(name, file)
        for name in site.uploads:
            if not name.endswith("/*"):
                origin = site.positions.of(("upload", name), key=True)
                problem = f"upload {name!r} is for new files in a folder, so it must end with /*"
                remedy = f'write [upload."{name}/*"]'
                self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))
        for name, loadout in site.loadouts.items():
            if loadout.root is not None:
                self._known("root", loadout.root, ("loadout", name, "root"))

    def _table(self, kind: str, name: str, table: Group | Client) -> None:
        if table.segment is not None:
            self._known("segment", table.segment, (kind, name, "segment"))
        if table.boot is not None:
            known = [*self.raw.get("loadout", {}), *self.raw.get("choice", {})]
            self._one_of("loadout", table.boot, known, (kind, name, "boot"))

    def _file(self, name: str, file: File) -> None:
        problem = remedy = ""
        if sum(way is not None for way in (file.text, file.template, file.folder)) != 1:
            problem, remedy = f"file {name!r} needs text, template or folder", "write one of them"
        elif file.folder is not None and not name.endswith("/*"):
            problem = f"file {name!r} has a folder, so its path must end with /*"
            remedy = f'write [file."{name}/*"]'
        elif file.template is not None and file.template not in self.site.templates:
            problem = f"the template file {file.template} cannot be read"
            remedy = "its path is relative to the site file"
        if problem:
            origin = self.site.positions.of(("file", name, "template"))
            self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))

    def _known(self, kind: str, name: str, place: Path) -> None:
        self._one_of(kind, name, list(self.raw.get(kind, {})), place)

    def _one_of(self, kind: str, name: str, known: list[str], place: Path) -> None:
        if name not in known:
            problem = f"there is no {kind} {name!r}"
            others = f"{did_you_mean(name, known)} or " if known else "there is none yet; "
            remedy = f"{others}add [{kind}.{name}]"
            origin = self.site.positions.of(place)
            self.findings.append(Finding(Severity.INVALID, origin, problem, remedy))


def _fits(settings: Mapping[str, object]) -> bool:
    try:
        SiteTable.model_validate(settings)
    except ValidationError:
        return False
    return True
