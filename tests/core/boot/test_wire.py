"""The practice wire on loopback."""

from __future__ import annotations

from ipaddress import IPv4Address

from daskel.core.boot.segments import of_peer
from daskel.core.boot.wire import Ports, Wire
from daskel.core.site.model import Site
from tests.conftest import SERVER


def test_the_practice_wire_leads_there_and_back(demo_site: Site) -> None:
    wire, server = Wire(Ports.from_base(20000), loopback=True), SERVER
    outside = wire.outside(IPv4Address("10.61.10.140"))
    assert outside == "127.61.10.140"
    assert wire.inside(server, outside) == IPv4Address("10.61.10.140")
    assert of_peer(demo_site, server, IPv4Address("10.61.10.140")) == "boathouse"
    assert of_peer(demo_site, server, IPv4Address("10.99.0.1")) == "tideroom"
    assert Wire().outside(server) == "10.61.8.1"
