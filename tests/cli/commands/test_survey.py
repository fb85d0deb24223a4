"""`survey` and `handoff` as typed."""

from __future__ import annotations

import json
from ipaddress import IPv4Interface
from pathlib import Path

from daskel.core.site.survey import free_networks, overlaps
from daskel.system.host.interfaces import interfaces
from tests.conftest import daskel


def test_survey_needs_no_site(tmp_path: Path) -> None:
    done = daskel("survey", "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert {i["name"] for i in found["interfaces"]} == {i.name for i in interfaces()}
    assert [(p["port"], p["protocol"]) for p in found["ports"]] == [
        (67, "udp"), (69, "udp"), (80, "tcp"), (111, "tcp"), (2049, "tcp"), (10809, "tcp"), (10808, "udp"),
        (4011, "udp"),
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
