"""A site in several files: TOML that is included, and clients from a spreadsheet's CSV."""

from __future__ import annotations

from pathlib import Path

import pytest

from daskel.core.site.includes import Text
from daskel.core.site.parse import parse
from daskel.system.sitefile import load

MAIN = "format = 1\n[loadout.disk]\nboot = 'local'\n[client.tide-01]\nmac = '026108000001'\n"
CSV = "Name,MAC,Address,Args,boot\ntide-02,02:61:08:00:00:02,10.61.8.22,quiet  x=1,disk\n\ntide-03,02-61-08-00-00-03,,,\n"


def test_tables_of_all_files_are_one_site() -> None:
    more = [
        Text("a.toml", "[client.tide-04]\nmac = '026108000004'\nboot = 'disk'\n"),
        Text("c.csv", CSV, csv=True),
    ]
    parsed = parse(MAIN, "daskel.toml", more)
    assert parsed.site and not parsed.findings
    assert sorted(parsed.site.clients) == ["tide-01", "tide-02", "tide-03", "tide-04"]
    two = parsed.site.clients["tide-02"]
    assert (two.mac, str(two.address), two.args) == (
        "02:61:08:00:00:02",
        "10.61.8.22",
        ("quiet", "x=1"),
    )
    places = {
        ("client", "tide-01", "mac"): "daskel.toml:5:7",
        ("client", "tide-04", "boot"): "a.toml:3:8",
        ("client", "tide-02", "address"): "c.csv:2:27",
        ("client", "tide-03", "mac"): "c.csv:4:9",
        ("loadout", "disk", "boot"): "daskel.toml:3:8",
    }
    assert {path: str(parsed.site.origin(*path)) for path in places} == places


WRONG = [
    (Text("a.toml", "[client.tide-01]\nmac = '026108000009'\n"), "a.toml:1:9", "client tide-01 is written twice"),
    (Text("a.toml", "[site]\nname = 'x'\n"), "a.toml:1:2", "'site' cannot stand in an included file"),
    (Text("a.toml", "[client.b]\nmac = = 3\n"), "a.toml:2:7", "not TOML"),
    (Text("a.toml", "[client.b]\nmac = '0261'\n"), "a.toml:2:7", "not a MAC address"),
    (Text("c.csv", "mac\n02:61:08:00:00:02\n", csv=True), "c.csv:1:1", "no column 'name'"),
    (Text("c.csv", "name,mac\ntide-01,02:61:08:00:00:02\n", csv=True), "c.csv:", "client tide-01 is written twice"),
    (Text("c.csv", "name,mac\nb,02:61\n", csv=True), "c.csv:2:3", "not a MAC address"),
    (Text("c.csv", "name,mac,colour\nb,02:61:08:00:00:02,red\n", csv=True), "c.csv:2:21", "no key 'colour'"),
    (Text("c.csv", "name,mac,boot\nb,02:61:08:00:00:02,dsk\n", csv=True), "c.csv:2:21", "no loadout 'dsk'"),
    (Text("c.csv", 'name,uuid,mac\nb,"a, ""b"", c",02:61\n', csv=True), "c.csv:2:17", "not a MAC address"),
    (Text("c.csv", 'name,mac,boot\n"b","02:61:08:00:00:02",dsk\n', csv=True), "c.csv:2:25", "no loadout 'dsk'"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "place", "problem"), WRONG)
def test_wrong_files(more: Text, place: str, problem: str) -> None:
    (finding,) = parse(MAIN, "daskel.toml", [more]).findings
    assert problem in finding.problem and str(finding.origin).startswith(place), finding


def test_files_on_disk(tmp_path: Path) -> None:
    (tmp_path / "clients").mkdir()
    text = "format = 1\ninclude = ['clients/*.toml']\nclients-from = 'c.csv'\n[loadout.disk]\nboot = 'local'\n"
    (tmp_path / "daskel.toml").write_text(
        text + "[file.x]\ntemplate = 't.j2'\n[client.a]\nmac='026108000001'\n"
    )
    (tmp_path / "clients" / "more.toml").write_text("[client.b]\nmac = '026108000005'\n")
    (tmp_path / "c.csv").write_bytes(b"\xef\xbb\xbf" + CSV.replace("\n", "\r\n").encode())
    (tmp_path / "t.j2").write_text("{{ client.name }}")
    file = load(tmp_path / "daskel.toml")
    assert file.site and not file.findings
    assert list(file.site.clients) == ["a", "b", "tide-02", "tide-03"]
    assert file.site.templates == {"t.j2": "{{ client.name }}"}
    (tmp_path / "c.csv").unlink()
    (tmp_path / "t.j2").unlink()
    problems = {(f.origin.line, f.problem) for f in load(tmp_path / "daskel.toml").findings}
    assert problems == {(3, "c.csv cannot be read"), (7, "the template file t.j2 cannot be read")}
