"""Magic packets, where they go, and how far apart."""

from __future__ import annotations

from ipaddress import IPv4Address

from daskel.core.site.model import Site
from daskel.core.wake import carried, magic_packet, target
from tests.conftest import DEMO, replaced, site_from


def test_a_magic_packet() -> None:
    packet = magic_packet("02:61:08:00:00:0a")
    assert packet == b"\xff" * 6 + bytes.fromhex("02610800000a") * 16 and len(packet) == 102


def test_where_it_goes(demo_site: Site) -> None:
    own, far = IPv4Address("10.61.8.1"), IPv4Address("10.61.10.255")
    assert target(demo_site, "tide-01") == (own, IPv4Address("10.61.8.255"))
    assert target(demo_site, "buoy-1") == (own, far)
    relay = 'relays = ["10.61.10.1"]'
    through = replaced(DEMO, relay, f'{relay}\nwake-through = "10.61.10.1"')
    assert target(site_from(through), "buoy-1") == (own, IPv4Address("10.61.10.1"))


def test_a_pace_that_is_carried() -> None:
    """A server that boots one machine in two seconds, and one after the other."""

    def whole(pause: float) -> list[float]:
        ends, free = [], 0.0
        for number in range(10):
            free = max(free, number * pause) + 2.0
            ends.append(free - number * pause)
        return ends

    assert carried(2.0, whole) == 2.0
    assert carried(2.0, lambda _: [2.0] * 10) == 0.0
    assert carried(2.0, lambda _: [99.0]) == 30.0
