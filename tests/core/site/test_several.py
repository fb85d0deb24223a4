"""A site with several servers: what each of them has, and what is wrong with such a site."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address

import pytest

from daskel.core.audit.checks import check_site
from daskel.core.site.finding import Severity
from daskel.core.site.model import Site
from daskel.core.site.parse import parse
from daskel.core.site.several import Lack, chosen, lacking, peers, seen_by
from tests.conftest import replaced

SITE = """format = 1
[site]
state = "postgresql://daskel@db.skerry.example/daskel"
[server.north]
addresses = { tideroom = "10.61.8.1", quay = "10.61.11.1" }
addresses6 = { tideroom = "fd61:8::1" }
[server.south]
addresses = { tideroom = "10.61.8.2" }
[segment.tideroom]
network = "10.61.8.0/24"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
network6 = "fd61:8::/64"
pool6 = "slaac"
[segment.quay]
network = "10.61.11.0/24"
dhcp = "off"
[loadout.disk]
boot = "local"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "disk"
address = "10.61.8.21"
"""


def errors(site: Site) -> list[str]:
    return [one.problem for one in check_site(site) if one.severity is Severity.ERROR]


def test_each_has_its_own_addresses() -> None:
    parsed = parse(SITE, "daskel.toml")
    assert parsed.site and not parsed.findings, parsed.findings
    north, south = (seen_by(parsed.site, name) for name in ("north", "south"))
    assert [s.server for s in north.served.values()] == [
        IPv4Address("10.61.8.1"), IPv4Address("10.61.11.1")
    ]  # fmt: skip
    assert list(south.served) == ["tideroom"], "north alone serves the other one"
    assert south.segments["tideroom"].server == IPv4Address("10.61.8.2")
    assert north.segments["tideroom"].server6 == IPv6Address("fd61:8::1")
    assert south.segments["tideroom"].network6 is None
    for site, line in ((north, 5), (south, 8)):
        assert site.origin("segment", "tideroom", "server").line == line
        assert not errors(site)
    assert peers(south) == {
        "north": {IPv4Address("10.61.8.1"), IPv4Address("10.61.11.1"), IPv6Address("fd61:8::1")}
    }


def test_which_one_a_machine_is() -> None:
    site = parse(SITE, "daskel.toml").site
    assert site
    north, south, other = map(IPv4Address, ("10.61.11.1", "10.61.8.2", "10.61.8.9"))
    assert [chosen(site, here) for here in ([north, other], [south], [other], [north, south])] == [
        "north", "south", None, None
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('{ tideroom = "10.61.8.2" }', '{ tideroom = "10.61.8.1" }', "which north has already"),
        ('{ tideroom = "10.61.8.2" }', '{ tideroom = "10.61.9.2" }', "is not inside the network"),
        ('{ tideroom = "10.61.8.2" }', '{ tideroom = "10.61.8.150" }', "contains the server"),
        ('{ tideroom = "10.61.8.2" }', '{ tideroom = "10.61.8.21" }', "is tide-01's"),
        ('{ tideroom = "10.61.8.2" }', '{ tiderom = "10.61.8.2" }', "no segment 'tiderom'"),
        ('"postgresql://daskel@db.skerry.example/daskel"', '"state.db"', "cannot share a store"),
        ('"postgresql://daskel@db.skerry.example/daskel"', '"mysql://db/x"', "is not a store"),
        ('"postgresql://daskel@db.skerry.example/daskel"', '"postgresql://db"', "no database"),
        (', quay = "10.61.11.1"', "", "the key 'server' is missing"),
        (
            'network = "10.61.11.0/24"\n',
            'network = "10.61.11.0/24"\nserver = "10.61.11.9"\n',
            "which no [server.NAME] has",
        ),
        (
            'addresses6 = { tideroom = "fd61:8::1" }\n',
            "",
            "segment tideroom has network6, and no server6",
        ),
    ],
)
def test_what_is_wrong_with_them(old: str, new: str, said: str) -> None:
    parsed = parse(replaced(SITE, old, new), "daskel.toml")
    assert parsed.site
    name = next(iter(parsed.site.servers), None)
    found = [one.problem for one in parsed.findings]
    found += errors(seen_by(parsed.site, name) if name else parsed.site)
    assert any(said in one for one in found), found


def test_one_ipv6_address_for_all() -> None:
    text = replaced(
        SITE, 'addresses6 = { tideroom = "fd61:8::1" }\n', "",
        'pool6 = "slaac"\n', 'pool6 = "slaac"\nserver6 = "fd61:8::1"\n',
    )  # fmt: skip
    site = parse(text, "daskel.toml").site
    assert site
    found = [one for one in check_site(seen_by(site, "south")) if one.severity is Severity.ERROR]
    assert ["would be the IPv6 address of every server" in one.problem for one in found] == [True]
    assert found[0].origin.text == '"fd61:8::1"', "where it stands"


HERE = ("3", {"2": "a", "3": "b"})
LACKS = {
    "the same": (HERE, []),
    "nothing": (("", {}), [("2", Lack.MISSING), ("3", Lack.MISSING)]),
    "one is missing": (("2", {"2": "a"}), [("3", Lack.MISSING)]),
    "one is another": (("3", {"2": "a", "3": "x"}), [("3", Lack.DIFFERS)]),
    "another is used": (("2", {"2": "a", "3": "b"}), [("3", Lack.NOT_USED)]),
    "more than here": (("3", {"2": "a", "3": "b", "4": "c"}), []),
}


@pytest.mark.parametrize("case", LACKS)
def test_what_another_server_lacks(case: str) -> None:
    theirs, said = LACKS[case]
    found = lacking({"notebook": HERE}, {"notebook": theirs})
    assert found == [("notebook", version, how) for version, how in said]
