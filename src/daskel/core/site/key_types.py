"""What the value of a key may be: each type with its words, its limits, and what is wrong else."""

from __future__ import annotations

import re
from collections.abc import Mapping
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from typing import Annotated, Any, Literal, NamedTuple, cast

from pydantic import BeforeValidator, Field, PlainValidator, Strict, WithJsonSchema

from daskel.core.memory_image import MEMORY_END
from daskel.core.values import parse_duration, parse_mac, parse_size

HOST_NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?", re.IGNORECASE)
UNKNOWN = ("lobby", "refuse", "address-only")  # what a segment can do with them, besides a loadout


class Range(NamedTuple):
    """Addresses from `first` to `last`, both included; over IPv6, as in `over_ipv6`."""

    first: IPv4Address
    last: IPv4Address

    def __contains__(self, address: object) -> bool:
        return isinstance(address, type(self.first)) and self.first <= address <= self.last

    @property
    def size(self) -> int:
        """How many addresses it has."""
        return int(self.last) - int(self.first) + 1

    def __str__(self) -> str:
        return f"{self.first} - {self.last}"


def _text(value: object, wanted: str) -> str:
    if not isinstance(value, str):
        raise ValueError(f"must be text in quotes; write {wanted}")
    return value.strip()


def _address(value: object) -> IPv4Address:
    text = _text(value, 'an address like "10.61.8.1"')
    try:
        return IPv4Address(text)
    except ValueError:
        raise ValueError("is not an IPv4 address; write four numbers like 10.61.8.1") from None


_LINK_LOCAL = IPv4Network("224.0.0.0/24")  # RFC 5771: never for files


def _group(value: object) -> IPv4Address | bool:
    if isinstance(value, bool):
        return value
    text = _text(value, 'true, or the address of a group like "239.61.8.1"')
    try:
        group = IPv4Address(text)
    except ValueError:
        group = IPv4Address(0)
    if not group.is_multicast or group in _LINK_LOCAL:
        raise ValueError(
            "is not the address of a multicast group; write true, or one like 239.61.8.1"
        )
    return group


def _network(value: object) -> IPv4Network:
    text = _text(value, 'a network like "10.61.8.0/24"')
    try:
        return IPv4Network(text)
    except ValueError:
        pass
    try:
        meant = IPv4Network(text, strict=False)
    except ValueError:
        raise ValueError("is not a network; write one like 10.61.8.0/24") from None
    raise ValueError(f"is an address inside a network; did you mean {meant}?")


def parse_range(value: object) -> Range:
    """`"10.61.8.100 - 10.61.8.199"`, or one address. Raises ValueError with a sentence."""
    text = _text(value, 'a range like "10.61.8.100 - 10.61.8.199"')
    parts = [part.strip() for part in re.split(r"\s*(?:-|\.\.|\bto\b)\s*", text) if part.strip()]
    try:
        ends = [IPv4Address(part) for part in parts]
    except ValueError:
        ends = []
    if len(ends) not in (1, 2):
        raise ValueError('is not a range; write one like "10.61.8.100 - 10.61.8.199"')
    if ends[0] > ends[-1]:
        raise ValueError(f"ends before it begins; did you mean {ends[1]} - {ends[0]}?")
    return Range(ends[0], ends[-1])


SLAAC = "slaac"
_MOST_IN_POOL6 = 1 << 16


def _address6(value: object) -> IPv6Address:
    text = _text(value, 'an IPv6 address like "fd61:8::1"')
    try:
        address = IPv6Address(text)
    except ValueError:
        raise ValueError("is not an IPv6 address; write one like fd61:8::1") from None
    if address.is_multicast or address.is_link_local or address.is_unspecified or address.scope_id:
        raise ValueError("is not the address of a machine in a network; write one like fd61:8::1")
    return address


def _network6(value: object) -> IPv6Network:
    text = _text(value, 'an IPv6 network like "fd61:8::/64"')
    try:
        network = IPv6Network(text, strict=False)
    except ValueError:
        raise ValueError("is not an IPv6 network; write one like fd61:8::/64") from None
    if network.is_multicast or network.is_link_local or not 16 <= network.prefixlen <= 112:
        raise ValueError("is not a network that machines can be in; write one like fd61:8::/64")
    if str(network[0]) != str(IPv6Address(text.partition("/")[0])):
        raise ValueError(f"is an address inside a network; did you mean {network}?")
    return network


def _range6(value: object) -> Range:
    text = _text(value, 'a range like "fd61:8::100 - fd61:8::1ff"')
    parts = [part.strip() for part in re.split(r"\s*(?:-|\.\.|\bto\b)\s*", text) if part.strip()]
    try:
        ends = [_address6(part) for part in parts]
    except ValueError:
        ends = []
    if len(ends) not in (1, 2):
        raise ValueError('is not a range; write one like "fd61:8::100 - fd61:8::1ff"')
    if ends[0] > ends[-1]:
        raise ValueError(f"ends before it begins; did you mean {ends[1]} - {ends[0]}?")
    found = Range(cast(IPv4Address, ends[0]), cast(IPv4Address, ends[-1]))
    if found.size > _MOST_IN_POOL6:
        raise ValueError(f"has more than {_MOST_IN_POOL6:,} addresses; write a smaller one")
    return found


def _pool6(value: object) -> object:
    if value == SLAAC:
        return value
    if not isinstance(value, list):
        raise ValueError('must be "slaac", or a list of ranges: ["fd61:8::100 - fd61:8::1ff"]')
    return tuple(_range6(part) for part in value)


def _mac(value: object) -> str:
    return parse_mac(_text(value, 'a MAC address like "02:61:08:00:00:01"'))


def _duration(value: object) -> int:
    return parse_duration(_text(value, 'a duration with its unit, like "8h"'))


def _size(value: object) -> int:
    return parse_size(_text(value, 'a size with its unit, like "2 GiB"'))


def _rate(value: object) -> int:
    text = _text(value, 'a size per second, like "40 MiB/s"')
    size, slash, second = text.partition("/")
    rate = parse_size(size) if slash and second.strip() == "s" else 0
    if rate < 1024:
        raise ValueError('is not a size per second; write one like "40 MiB/s", 1 KiB/s at least')
    return rate


def _listens(value: object) -> object:
    text = _text(value, 'an address and a port, like "127.0.0.1:9461"')
    address, _, port = text.rpartition(":")
    if not (port.isdigit() and 0 < int(port) < 65536):
        raise ValueError('has no port; write an address and a port, like "127.0.0.1:9461"')
    return _address(address), int(port)


_PLACE = re.compile(r"([A-Z]{1,2})\s*-?([0-9]{1,3})")


def _place(value: object) -> str:
    match = _PLACE.fullmatch(_text(value, 'a row and a number, like "A3"').upper())
    if not match or not int(match[2]):
        raise ValueError('is not a place; write its row and number, like "A3"')
    return f"{match[1]}{int(match[2])}"


def row_and_number(place: str) -> tuple[str, int]:
    """`("A", 3)` of a place as `Place` has it."""
    row = place.rstrip("0123456789")
    return row, int(place[len(row) :])


def _names(value: object) -> object:
    return [value] if isinstance(value, str) else value


# Where spaces are part of one argument: templates, and what is between double quotes
_NO_SPACES = re.compile(r"\{\{.*?(?:\}\}|$)|\{%.*?(?:%\}|$)|\"[^\"]*\"")
_SRV = re.compile(r"_([A-Za-z0-9-]{1,15})\._(tcp|udp) ([0-9]{1,5})")


def _srv(value: object) -> str:
    text = _text(value, 'a service like "_broker._tcp 443"')
    if not _SRV.fullmatch(text):
        raise ValueError('is not a service with its port; write one like "_broker._tcp 443"')
    return text


def _architectures(value: object) -> object:
    items = value if isinstance(value, list) else [value]
    if not all(isinstance(item, (int, str)) and not isinstance(item, bool) for item in items):
        raise ValueError('is not a name or number of an architecture; write one like "uefi-x64"')
    return items


def _argument(value: object) -> str:
    text = _text(value, 'a kernel argument like "quiet"')
    if not text or not text.isprintable():
        raise ValueError("is empty or has a line break or control character in it")
    bare = _NO_SPACES.sub("", text)
    if '"' in bare:
        raise ValueError('has a double quote without another one; write two: key="a b"')
    if re.search(r"\s", bare):
        words = ", ".join(f'"{word}"' for word in text.split())
        key, _, value = text.partition("=")
        quoted = f"'{key}=\"{value}\"'" if value and '"' not in text else "'key=\"a b\"'"
        raise ValueError(
            f"has a space in it; write several arguments: {words}; or, for one with a space, "
            f"double quotes around its value: {quoted}"
        )
    return text


def _secret(value: object) -> str:
    text = _text(value, 'a path like "wayline/ticket"')
    if not re.fullmatch(r"(?!\.)[\w.@+-]+(/(?!\.)[\w.@+-]+)*", text, re.ASCII):
        raise ValueError("must be a path below files/clients/NAME: letters, digits, . _ @ + -")
    return text


def _title(value: object) -> str:
    text = _text(value, "a title")
    if not text or not text.isprintable():
        raise ValueError("is empty or has a line break or control character in it")
    return text


def _password(value: object) -> str:
    text = _text(value, "the hash of a password")
    if not re.fullmatch(r"grub\.pbkdf2\.sha512\.\d+\.[0-9A-Fa-f]+\.[0-9A-Fa-f]+", text):
        raise ValueError(
            "is not a hash; write what grub-mkpasswd-pbkdf2 prints: grub.pbkdf2.sha512..."
        )
    return text


def _prefix(value: object) -> str:
    """A MAC address, or the beginning of one, as pairs with colons."""
    text = _text(value, 'a MAC address or its beginning, like "02:61:08"')
    digits = re.sub(r"[\s:.\-]", "", text).lower().rstrip("*")
    if not re.fullmatch(r"(?:[0-9a-f]{2}){1,6}", digits):
        raise ValueError(
            "is neither a MAC address nor the beginning of one; write pairs like 02:61:08"
        )
    return ":".join(digits[i : i + 2] for i in range(0, len(digits), 2))


def _option_value(value: object) -> object:
    items = value if isinstance(value, list) else [value]
    if not all(isinstance(item, (bool, int, str)) for item in items):
        raise ValueError("must be a text, a whole number, true, false, or a list of these")
    return value


def _boot_files(value: object) -> object:
    return {"default": value} if isinstance(value, str) else value


def _text_of(title: str, **more: Any) -> WithJsonSchema:
    """How an editor sees a value that is written as text."""
    return WithJsonSchema({"type": "string", "title": title, **more})


def _one_or_list(title: str) -> WithJsonSchema:
    one = {"type": "string", "title": title}
    return WithJsonSchema({"anyOf": [one, {"type": "array", "items": one}]})


_SCALAR: dict[str, Any] = {"type": ["string", "integer", "boolean"]}
_OPTIONS: dict[str, Any] = {
    "type": "object",
    "additionalProperties": {"anyOf": [_SCALAR, {"type": "array", "items": _SCALAR}]},
    "title": "table of option names, each with text, number, true, false, or a list of these",
}
_FILES: dict[str, Any] = {"type": "object", "additionalProperties": {"type": "string"}}
_TYPE: dict[str, Any] = {"type": ["string", "integer"]}


def _store(value: object) -> str:
    text = _text(value, "the path of a file")
    if "://" not in text:
        return text
    scheme, rest = text.split("://", 1)
    if scheme not in ("postgresql", "postgres"):
        raise ValueError("is not a store; write the path of a file, or postgresql://...")
    if "/" not in rest.partition("?")[0] and "dbname=" not in rest:
        raise ValueError("names no database; write one like postgresql://db.skerry.example/daskel")
    return text


_LOGIN = re.compile(r"(?:[A-Za-z0-9_][\w.-]*@)?(?:[A-Za-z0-9][\w.-]*|\[[0-9A-Fa-f:]+\])")


def _login(value: object) -> str:
    text = _text(value, "whom ssh logs in as")
    if not _LOGIN.fullmatch(text):
        raise ValueError("is not an account and a machine; write them like root@10.61.8.2")
    return text


Flag = Annotated[bool, Strict()]
Whole = Annotated[int, Strict()]
MemoryAddress = Annotated[Whole, Field(ge=0, lt=MEMORY_END)]  # of a client's memory
Name = Annotated[str, _text_of("name")]
Address = Annotated[IPv4Address, BeforeValidator(_address), _text_of("address", format="ipv4")]
MulticastGroup = Annotated[
    IPv4Address | bool,
    BeforeValidator(_group),
    WithJsonSchema({"type": ["string", "boolean"], "title": "true, or the address of a group"}),
]
Network = Annotated[IPv4Network, BeforeValidator(_network), _text_of("network")]
AddressRange = Annotated[Range, BeforeValidator(parse_range), _text_of("address range")]
Address6 = Annotated[IPv6Address, BeforeValidator(_address6), _text_of("address", format="ipv6")]
Network6 = Annotated[IPv6Network, BeforeValidator(_network6), _text_of("network")]
Pool6 = Annotated[
    tuple[Range, ...] | Literal["slaac"],
    PlainValidator(_pool6),
    WithJsonSchema(
        {
            "anyOf": [
                {"const": SLAAC},
                {"type": "array", "items": {"type": "string", "title": "address range"}},
            ],
            "title": '"slaac", or address ranges',
        }
    ),
]
Mac = Annotated[str, BeforeValidator(_mac), _text_of("MAC address")]
MacPrefix = Annotated[str, BeforeValidator(_prefix), _text_of("MAC prefix")]
Duration = Annotated[int, BeforeValidator(_duration), _text_of("duration")]  # seconds
Size = Annotated[int, BeforeValidator(_size), _text_of("size")]  # bytes
Rate = Annotated[int, BeforeValidator(_rate), _text_of("rate")]  # bytes per second
Place = Annotated[str, BeforeValidator(_place), _text_of("row and number")]
StorePlace = Annotated[str, BeforeValidator(_store), _text_of("path or URL")]
KeyPlace = Literal["tpm", "variable", "medium", "passphrase"]
Login = Annotated[str, BeforeValidator(_login), _text_of("account and machine")]
Listening = Annotated[
    tuple[IPv4Address, int], BeforeValidator(_listens), _text_of("address and port")
]
SecretPath = Annotated[str, BeforeValidator(_secret), _text_of("path")]
Names = Annotated[tuple[str, ...], BeforeValidator(_names), _one_or_list("name")]
Title = Annotated[str, BeforeValidator(_title), _text_of("text", minLength=1)]
Password = Annotated[str, BeforeValidator(_password), _text_of("hash of a password")]
Service = Annotated[str, BeforeValidator(_srv), _text_of("service")]
Argument = Annotated[str, BeforeValidator(_argument), _text_of("kernel argument", minLength=1)]
SlateKind = Literal["none", "fresh", "keep"]
Delivery = Literal["files", "blocks", "memory"]
Fetch = Literal["http", "tftp"]
SecureBoot = Literal["auto", "shim", "mok", "db", "off"]
LoaderKind = Literal["grub", "none"]
OptionValue = bool | int | str | tuple[bool | int | str, ...]  # false: switched off
Options = Annotated[
    Mapping[str, Annotated[OptionValue, BeforeValidator(_option_value)]], WithJsonSchema(_OPTIONS)
]
BootFiles = Annotated[
    Mapping[str, Title],
    BeforeValidator(_boot_files),
    WithJsonSchema(
        {"anyOf": [{"type": "string"}, _FILES], "title": "text, or table of names, each with text"}
    ),
]
Architectures = Annotated[
    tuple[int | str, ...],
    BeforeValidator(_architectures),
    WithJsonSchema(
        {"anyOf": [_TYPE, {"type": "array", "items": _TYPE}], "title": "names and numbers"}
    ),
]
