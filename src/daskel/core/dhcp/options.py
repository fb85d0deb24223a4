"""DHCP options: their codes, names and types (IANA registry), and values to and from bytes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address

from daskel.core.values import show_duration


class Code(IntEnum):
    """The options that Daskel itself reads or writes."""

    PAD = 0
    SUBNET_MASK = 1
    ROUTER = 3
    NAME_SERVERS = 6
    HOST_NAME = 12
    DOMAIN = 15
    ROOT_PATH = 17
    BROADCAST = 28
    VENDOR_SPECIFIC = 43
    REQUESTED_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = 52
    MESSAGE_TYPE = 53
    SERVER_ID = 54
    PARAMETERS = 55
    MESSAGE = 56
    MAXIMUM_SIZE = 57
    VENDOR_CLASS = 60
    CLIENT_ID = 61
    BOOT_SERVER = 66
    BOOT_FILE = 67
    RELAY_AGENT = 82
    ARCHITECTURE = 93
    INTERFACE = 94
    MACHINE_ID = 97
    END = 255


@dataclass(frozen=True, slots=True)
class OptionType:
    """How one type of value is shown, and what length its bytes must have."""

    show: Callable[[bytes], str]
    unit: int = 1  # bytes; the length must be a multiple of it
    exact: bool = False  # one unit and no more


def _number(value: bytes) -> str:
    return str(int.from_bytes(value, "big"))


def _addresses(value: bytes) -> str:
    return ", ".join(str(IPv4Address(value[i : i + 4])) for i in range(0, len(value), 4))


def _text(value: bytes) -> str:
    text = value.rstrip(b"\0").decode("utf-8", "backslashreplace")
    return text if text.isprintable() else repr(text)[1:-1]


def _bytes(value: bytes) -> str:
    return value.hex(" ")


def _seconds(value: bytes) -> str:
    number = int.from_bytes(value, "big")
    return f"{number} ({show_duration(number)})"


def _message_type(value: bytes) -> str:
    return f"{value[0]} ({_MESSAGES.get(value[0], 'unknown')})"


_MESSAGES = dict(
    enumerate(("DISCOVER", "OFFER", "REQUEST", "DECLINE", "ACK", "NAK", "RELEASE", "INFORM"), 1)
)

TYPES = {
    "address": OptionType(_addresses, 4, exact=True),
    "addresses": OptionType(_addresses, 4),
    "text": OptionType(_text),
    "u8": OptionType(_number, 1, exact=True),
    "u16": OptionType(_number, 2, exact=True),
    "u16s": OptionType(lambda v: ", ".join(_number(v[i : i + 2]) for i in range(0, len(v), 2)), 2),
    "u32": OptionType(_number, 4, exact=True),
    "boolean": OptionType(lambda v: "yes" if any(v) else "no", 1, exact=True),
    "codes": OptionType(lambda v: ", ".join(map(str, v))),
    "bytes": OptionType(_bytes),
    "seconds": OptionType(_seconds, 4, exact=True),
    "message type": OptionType(_message_type, 1, exact=True),
}

# code: (name, type); names as in the IANA registry of BOOTP/DHCP options, RFC 2132 and later.
_REGISTRY = {
    1: ("subnet mask", "address"),
    2: ("time offset", "u32"),
    3: ("router", "addresses"),
    4: ("time server", "addresses"),
    6: ("domain name server", "addresses"),
    7: ("log server", "addresses"),
    12: ("host name", "text"),
    13: ("boot file size", "u16"),
    15: ("domain name", "text"),
    17: ("root path", "text"),
    18: ("extensions path", "text"),
    19: ("IP forwarding", "boolean"),
    23: ("default IP time-to-live", "u8"),
    26: ("interface MTU", "u16"),
    28: ("broadcast address", "address"),
    33: ("static route", "addresses"),
    40: ("NIS domain", "text"),
    41: ("NIS servers", "addresses"),
    42: ("NTP servers", "addresses"),
    43: ("vendor specific", "bytes"),
    44: ("NetBIOS name servers", "addresses"),
    48: ("X window font servers", "addresses"),
    49: ("X window display managers", "addresses"),
    50: ("requested address", "address"),
    51: ("address lease time", "seconds"),
    52: ("overload", "u8"),
    53: ("DHCP message type", "message type"),
    54: ("DHCP server identifier", "address"),
    55: ("parameter request list", "codes"),
    56: ("message", "text"),
    57: ("maximum DHCP message size", "u16"),
    58: ("renewal time", "seconds"),
    59: ("rebinding time", "seconds"),
    60: ("vendor class identifier", "text"),
    61: ("client identifier", "bytes"),
    66: ("TFTP server name", "text"),
    67: ("boot file name", "text"),
    77: ("user class", "bytes"),
    81: ("client FQDN", "bytes"),
    82: ("relay agent information", "bytes"),
    93: ("client system architecture", "u16s"),
    94: ("client network interface", "bytes"),
    97: ("client machine identifier", "bytes"),
    119: ("domain search", "bytes"),
    121: ("classless static route", "bytes"),
    128: ("PXE, vendor specific", "bytes"),
    150: ("TFTP server address", "addresses"),
    209: ("configuration file", "text"),
    210: ("path prefix", "text"),
}


def name(code: int) -> str:
    """The registry's name, `option 224` for a code that has none here."""
    return _REGISTRY.get(code, (f"option {code}", "bytes"))[0]


def show(code: int, value: bytes) -> str:
    """The value as a person reads it; in hexadecimal where it does not fit its type."""
    kind = TYPES[_REGISTRY.get(code, ("", "bytes"))[1]]
    fits = len(value) == kind.unit if kind.exact else len(value) % kind.unit == 0
    return kind.show(value) if fits else _bytes(value)


def u32(number: int) -> bytes:
    return min(max(number, 0), 0xFFFFFFFF).to_bytes(4, "big")
