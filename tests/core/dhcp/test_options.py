"""Option values as they are typed, sent and shown; and the registry itself."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.dhcp.options import TYPES, Code, Typed, encapsulate, name, show
from daskel.core.dhcp.registry import BY_CODE, BY_NAME, PRIVATE

VALUES: list[tuple[str, Typed, str, str]] = [  # type, as typed, hexadecimal, as shown
    ("address", "10.61.8.1", "0a3d0801", "10.61.8.1"),
    ("addresses", ["10.61.8.1", "10.61.8.2"], "0a3d08010a3d0802", "10.61.8.1, 10.61.8.2"),
    ("addresses", "10.61.8.1, 10.61.8.2", "0a3d08010a3d0802", "10.61.8.1, 10.61.8.2"),
    ("address-pairs", ["10.61.8.1", "10.61.8.2"], "0a3d08010a3d0802", "10.61.8.1, 10.61.8.2"),
    ("text", "desk \u00e4", "6465736b20c3a4", "desk \u00e4"),
    ("u8", 255, "ff", "255"),
    ("u16", 1500, "05dc", "1500"),
    ("u16s", [68, 1500], "004405dc", "68, 1500"),
    ("u32", 65536, "00010000", "65536"),
    ("i32", -3600, "fffff1f0", "-3600"),
    ("boolean", True, "01", "yes"),
    ("boolean", "no", "00", "no"),
    ("flag", True, "", "yes"),
    ("bytes", "01 02 ff", "0102ff", "01 02 ff"),
    ("bytes", "0x01:02-ff", "0102ff", "01 02 ff"),
    ("seconds", "8h", "00007080", "28800 (8h)"),
    ("seconds", 90, "0000005a", "90 (1min 30s)"),
    ("codes", [1, 3], "0103", "1, 3"),
    ("domains", ["a.example", "b.example."], "0161076578616d706c650001620765" "78616d706c6500", "a.example, b.example"),
    ("routes", "10.61.0.0/16 via 10.61.8.1", "100a3d0a3d0801", "10.61.0.0/16 via 10.61.8.1"),
    ("routes", ["0.0.0.0/0 via 10.61.8.1"], "000a3d0801", "0.0.0.0/0 via 10.61.8.1"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "typed", "data", "shown"), VALUES)
def test_values(kind: str, typed: Typed, data: str, shown: str) -> None:
    assert TYPES[kind].encode(typed).hex() == data
    assert show(254, bytes.fromhex(data), kind) == shown


WRONG: list[tuple[str, Typed, str]] = [
    ("address", "10.61.8", "not an IPv4 address"),
    ("address", 3, "must be text in quotes"),
    ("addresses", [], "no address"),
    ("addresses", ["10.61.8.1", 3], "must be text"),
    ("address-pairs", "10.61.8.1", "pairs"),
    ("text", "", "is empty"),
    ("text", 3, "must be text in quotes"),
    ("u8", 256, "from 0 to 255"),
    ("u8", -1, "from 0 to 255"),
    ("u16", "1500", "whole number"),
    ("u8", True, "whole number"),
    ("i32", 1 << 31, "from -2147483648"),
    ("u16s", "68", "list of whole numbers"),
    ("boolean", "maybe", '"yes"'),
    ("boolean", 1, '"yes"'),
    ("flag", "yes", "write true"),
    ("bytes", "0g", "hexadecimal"),
    ("bytes", 5, "hexadecimal"),
    ("seconds", "8", "not a duration"),
    ("domains", "a..b", "not a domain name"),
    ("routes", "10.61.8.0/24", "not a route"),
    ("routes", ["10.61.8.1/24 via 10.61.8.1"], "not a route"),
    ("message-type", 1, "made by Daskel"),
]


@pytest.mark.parametrize(("kind", "typed", "reason"), WRONG)
def test_wrong_values(kind: str, typed: Typed, reason: str) -> None:
    with pytest.raises(ValueError, match=reason):
        TYPES[kind].encode(typed)


@given(st.integers(0, 255), st.binary(max_size=80))
def test_any_bytes_can_be_shown(code: int, value: bytes) -> None:
    for kind in (None, *TYPES):
        assert isinstance(show(code, value, kind), str)


def test_the_registry() -> None:
    assert len(BY_CODE) == len(BY_NAME)
    assert all(rule.type in TYPES for rule in BY_CODE.values())
    assert not set(PRIVATE) & set(BY_CODE)
    known = {  # RFC 2132 and later, spot checks over the whole range
        1: "subnet-mask", 12: "host-name", 26: "interface-mtu", 33: "static-route", 42: "ntp-servers",
        51: "lease-time", 61: "client-identifier", 66: "tftp-server-name", 76: "directory-assistance-server",
        93: "client-architecture", 119: "domain-search", 121: "classless-static-route",
        150: "tftp-server-address", 211: "reboot-time", 221: "virtual-subnet-selection",
    }  # fmt: skip
    assert {code: name(code) for code in known} == known
    assert name(224) == "option-224"
    unnamed = {c.value for c in Code} - set(BY_CODE)
    assert unnamed == {Code.PAD, Code.END}


def test_options_inside_an_option() -> None:
    assert encapsulate([(1, b"ab"), (2, b"")]) == b"\1\2ab\2\0"
    with pytest.raises(ValueError, match="more than 255"):
        encapsulate([(1, bytes(256))])
