"""Site files that are wrong: every reason at once, with its place and a way out."""

from __future__ import annotations

from contextvars import copy_context

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.site.check import check
from daskel.core.site.finding import Finding, Severity
from daskel.core.site.parse import parse
from daskel.core.site.toml import LETS_OTHERS_RUN, read_toml
from tests.conftest import DEMO, SiteText, site_from

SEGMENT = SiteText("""format = 1
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
""")

INVALID = [  # (text, line, column, part of the problem, part of the remedy)
    ("", 1, 1, "format number is missing", "format = 1"),
    ("format = 2", 1, 10, "format 2 is unknown", "format = 1"),
    ("format = 1\n[sit]\nname = 'x'", 2, 2, "no section 'sit'", "did you mean site?"),
    ("format = 1\n[site]\nfils = 'x'", 3, 1, "no key 'fils' in [site]", "did you mean files?"),
    ("format = 1\n[site]\nname = 3", 3, 8, "name = 3", "write it in quotes"),
    ("format = 1\nsite = 3", 2, 1, "site is a value", "write [site]"),
    ("format = 1\nclient = 3", 2, 1, "client is not a table", "[client.NAME]"),
    ("format = 1\n[client]\nx = 3", 3, 1, "client.x is a value", "write [client.x]"),
    ("format = 1\n[client.x]\ngroup = []", 2, 9, "'mac' is missing", "mac = ..."),
    (SEGMENT.replace("8.0/24", "8.1/24"), 3, 11, "inside a network", "did you mean 10.61.8.0/24?"),
    (SEGMENT.replace("8.0/24", "8.0/240"), 3, 11, "is not a network", "10.61.8.0/24"),
    (SEGMENT.replace('"10.61.8.1"', "10"), 4, 10, "must be text in quotes", "10.61.8.1"),
    (SEGMENT.replace('"10.61.8.1"', '"10.61.8"'), 4, 10, "not an IPv4 address", "four numbers"),
    (SEGMENT.replace("full", "ful"), 5, 8, 'dhcp = "ful" is not possible', 'write "full"'),
    (SEGMENT.replace("8.199", "8.99"), 6, 9, "ends before", "10.61.8.99 - 10.61.8.100"),
    (SEGMENT.replace("8.100 -", "8.100 to the"), 6, 9, "is not a range", "10.61.8.100"),
    (SEGMENT + 'lease = "8"', 7, 9, "not a duration", '"8h"'),
    (SEGMENT + 'lease = "8 hors"', 7, 9, "unknown unit 'hors'", "known are"),
    (SEGMENT + "lease = 8", 7, 9, "must be text", "unit"),
    ("format = 1\n[client.x]\nmac = '02:61'", 3, 7, "not a MAC address", "six pairs"),
    ("format = 1\n[client.x]\nmac = '01:61:08:00:00:01'", 3, 7, "multicast", ""),
    ("format = 1\n[loadout.x]\nargs = ['a\\nb']", 0, 0, "", ""),
    ("format = 1\n[loadout.x]\nkernel='k'\nargs = ['a', \"b\\nc\"]", 4, 14, "line break", ""),
    ("format = 1\n[loadout.x]\nkernel='k'\nargs = ['auto=true priority=critical']", 4, 9, "has a space in it", '"auto=true", "priority=critical"'),
    ("format = 1\n[loadout.x]\nkernel='k'\nargs = ['key=\"a b']", 4, 9, "a double quote without another", ""),
    ("format = 1\n[loadout.x]\nkernel='k'\nargs = ['k=\"a b\"', 'x={{ client.name }}']", 0, 0, "", ""),
    ("format = 1\n[loadout.x]\nkernel='k'\nroot='r'", 4, 6, "no root 'r'", "[root.r]"),
    ("format = 1\n[group.g]\nboot='disk'\n[loadout.disc]\nboot='local'", 3, 6, "no loadout 'disk'", "disc"),
    ("format = 1\n[group.g]\nsegment='s'", 3, 9, "no segment 's'", "there is none yet"),
    ("format = 1\n[client.c]\nmac='026108000001'\ngroup=['g']", 4, 8, "no group 'g'", ""),
    ("format = 1\n[client.c", 2, 10, "not TOML", "correct this line"),
    ("format = 1\n[site]\nname = x y", 3, 8, "not TOML: invalid value", "correct this line"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "line", "column", "problem", "remedy"), INVALID)
def test_invalid(text: str, line: int, column: int, problem: str, remedy: str) -> None:
    findings = parse(text, "daskel.toml").findings
    if line == 0:  # a single-quoted text has no escapes: nothing is wrong
        assert not findings
        return
    assert len(findings) == 1, findings
    (finding,) = findings
    assert finding.severity is Severity.INVALID
    assert (finding.origin.line, finding.origin.column) == (line, column)
    assert problem in finding.problem
    assert remedy in finding.remedy or remedy in finding.problem


def test_all_at_once() -> None:
    texts = [text for text, line, *_ in INVALID[2:7] if line]
    both = "format = 1\n" + "\n".join(text.split("\n", 1)[1] for text in texts[:2])
    assert len(parse(both, "f").findings) == 2
    broken = SEGMENT.replace('dhcp = "full"', "dhcp = = 3") + "lese = 1\npool = = 4\n"
    found = [(f.origin.line, f.problem[:8]) for f in parse(broken, "f").findings]
    assert found == [(5, "not TOML"), (7, "there is"), (8, "not TOML")]


@given(st.text(max_size=200))
def test_any_text_is_a_site_or_has_findings(text: str) -> None:
    for candidate in (text, "format = 1\n" + text, DEMO[: len(text) * 20] + text):
        parsed = parse(candidate, "f")
        assert parsed.site or parsed.findings


@given(st.integers(0, len(DEMO)), st.text(max_size=5))
def test_a_slip_of_the_hand_never_crashes(place: int, slip: str) -> None:
    parsed = parse(DEMO[:place] + slip + DEMO[place + len(slip) :], "f")
    if parsed.site and not parsed.findings:
        check(parsed.site)


CHECKED = [  # (what is added to SEGMENT, line, problem)
    ("router = '10.61.9.1'", 7, "router 10.61.9.1 is not inside the network 10.61.8.0/24"),
    ("router = '10.61.8.255'", 7, "router 10.61.8.255 is the broadcast address"),
    ("router = '10.61.8.150'", 6, "contains the router address 10.61.8.150"),
    ("[loadout.x]\nroot='r'\n[root.r]", 7, "loadout x has no kernel"),
    ("[loadout.x]\nboot='local'\nkernel='k'", 8, 'has boot = "local" and also'),
    ("[client.c]\nmac='026108000001'\nboot='x'\n[loadout.x]\nboot='local'", 7, "on no segment"),
]

CLIENT = "[loadout.x]\nboot='local'\n[client.c]\nmac='026108000001'\nboot='x'\nsegment='tideroom'\n"
OTHER = CLIENT[CLIENT.index("[client") :].replace("client.c", "client.d")
CHECKED += [
    (CLIENT + "address='10.61.9.1'", 13, "c's address 10.61.9.1 is not inside the network"),
    (CLIENT + "address='10.61.8.0'", 13, "is the network address"),
    (CLIENT + "address='10.61.8.1'", 13, "address 10.61.8.1 is the server's"),
    (CLIENT + "address='10.61.8.120'", 13, "lies in the pool"),
    (CLIENT.replace("boot='x'\n", ""), 9, "has nothing to boot"),
    (CLIENT.replace("client.c", "client.c_1"), 9, "not a host name"),
    (CLIENT + OTHER, 14, "d has the MAC address"),
    (
        CLIENT + "address='10.61.8.9'\n"
        + OTHER.replace("01'", "02'") + "address='10.61.8.9'",
        18, "d has the address 10.61.8.9, which c has",
    ),
]  # fmt: skip


SECOND = "[segment.annexe]\nnetwork = '10.61.11.0/24'\nserver = '10.61.11.1'\ndhcp = 'full'\n"
CHECKED += [
    ("shares = 'tideroom'", 7, "segment tideroom shares no wire that way"),
    (SECOND.replace("full", "proxy") + "shares = 'tideroom'", 10, 'with dhcp = "proxy" and "full"'),
    (SECOND + "shares = 'far'\n" + SECOND.replace("11.", "12.").replace("annexe", "far") + "shares = 'tideroom'",
     11, "segment annexe shares no wire that way"),
    (SECOND.replace("10.61.11.1'", "10.61.8.1'"), 9, "server 10.61.8.1 is not inside the network"),
]  # fmt: skip


def test_a_server_that_is_reached_through_relay_agents_and_a_shared_wire() -> None:
    far = SECOND.replace("10.61.11.1'", "10.61.8.1'") + "relays = ['10.61.11.1']\n"
    shared = SECOND.replace("11.", "12.").replace("annexe", "far") + "shares = 'tideroom'\n"
    assert not check(site_from(SEGMENT + far + shared))
    unused = check(site_from(SEGMENT.replace("full", "off")))
    assert [f.severity for f in unused] == [Severity.NOTE] and "has a pool" in unused[0].problem


def without_notes(findings: list[Finding]) -> list[Finding]:
    return [finding for finding in findings if finding.severity is not Severity.NOTE]


@pytest.mark.parametrize(("more", "line", "problem"), CHECKED)
def test_checks(more: str, line: int, problem: str) -> None:
    findings = without_notes(check(site_from(SEGMENT + more)))
    assert [f for f in findings if problem in f.problem and f.origin.line == line], findings
    assert len(findings) == 1, findings


POOLS = [
    ('pool = ["10.61.9.1 - 10.61.9.9"]', "is not inside 10.61.8.0/24"),
    ('pool = ["10.61.8.1 - 10.61.8.9"]', "contains the server address"),
    ('pool = ["10.61.8.200 - 10.61.8.255"]', "contains the broadcast address"),
    ('pool = ["10.61.8.2 - 10.61.8.9", "10.61.8.9"]', "overlaps pool 10.61.8.2 - 10.61.8.9"),
    ('pool = ["10.61.8.5"]\n' + CLIENT + OTHER.replace("01'", "02'"),
     "2 clients need an address from segment tideroom, and its pool has 1"),
    ("pool = []\n" + CLIENT, "1 client needs an address from segment tideroom, and it has no pool"),
]  # fmt: skip


@pytest.mark.parametrize(("pool", "problem"), POOLS)
def test_pools(pool: str, problem: str) -> None:
    text = "\n".join(SEGMENT.splitlines()[:5]) + "\n" + pool
    findings = without_notes(check(site_from(text)))
    assert len(findings) == 1 and problem in findings[0].problem, findings


def test_overlapping_segments() -> None:
    other = SEGMENT.split("\n", 1)[1].replace("tideroom", "library").replace("8.0/24", "0.0/16")
    problems = [f.problem for f in check(site_from(SEGMENT + other))]
    assert "segment library (10.61.0.0/16) overlaps segment tideroom (10.61.8.0/24)" in problems


def test_the_demo_site_is_good() -> None:
    assert not check(site_from(DEMO))


def test_a_limit_that_nobody_keeps_to() -> None:
    text = SEGMENT + '[site]\nnfs = "kernel"\n[root.r]\nsize = "1 GiB"\n'
    (finding,) = without_notes(check(site_from(text)))
    assert "no limit with nfs" in finding.problem and finding.severity is Severity.WARNING


def test_what_nobody_uses() -> None:
    text = """[root.r]
[loadout.x]
boot='local'
[loadout.y]
boot='local'
[choice.c]
entries=['x']
[group.g]
[option.o]
code=224
type='text'
"""
    found = [f.problem for f in check(site_from(SEGMENT + text)) if f.severity is Severity.NOTE]
    assert found == [
        f"nothing uses the {what}"
        for what in ("root r", "loadout y", "choice c", "group g", "option o")
    ]


@pytest.mark.parametrize(
    "text",
    [DEMO[:], "a = { b = 1,\n c = 2, }\n", "a = 1\nb = \nc = 3\n", "[a\n", "a = " + "[" * 5000],
)
def test_a_server_that_lets_others_run_meanwhile_reads_the_same(text: str) -> None:
    read_toml.cache_clear()
    plainly = read_toml(text, "daskel.toml")
    read_toml.cache_clear()
    gently = copy_context()
    gently.run(LETS_OTHERS_RUN.set, True)
    assert gently.run(read_toml, text, "daskel.toml") == plainly
    read_toml.cache_clear()
