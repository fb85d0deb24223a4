"""Which segment a message belongs to."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Address

import pytest

from daskel.core.boot.segments import find_segment
from daskel.core.dhcp.client_messages import SYSTEM, discover
from daskel.core.dhcp.packet import Packet
from tests.conftest import DEMO, site_from
from tests.core.replies.asking import BUOY, FAR, LINK, RELAY, STRANGER, answers, arrive, relayed

ASKS = discover(SYSTEM, BUOY, 1)
PLACES: list[tuple[Packet, tuple[str, ...], tuple[str, ...], str]] = [
    (ASKS, ("tideroom",), ("tideroom",), ""),
    (ASKS, (), (), "without a relay agent"),
    (relayed(ASKS), ("tideroom",), ("boathouse",), ""),
    (relayed(ASKS, FAR), ("tideroom",), (), "in no segment's network"),
    (relayed(ASKS, RELAY, LINK), (), ("boathouse",), ""),
    (relayed(ASKS, FAR, LINK), (), (), "is not among the relays of boathouse"),
    (relayed(ASKS, RELAY, b"\5\4\0\0\0\0"), (), ("boathouse",), ""),
    (relayed(ASKS, RELAY, b"\5\xff\1"), (), ("boathouse",), ""),
    (replace(ASKS, ciaddr=IPv4Address("10.61.10.120")), ("tideroom",), ("boathouse",), ""),
    (replace(ASKS, ciaddr=FAR), ("tideroom",), ("tideroom",), ""),
]  # fmt: skip


@pytest.mark.parametrize(("packet", "wire", "segments", "problem"), PLACES)
def test_which_segment(
    packet: Packet, wire: tuple[str, ...], segments: tuple[str, ...], problem: str
) -> None:
    found = find_segment(site_from(DEMO), packet, wire)
    assert (
        found.segments == segments and problem in found.problem and bool(problem) == (not segments)
    )


SHARED = DEMO.replace("[segment.library]", """[segment.annexe]
network = "10.61.11.0/24"
server = "10.61.11.1"
shares = "tideroom"
dhcp = "full"
pool = ["10.61.11.100 - 10.61.11.101"]

[segment.library]""").replace('"10.61.8.100 - 10.61.8.199"', '"10.61.8.100 - 10.61.8.109"')  # fmt: skip


def test_two_networks_on_one_wire() -> None:
    """The client's own segment first; then the network that it asks for; a full pool passes on."""
    text = SHARED.replace(
        '[client.tide-12]\nmac = "02:61:08:00:00:0c"',
        '[client.tide-12]\nsegment = "annexe"\nmac = "02:61:08:00:00:0c"',
    )
    who, wire = answers(text), ("tideroom", "annexe")

    def offered(mac: str, wanted: str | None = None) -> str:
        packet = discover(SYSTEM, mac, 1)
        options = dict(packet.options) | ({50: IPv4Address(wanted).packed} if wanted else {})
        reply = arrive(who, replace(packet, options=options), *wire).reply
        return str(reply.yiaddr) if reply else ""

    assert offered("02:61:08:00:00:0c").startswith("10.61.11.")
    assert offered("02:61:08:00:00:01") == "10.61.8.21"
    assert offered(STRANGER, "10.61.11.101") == "10.61.11.101"
    got = [offered(f"02:61:ff:00:01:{n:02x}") for n in range(8)]
    assert sum(a.startswith("10.61.8.") for a in got) == 5, (
        "half of that pool is for known machines"
    )
