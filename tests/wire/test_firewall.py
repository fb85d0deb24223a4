"""What survey says of a firewall, and what the firewall does: rules in a network of their own, and
messages that come through or do not."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.core.audit.firewall import Fate, fates
from tests.conftest import until
from tests.wire.net import Net

CI = "CI" in os.environ  # there a missing permission is a failure
pytestmark = pytest.mark.skipif(os.geteuid() != 0 and not CI, reason="namespaces need root")
PORTS = [("udp", 67), ("udp", 69), ("tcp", 80), ("tcp", 2049)]
YES, NO, PERHAPS = Fate.ACCEPTED, Fate.DROPPED, Fate.UNTOLD


def table(policy: str, rules: str, before: str = "", family: str = "inet") -> str:
    hook = f"type filter hook input priority 0; policy {policy};"
    return f"table {family} {family}own {{ {before} chain in {{ {hook} {rules} }} }}"


RULES = [
    ("", [YES, YES, YES, YES]),
    (table("accept", ""), [YES, YES, YES, YES]),
    (table("drop", ""), [NO, NO, NO, NO]),
    (table("drop", "udp dport { 67, 69 } accept;"), [YES, YES, NO, NO]),
    (table("drop", "udp dport 60-68 accept; tcp dport != 2049 accept;"), [YES, NO, YES, NO]),
    (table("drop", "iifname lo accept; ct state established,related accept; tcp dport 80 ct state new accept;"), [NO, NO, YES, NO]),
    (table("accept", "udp dport 69 drop; meta l4proto tcp reject;"), [YES, NO, NO, NO]),
    (table("drop", "jump web; udp dport 67 accept;", "chain web { tcp dport 80 accept; }"), [YES, NO, YES, NO]),
    (table("accept", "jump out;", "chain out { tcp dport 80 return; drop; }"), [NO, NO, YES, NO]),
    (table("drop", "goto web; udp dport 67 accept;", "chain web { tcp dport 80 accept; }"), [NO, NO, YES, NO]),
    (table("drop", "th dport { 69, 2049 } accept;"), [NO, YES, NO, YES]),
    (table("drop", "ip saddr 10.61.8.2 accept;"), [PERHAPS] * 4),
    (table("drop", "ct state vmap { established : accept, related : accept, invalid : drop }; iif lo accept; udp dport 67 accept;"), [YES, NO, NO, NO]),
    (table("drop", "tcp dport vmap { 80 : accept }; udp dport 69 accept;"), [PERHAPS, PERHAPS, PERHAPS, PERHAPS]),
    (table("drop", "udp dport @open accept; tcp dport 80 accept;", "set open { type inet_service; elements = { 67 }; }"), [PERHAPS, PERHAPS, YES, NO]),
    (table("drop", "jump some;", "chain some { ip saddr 10.61.8.2 accept; return; }"), [PERHAPS] * 4),
    (table("accept", "iifname enp3s0 udp dport 69 drop;"), [YES, PERHAPS, YES, YES]),
    (table("accept", "") + "\n" + table("drop", "udp dport 67 accept;", family="ip"), [YES, NO, NO, NO]),
    ("table inet own { chain f { type filter hook forward priority 0; policy drop; } }", [YES] * 4),
]  # fmt: skip
LISTEN = """
import select, socket, sys
socks = []
for word in sys.argv[1:]:
    kind, port = word.split(":")
    sock = socket.socket(type=socket.SOCK_DGRAM if kind == "udp" else socket.SOCK_STREAM)
    sock.bind(("10.61.8.1", int(port)))
    if kind == "tcp":
        sock.listen()
    socks.append(sock)
print("ready", flush=True)
while True:
    for sock in select.select(socks, [], [])[0]:
        if sock.type == socket.SOCK_DGRAM:
            data, peer = sock.recvfrom(99)
            sock.sendto(data, peer)
        else:
            sock.accept()
"""
PROBE = """
import socket, sys
for word in sys.argv[1:]:
    kind, port = word.split(":")
    sock = socket.socket(type=socket.SOCK_DGRAM if kind == "udp" else socket.SOCK_STREAM)
    sock.settimeout(0.5)
    try:
        sock.connect(("10.61.8.1", int(port)))
        if kind == "udp":
            sock.send(b"x")
            sock.recv(9)
        print("yes")
    except OSError:
        print("no")
"""
WORDS = [f"{protocol}:{port}" for protocol, port in PORTS]


@pytest.fixture(scope="module")
def net(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Net]:
    found = Net()
    for name in ("server", "client"):
        found.add(name)
    found.wire("enp3s0", "10.61.8.1/24")
    found.plug("enp3s0", "client", "eth0", "", "10.61.8.2/24")
    log = tmp_path_factory.mktemp("firewall") / "log"
    found.start("server", "python3", "-c", LISTEN, *WORDS, log=log)
    until(lambda: "ready" in log.read_text(), log.read_text)
    yield found
    found.close()


@pytest.mark.parametrize(("rules", "expected"), RULES)
def test_what_the_rules_do(net: Net, tmp_path: Path, rules: str, expected: list[Fate]) -> None:
    lines = rules.replace("; }", ";\n}\n").replace("} }", "}\n}\n")
    (tmp_path / "rules").write_text(f"flush ruleset\n{lines}\n")
    net.run("server", f"nft -f {tmp_path}/rules")
    found = fates(json.loads(net.run("server", "nft --json list ruleset")), PORTS)
    assert list(found.values()) == expected
    came = net.run("client", "python3 -c", PROBE, *WORDS).split()
    for fate, answered in zip(expected, came, strict=True):
        if fate is YES or "ct state" in rules:  # whose answers need the other way, too
            assert answered == ("yes" if fate is YES else "no"), (expected, came)
        assert fate is not NO or answered == "no", (expected, came)


@pytest.mark.parametrize(
    "damaged",
    [
        {},
        {"nftables": []},
        {"nftables": [{"rule": {}}]},
        {"nftables": [{"chain": {"hook": "input", "family": "ip"}}, {"rule": {"expr": [{}]}}]},
    ],
)
def test_rules_that_are_none(damaged: dict[str, object]) -> None:
    assert set(fates(damaged, PORTS).values()) == {YES}
