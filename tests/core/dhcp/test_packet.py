"""DHCP messages: read, written, cut off anywhere, and too large for their receiver."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.dhcp.options import Code
from daskel.core.dhcp.packet import (
    BOOTP_MINIMUM,
    DEFAULT_LIMIT,
    MessageType,
    Packet,
    encode_option,
    parse,
    serialise,
)
from daskel.core.dhcp.pxe import Firmware, boot_request
from daskel.core.reader import MalformedError
from tests.core.dhcp.captured import DISCOVERS

CHADDR = bytes.fromhex("026108000001").ljust(16, b"\0")
ADDRESSES = st.integers(0, 2**32 - 1).map(IPv4Address)
OPTIONS = st.dictionaries(
    st.integers(1, 254).filter(lambda code: code != Code.OVERLOAD),
    st.binary(max_size=600),
    max_size=8,
)
PACKETS = st.builds(
    Packet,
    op=st.sampled_from([1, 2]),
    xid=st.integers(0, 2**32 - 1),
    chaddr=st.binary(min_size=16, max_size=16),
    options=OPTIONS,
    secs=st.integers(0, 65535),
    flags=st.integers(0, 65535),
    ciaddr=ADDRESSES,
    yiaddr=ADDRESSES,
    siaddr=ADDRESSES,
    giaddr=ADDRESSES,
    sname=st.binary(max_size=63).filter(lambda b: 0 not in b),
    file=st.binary(max_size=127).filter(lambda b: 0 not in b),
)


@given(PACKETS)
def test_what_is_written_is_read_back(packet: Packet) -> None:
    data, dropped = serialise(packet, 65000)
    assert (parse(data), dropped) == (packet, ())
    assert len(data) >= BOOTP_MINIMUM


@given(PACKETS, st.integers(BOOTP_MINIMUM, 1472))
def test_replies_keep_to_the_limit_and_lose_options_whole(packet: Packet, limit: int) -> None:
    data, dropped = serialise(packet, limit)
    assert len(data) <= limit
    got = parse(data)
    expected = {code: v for code, v in packet.options.items() if code not in dropped}
    added = {Code.BOOT_FILE} if got.file != packet.file else set()
    assert {c: v for c, v in got.options.items() if c not in added} == {
        c: v for c, v in expected.items() if c not in added
    }
    if added and Code.BOOT_FILE not in dropped:
        assert got.options[Code.BOOT_FILE] == packet.file


OVERLOADED = [  # (bytes of option 224, bytes of option 225, boot file, fields taken)
    (10, 10, b"loader/bios.img", 0),
    (250, 51, b"loader/bios.img", 2),  # sname takes the second
    (250, 120, b"", 1),  # only the file field is large enough
    (250, 120, b"loader/bios.img", 1),  # the boot file becomes option 67
]


@pytest.mark.parametrize(("first", "second", "file", "taken"), OVERLOADED)
def test_overload(first: int, second: int, file: bytes, taken: int) -> None:
    options = {53: b"\2", 224: bytes(first), 225: bytes(second)}
    data, dropped = serialise(Packet(2, 7, CHADDR, options, file=file), DEFAULT_LIMIT)
    assert not dropped
    assert (encode_option(Code.OVERLOAD, bytes((taken,))) in data) is bool(taken)
    got = parse(data)
    assert {c: got.options[c] for c in options} == options
    assert file in (got.file, got.options.get(Code.BOOT_FILE))


@pytest.mark.parametrize("name", DISCOVERS)
def test_real_firmware_is_understood(name: str) -> None:
    data = bytes.fromhex(DISCOVERS[name])
    packet = parse(data)
    assert packet.message_type is MessageType.DISCOVER
    boot = boot_request(packet)
    assert boot and boot.firmware is Firmware(name)
    again = parse(serialise(packet, 1472)[0])
    assert again == packet


@pytest.mark.parametrize("name", DISCOVERS)
def test_cut_off_anywhere_is_malformed_or_a_message(name: str) -> None:
    data = bytes.fromhex(DISCOVERS[name])
    for end in range(len(data)):
        try:
            parse(data[:end])
        except MalformedError as error:
            assert "DHCP" in str(error)
        else:
            assert end >= 240


MALFORMED = [
    (b"", "0 bytes, 240 at least"),
    (bytes(300), "op is 0"),
    (b"\1\1\x20\0" + bytes(296), "hardware address of 32 bytes"),
    (b"\1\1\6\0" + bytes(296), "magic cookie"),
    (b"\1\1\6\0" + bytes(232) + b"\x63\x82\x53\x63\x35", "option 53 is cut short"),
    (b"\1\1\6\0" + bytes(232) + b"\x63\x82\x53\x63\x34\2\1\1", "overload"),
]


@pytest.mark.parametrize(("data", "reason"), MALFORMED)
def test_malformed(data: bytes, reason: str) -> None:
    with pytest.raises(MalformedError, match=reason):
        parse(data)


@given(st.binary(max_size=700))
def test_any_bytes_are_a_message_or_malformed(data: bytes) -> None:
    for head in (b"", b"\1\1\6\0" + bytes(232) + b"\x63\x82\x53\x63"):
        try:
            parse(head + data)
        except MalformedError:
            continue
