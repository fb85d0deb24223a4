"""Values as people write them: MAC addresses, durations, sizes. No sites, no protocols."""

from __future__ import annotations

import re
from collections.abc import Sequence

_PLAIN_MAC = re.compile(r"[0-9a-f][02468ace](?::[0-9a-f]{2}){5}")
_UNITS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86400, "w": 604800}
_PASSWORD = re.compile(r"(://[^:@/]*:)[^@]*(?=@)|(?<=[?& ])(password=)[^& ]*")
_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*([a-z]+)")


def parse_mac(text: str) -> str:
    """A MAC address in any common spelling as `02:61:08:00:00:01`.

    Colons, dashes, dots, spaces, none at all, a leading hardware type (`01-`): all are read.
    Raises ValueError with a sentence for anything else.
    """
    if _PLAIN_MAC.fullmatch(text):
        return text
    digits = re.sub(r"[\s:.\-]", "", text).lower()
    if len(digits) == 14 and digits.startswith("01"):
        digits = digits[2:]
    if not re.fullmatch(r"[0-9a-f]{12}", digits):
        raise ValueError("is not a MAC address; write six pairs like 02:61:08:00:00:01")
    if int(digits[:2], 16) & 1:
        raise ValueError("is a group (multicast) address, which no client has as its own")
    return ":".join(digits[i : i + 2] for i in range(0, 12, 2))


def mac_text(chaddr: bytes) -> str:
    """The first six bytes of a DHCP message's chaddr as `02:61:08:00:00:01`."""
    return chaddr[:6].hex(":")


def parse_duration(text: str) -> int:
    """`"8h"`, `"1h 30min"`, `"10s"` as seconds. Raises ValueError with a sentence."""
    parts = _DURATION.findall(text.strip().lower())
    if not parts or _DURATION.sub("", text.lower()).strip():
        raise ValueError('is not a duration; write a number with a unit, like "8h" or "30min"')
    unknown = [unit for _, unit in parts if unit not in _UNITS]
    if unknown:
        raise ValueError(f"has the unknown unit {unknown[0]!r}; known are {', '.join(_UNITS)}")
    return round(sum(float(number) * _UNITS[unit] for number, unit in parts))


def show_duration(seconds: float) -> str:
    """Seconds as a person reads them: `8h`, `1h 30min`, `0.42 s`."""
    if seconds < 60:
        return f"{seconds:.2f} s" if seconds != int(seconds) else f"{int(seconds)} s"
    words = []
    for unit, size in (("d", 86400), ("h", 3600), ("min", 60), ("s", 1)):
        count, seconds = divmod(int(seconds), size)
        if count:
            words.append(f"{count}{unit}")
    return " ".join(words)


def show_ago(seconds: float) -> str:
    """How long ago, to the minute."""
    return "just now" if seconds < 60 else f"{show_duration(int(seconds) // 60 * 60)} ago"


_SIZE = re.compile(r"([0-9]+(?:\.[0-9]+)?) *([KMGT]i?B)", re.IGNORECASE)
_SIZES = {unit: 1000**power for power, unit in enumerate(("kb", "mb", "gb", "tb"), 1)} | {
    unit: 1024**power for power, unit in enumerate(("kib", "mib", "gib", "tib"), 1)
}


_SPELT = {"kb": "kB"} | {unit: unit.upper().replace("I", "i") for unit in _SIZES if unit != "kb"}


def parse_size(text: str) -> int:
    """`"2 GiB"`, `"500 MB"` as bytes. Raises ValueError with a sentence."""
    match = _SIZE.fullmatch(text.strip())
    if match is None:
        raise ValueError('is not a size; write a number with a unit, like "2 GiB" or "500 MB"')
    return int(float(match[1]) * _SIZES[match[2].lower()])


def show_limit(size: int) -> str:
    """Bytes that somebody wrote down, in the unit that they were written in: `2 GiB`, `500 MB`."""
    for unit, factor in sorted(_SIZES.items(), key=lambda pair: -pair[1]):
        if size >= factor and size * 10 % factor == 0:
            return f"{size / factor:g} {_SPELT[unit]}"
    return show_size(size)


def show_size(size: float) -> str:
    """Bytes as a person reads them, in steps of 1,000."""
    for unit in ("B", "kB", "MB", "GB"):
        if size < 1000 or unit == "GB":
            return f"{size:.0f} {unit}" if unit == "B" else f"{size:.1f} {unit}"
        size /= 1000
    raise AssertionError("unreachable")


def without_password(url: str) -> str:
    """A URL as it may be shown."""
    return _PASSWORD.sub(lambda match: f"{match[1] or match[2]}***", url)


def counted(number: int, what: str) -> str:
    """`1 path`, `2,000 paths`."""
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def few(names: Sequence[str], most: int) -> str:
    """Names in a sentence: the first `most`, and how many more there are."""
    rest = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + rest
