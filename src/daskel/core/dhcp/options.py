"""Values of DHCP options: to bytes, as they are typed, and from bytes, as they are shown."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address, IPv4Network

from daskel.core.dhcp.registry import BY_CODE
from daskel.core.values import parse_duration, show_duration

Typed = str | int | bool | Sequence[str | int | bool]  # a value as a site file has it


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
    USER_CLASS = 77
    RELAY_AGENT = 82
    ARCHITECTURE = 93
    INTERFACE = 94
    MACHINE_ID = 97
    END = 255


@dataclass(frozen=True, slots=True)
class OptionType:
    """One type of value. `encode` raises ValueError with a sentence."""

    encode: Callable[[Typed], bytes]
    show: Callable[[bytes], str]
    unit: int = 1  # bytes; the length must be a multiple of it
    exact: bool = False  # one unit and no more


# --- to bytes ---


def _one_text(value: Typed, wanted: str) -> str:
    if not isinstance(value, str):
        raise ValueError(f"must be text in quotes: {wanted}")
    return value


def _address_bytes(value: Typed) -> bytes:
    text = _one_text(value, 'an address like "10.61.8.1"')
    try:
        return IPv4Address(text.strip()).packed
    except ValueError:
        raise ValueError(f"{text!r} is not an IPv4 address") from None


def _each(value: Typed) -> Sequence[str | int | bool]:
    """The items of a list, or of a text with commas."""
    if isinstance(value, str):
        return [part for part in re.split(r"\s*,\s*|\s+", value.strip()) if part]
    return [value] if isinstance(value, (int, bool)) else value


def _addresses_bytes(value: Typed) -> bytes:
    data = b"".join(map(_address_bytes, _each(value)))
    if not data:
        raise ValueError("has no address in it")
    return data


def _pairs_bytes(value: Typed) -> bytes:
    data = _addresses_bytes(value)
    if len(data) % 8:
        raise ValueError("must be pairs of addresses")
    return data


def _text_bytes(value: Typed) -> bytes:
    data = _one_text(value, '"..."').encode()
    if not data:
        raise ValueError("is empty; write false to switch it off")
    return data


def _integer(size: int, *, signed: bool = False) -> Callable[[Typed], bytes]:
    low, high = (
        (-(1 << (8 * size - 1)), (1 << (8 * size - 1)) - 1) if signed else (0, (1 << 8 * size) - 1)
    )

    def encode(value: Typed) -> bytes:
        if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
            raise ValueError(f"must be a whole number from {low} to {high}")
        return value.to_bytes(size, "big", signed=signed)

    return encode


def _integers(size: int) -> Callable[[Typed], bytes]:
    one = _integer(size)

    def encode(value: Typed) -> bytes:
        if isinstance(value, str):
            raise ValueError("must be a list of whole numbers, like [68, 1500]")
        return b"".join(map(one, _each(value)))

    return encode


def _boolean_bytes(value: Typed) -> bytes:
    words = {"yes": 1, "true": 1, "on": 1, "no": 0, "false": 0}
    number = 1 if value is True else words.get(value.lower()) if isinstance(value, str) else None
    if number is None:
        raise ValueError('must be true or "yes", or "no" (false switches the option off)')
    return bytes((number,))


def _hex_bytes(value: Typed) -> bytes:
    text = _one_text(value, 'bytes in hexadecimal like "01 02 ff"')
    try:
        return bytes.fromhex(re.sub(r"[\s:.\-]|0x", "", text))
    except ValueError:
        raise ValueError(f'{text!r} is not hexadecimal; write bytes like "01 02 ff"') from None


def _seconds_bytes(value: Typed) -> bytes:
    if isinstance(value, str):
        value = parse_duration(value)
    return _integer(4)(value)


def _flag_bytes(value: Typed) -> bytes:
    if value is not True:
        raise ValueError("has no value: write true, or false to switch it off")
    return b""


def _domains_bytes(value: Typed) -> bytes:
    """Names in the form of RFC 1035 section 3.1, without compression."""
    data = b""
    for name in _each(value):
        labels = _one_text(name, 'names like "tide.skerry.example"').strip(".").split(".")
        if not all(0 < len(label) < 64 and label.isascii() for label in labels):
            raise ValueError(f"{name!r} is not a domain name")
        data += b"".join(bytes((len(label),)) + label.encode() for label in labels) + b"\0"
    return data


def _routes_bytes(value: Typed) -> bytes:
    """`"10.61.0.0/16 via 10.61.8.1"`, one or a list, in the form of RFC 3442."""
    data = b""
    for route in [value] if isinstance(value, str) else _each(value):
        parts = str(route).split(" via ")
        try:
            network, gateway = IPv4Network(parts[0].strip()), IPv4Address(parts[1].strip())
        except (ValueError, IndexError):
            reason = f'{route!r} is not a route; write "10.61.0.0/16 via 10.61.8.1"'
            raise ValueError(reason) from None
        length = network.prefixlen
        packed = network.network_address.packed[: (length + 7) // 8]
        data += bytes((length,)) + packed + gateway.packed
    return data


def _never(value: Typed) -> bytes:  # noqa: ARG001
    raise ValueError("is made by Daskel")


# --- from bytes ---


def _number(value: bytes) -> str:
    return str(int.from_bytes(value, "big"))


def _numbers(size: int) -> Callable[[bytes], str]:
    return lambda v: ", ".join(_number(v[i : i + size]) for i in range(0, len(v), size))


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


_MESSAGES = ["DISCOVER", "OFFER", "REQUEST", "DECLINE", "ACK", "NAK", "RELEASE", "INFORM"]


def _message_type(value: bytes) -> str:
    known = 1 <= value[0] <= len(_MESSAGES)
    return f"{value[0]} ({_MESSAGES[value[0] - 1] if known else 'unknown'})"


def _domains(value: bytes) -> str:
    names, labels, at = [], [], 0
    while at < len(value):
        length = value[at]
        label = value[at + 1 : at + 1 + length]
        if length > 63 or len(label) < length:
            return _bytes(value)
        if length:
            labels.append(_text(label))
        else:
            names.append(".".join(labels))
            labels = []
        at += 1 + length
    return ", ".join(names) if not labels else _bytes(value)


def _routes(value: bytes) -> str:
    routes, at = [], 0
    while at < len(value):
        length, size = value[at], (value[at] + 7) // 8
        packed = value[at + 1 : at + 1 + size].ljust(4, b"\0")
        gateway = value[at + 1 + size : at + 5 + size]
        if length > 32 or len(gateway) < 4:
            return _bytes(value)
        routes.append(f"{IPv4Address(packed)}/{length} via {IPv4Address(gateway)}")
        at += 5 + size
    return ", ".join(routes)


TYPES = {
    "address": OptionType(_address_bytes, _addresses, 4, exact=True),
    "addresses": OptionType(_addresses_bytes, _addresses, 4),
    "address-pairs": OptionType(_pairs_bytes, _addresses, 8),
    "text": OptionType(_text_bytes, _text),
    "u8": OptionType(_integer(1), _number, 1, exact=True),
    "u16": OptionType(_integer(2), _number, 2, exact=True),
    "u32": OptionType(_integer(4), _number, 4, exact=True),
    "i32": OptionType(
        _integer(4, signed=True),
        lambda v: str(int.from_bytes(v, "big", signed=True)),
        4,
        exact=True,
    ),
    "u16s": OptionType(_integers(2), _numbers(2), 2),
    "boolean": OptionType(_boolean_bytes, lambda v: "yes" if any(v) else "no", 1, exact=True),
    "flag": OptionType(_flag_bytes, lambda v: "yes" + _bytes(v)),
    "bytes": OptionType(_hex_bytes, _bytes),
    "list": OptionType(_hex_bytes, _bytes),  # its items are options of their own
    "seconds": OptionType(_seconds_bytes, _seconds, 4, exact=True),
    "codes": OptionType(_integers(1), _numbers(1)),
    "domains": OptionType(_domains_bytes, _domains),
    "routes": OptionType(_routes_bytes, _routes),
    "message-type": OptionType(_never, _message_type, 1, exact=True),
}
# The types that the administrator's own options can have.
OWN_TYPES = (
    "text", "address", "addresses", "u8", "u16", "u32", "boolean", "bytes", "domains", "list",
)  # fmt: skip


def name(code: int) -> str:
    """The registry's name, `option-224` for a code that has none there."""
    rule = BY_CODE.get(code)
    return rule.name if rule else f"option-{code}"


def show(code: int, value: bytes, kind: str | None = None) -> str:
    """The value as a person reads it; in hexadecimal where it does not fit its type."""
    rule = BY_CODE.get(code)
    how = TYPES[kind or (rule.type if rule else "bytes")]
    fits = len(value) == how.unit if how.exact else len(value) % how.unit == 0
    return how.show(value) if fits else _bytes(value)


def encapsulate(items: Sequence[tuple[int, bytes]]) -> bytes:
    """Options inside an option (RFC 2132 8.4): code, length, value each. Raises ValueError."""
    long = [code for code, value in items if len(value) > 255]
    if long:
        raise ValueError(f"option {long[0]} inside has more than 255 bytes")
    return b"".join(bytes((code, len(value))) + value for code, value in items)


def u32(number: int) -> bytes:
    """A number as four bytes, the most significant one first (RFC 2132)."""
    return min(max(number, 0), 0xFFFFFFFF).to_bytes(4, "big")
