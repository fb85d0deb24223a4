"""What must be typed into another DHCP server."""

from __future__ import annotations

import pytest

from daskel.core.audit.handoff import ALWAYS, handoff, machines, zone
from daskel.core.boot.address import Leases
from daskel.core.boot.wire import Ports
from daskel.core.dhcp.client_messages import Face, discover
from daskel.core.dhcp.pxe import Firmware
from daskel.core.replies.answer import Answers
from tests.conftest import DEMO, site_from
from tests.core.replies.asking import arrive


def test_handoff_says_what_the_server_would_send() -> None:
    """The rows are those of Daskel's own replies to the same firmware."""
    site = site_from(DEMO)
    common, *rest = handoff(site, "tideroom", ["tide-01", "tide-02"])
    assert not rest and not common.clients
    always = {row.number: row.data for row in common.rows if row.condition == ALWAYS}
    who = Answers(site, Leases(), Ports())
    for firmware_kind in (Firmware.BIOS, Firmware.UEFI, Firmware.UEFI_HTTP):
        reply = arrive(
            who, discover(Face.of(firmware_kind), "02:61:08:00:00:01", 1), "tideroom"
        ).reply
        assert reply
        assert all(reply.options[number] == data for number, data in always.items() if number)
        condition = f"option 93 = {firmware_kind.architecture:04x}"
        rows = [row for row in common.rows if condition in row.condition]
        assert rows and {row.data for row in rows if row.number == 67} == {
            reply.options.get(67, reply.file)
        }
        assert {row.number for row in rows} == (
            {60, 67} if firmware_kind.over_http else {None, 66, 67}
        )
    assert [(m.name, str(m.address)) for m in machines(site, ["tide-01", "tide-10"])] == [
        ("tide-01", "10.61.8.21"), ("tide-10", "None"),
    ]  # fmt: skip


def test_what_one_client_needs_alone_stands_by_itself() -> None:
    text = DEMO.replace(
        "[client.tide-02]", '[client.tide-02]\noptions = { desk-broker = "other.example" }'
    )
    parts = handoff(site_from(text), "tideroom", ["tide-01", "tide-02"])
    alone = {part.clients: [(r.number, r.value) for r in part.rows] for part in parts[1:]}
    assert alone == {
        ("tide-01",): [(224, "broker.skerry.example")], ("tide-02",): [(224, "other.example")],
    }  # fmt: skip


def test_dns_records() -> None:
    lines = zone(site_from(DEMO), "tideroom", ["tide-01"])
    assert [line.split() for line in lines] == [
        ["$ORIGIN", "tide.skerry.example."],
        ["boot", "IN", "A", "10.61.8.1"],
        ["tide-01", "IN", "A", "10.61.8.21"],
        ["_tftp._udp", "IN", "SRV", "0", "0", "69", "boot"],
        ["_desk-broker._tcp", "IN", "SRV", "0", "0", "4172", "broker.skerry.example."],
        ["_ntp._udp", "IN", "SRV", "0", "0", "123", "boot"],
    ]
    with pytest.raises(ValueError, match="has no domain"):
        zone(site_from(DEMO), "library", [])
