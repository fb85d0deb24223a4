"""Frames that are put together by hand: what a receiver makes of them."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address

from hypothesis import given
from hypothesis import strategies as st

from daskel.core.dhcp import frame

OWN, CLIENT = bytes.fromhex("026108000001"), bytes.fromhex("026108000015")
HERE, THERE = IPv4Address("10.61.8.1"), IPv4Address("10.61.8.21")


def total(data: bytes) -> int:
    """The ones' complement sum, which is all ones over data with a right checksum (RFC 1071)."""
    padded = data + b"\0" * (len(data) % 2)
    found = sum(struct.unpack(f"!{len(padded) // 2}H", padded))
    while found > 0xFFFF:
        found = (found & 0xFFFF) + (found >> 16)
    return found


@given(st.binary(max_size=1472))
def test_a_datagram(payload: bytes) -> None:
    made = frame.datagram((OWN, HERE, 67), (CLIENT, THERE, 68), payload)
    assert made[:14] == CLIENT + OWN + b"\x08\x00"
    header, udp = made[14:34], made[34:]
    assert total(header) == 0xFFFF and int.from_bytes(header[2:4], "big") == len(made) - 14
    assert header[12:20] == HERE.packed + THERE.packed and header[9] == 17
    assert struct.unpack("!HHH", udp[:6]) == (67, 68, len(udp)) and udp[8:] == payload
    pseudo = header[12:20] + struct.pack("!BBH", 0, 17, len(udp))
    assert total(pseudo + udp) == 0xFFFF
    assert frame.udp_payload(made, 68) == (HERE, payload) and frame.udp_payload(made, 67) is None


def test_arp() -> None:
    asked = frame.arp_probe(OWN, THERE)
    assert asked[:14] == b"\xff" * 6 + OWN + b"\x08\x06" and len(asked) == 42
    assert frame.arp_sender(asked) is None, "a probe claims nothing"
    answer = (
        CLIENT
        + OWN
        + struct.pack(
            "!HHHBBH6s4s6s4s", 0x806, 1, 0x800, 6, 4, 2, CLIENT, THERE.packed, OWN, HERE.packed
        )
    )
    assert frame.arp_sender(answer) == (THERE, CLIENT)


@given(st.binary(max_size=60))
def test_noise_is_no_arp(noise: bytes) -> None:
    assert frame.arp_sender(noise) is None or len(noise) >= 42
    assert frame.udp_payload(noise, 68) is None or len(noise) >= 42


def test_echo() -> None:
    asked = frame.echo_request(7, 1)
    assert total(asked) == 0xFFFF and asked[0] == 8
