"""`survey` and `handoff` as typed."""

from __future__ import annotations

import json
from ipaddress import IPv4Interface
from pathlib import Path

from daskel.core.site.survey import free_networks, overlaps
from daskel.system.interfaces import interfaces
from tests.conftest import daskel


def test_survey_needs_no_site(tmp_path: Path) -> None:
    done = daskel("survey", "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert {i["name"] for i in found["interfaces"]} == {i.name for i in interfaces()}
    assert [(p["port"], p["protocol"]) for p in found["ports"]] == [
        (67, "udp"), (69, "udp"), (80, "tcp"), (111, "tcp"), (2049, "tcp"), (4011, "udp"),
    ]  # fmt: skip
    assert found["offers"] is None and len(found["free"]) == 3
    assert "Ports" in daskel("survey", cwd=tmp_path).stdout
    wrong = daskel("survey", "--wire", "eth77", cwd=tmp_path)
    assert wrong.returncode == 2 and "no interface eth77" in wrong.stderr


def test_networks() -> None:
    own = {
        "eth0": [IPv4Interface("10.61.8.1/24")],
        "eth1": [IPv4Interface("10.61.0.1/16"), IPv4Interface("192.168.61.1/24")],
        "eth2": [IPv4Interface("10.1.96.9/8")],
    }
    assert len(list(overlaps(own))) == 3
    assert not list(
        overlaps({"eth0": [IPv4Interface("10.61.8.1/24"), IPv4Interface("10.61.8.2/24")]})
    )
    free = free_networks(own, 4)
    assert len(free) == len(set(free)) == 4 and all(net.is_private for net in free)
    assert not any(
        net.overlaps(one.network) for net in free for all_of in own.values() for one in all_of
    )


def test_handoff(demo_folder: Path) -> None:
    whole = json.loads(daskel("handoff", "tideroom", "--json", cwd=demo_folder).stdout)
    assert whole["dhcp"] == "full" and len(whole["machines"]) == 12
    rows = [row for part in whole["parts"] for row in part["rows"]]
    assert {
        "condition": None,
        "option": 224,
        "name": "desk-broker",
        "type": "text",
    }.items() <= next(row for row in rows if row["option"] == 224).items()
    beside = daskel("handoff", "library", cwd=demo_folder).stdout
    assert "Daskel adds all this itself" in beside and "50 58 45 43 6c 69 65 6e 74" in beside
    site = demo_folder / "daskel.toml"
    site.write_text(site.read_text().replace('dhcp = "proxy"', 'dhcp = "off"'))
    shown = daskel("handoff", "library", "--client", "lib-01", cwd=demo_folder).stdout
    assert "loader/uefi-x64.efi" in shown and "02:61:09:00:00:01" in shown and "lib-02" not in shown
    assert "handoff library" in daskel("explain", "lib-01", cwd=demo_folder).stdout
    records = daskel("handoff", "tideroom", "--dns", cwd=demo_folder).stdout
    assert "_desk-broker._tcp" in records and "$ORIGIN tide.skerry.example." in records
    for words, code, said in (
        (["tideromo"], 2, "did you mean tideroom?"),
        (["tideroom", "--client", "lib-01"], 2, "no client 'lib-01' on tideroom"),
        (["library", "--dns"], 1, "has no domain"),
    ):
        done = daskel("handoff", *words, cwd=demo_folder)
        assert done.returncode == code and said in done.stderr, done
