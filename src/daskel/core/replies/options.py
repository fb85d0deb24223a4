"""The DHCP options that the site file names: their rules, their bytes, and what is wrong."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from daskel.core.dhcp.options import TYPES, Code, encapsulate
from daskel.core.dhcp.registry import BY_CODE, BY_NAME, PRIVATE
from daskel.core.site.finding import Finding, Severity, did_you_mean
from daskel.core.site.key_types import OptionValue
from daskel.core.site.layers import Sourced
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin

# What Daskel says itself, from other keys of the site file or from the protocol.
_OURS = {
    Code.LEASE_TIME: "write lease = ... in the segment",
    Code.SUBNET_MASK: "it follows from network = ... in the segment",
    Code.SERVER_ID: "it follows from server = ... in the segment",
    Code.REQUESTED_ADDRESS: "write address = ... in the client",
    Code.OVERLOAD: "leave it out",
    Code.MESSAGE_TYPE: "leave it out",
    Code.PARAMETERS: "leave it out",
    Code.MAXIMUM_SIZE: "leave it out",
    Code.CLIENT_ID: "leave it out",
    Code.RELAY_AGENT: "leave it out",
    Code.ARCHITECTURE: "leave it out",
    Code.MACHINE_ID: "leave it out",
}


@dataclass(frozen=True, slots=True)
class Rule:
    """How an option that a site file can name is sent."""

    code: int
    type: str
    inside: str | None = None
    vendor: str | None = None


@dataclass(frozen=True, slots=True)
class Encoded:
    """An option of the site file as bytes, and where it is written."""

    code: int
    value: bytes
    origin: Origin
    type: str


def rules(site: Site) -> dict[str, Rule]:
    """All options by name: the registry's, and the administrator's own, which come first."""
    known = {name: Rule(rule.code, rule.type) for name, rule in BY_NAME.items()}
    own = {n: Rule(o.code, o.type, o.inside, o.vendor) for n, o in site.options.items()}
    return known | own


def encode(
    known: Mapping[str, Rule],
    chosen: Mapping[str, Sourced[OptionValue]],
    vendor_class: str,
) -> list[Encoded]:
    """The options of one reply, in the order of the layers; values that do not fit are left out
    (the check names them). Options inside another are put into it, in the order of their codes.
    """
    plain: list[Encoded] = []
    inner: dict[str, list[Encoded]] = {}
    for name, sourced in chosen.items():
        rule = known.get(name)
        if rule is None or not vendor_class.startswith(rule.vendor or ""):
            continue
        try:
            value = TYPES[rule.type].encode(sourced.value)
        except ValueError:
            continue
        encoded = Encoded(rule.code, value, sourced.origin, rule.type)
        (inner.setdefault(rule.inside, []) if rule.inside else plain).append(encoded)
    for outer, items in inner.items():
        rule = known.get(outer)
        if rule is not None:
            plain.append(_carrier(rule, items, plain))
    return plain


def _carrier(rule: Rule, items: list[Encoded], plain: list[Encoded]) -> Encoded:
    """The option that carries others; a value that it has itself comes first."""
    own = next((encoded for encoded in plain if encoded.code == rule.code), None)
    if own is not None:
        plain.remove(own)
    ordered = sorted(items, key=lambda item: item.code)
    inside = encapsulate([(item.code, item.value[:255]) for item in ordered])
    return Encoded(rule.code, (own.value if own else b"") + inside, ordered[0].origin, "bytes")


def check_options(site: Site) -> list[Finding]:
    """Definitions and values that cannot be sent, each with its place."""
    known = rules(site)
    findings = list(_definitions(site, known))
    findings += _values(site, known, ("site",), site.settings.options)
    tables = {"segment": site.segments, "group": site.groups, "loadout": site.loadouts}
    for kind, named in {**tables, "client": site.clients}.items():
        for name, table in named.items():
            findings += _values(site, known, (kind, name), table.options)
    return findings


def _error(site: Site, path: tuple[str, ...], problem: str, remedy: str) -> Finding:
    return Finding(Severity.ERROR, site.positions.of(path), problem, remedy)


def _definitions(site: Site, known: Mapping[str, Rule]) -> Iterator[Finding]:
    used: dict[tuple[str | None, str | None, int], str] = {}
    for name, option in site.options.items():
        place = ("option", name)
        if option.inside is None and option.code not in PRIVATE and option.code in BY_CODE:
            theirs = BY_CODE[option.code]
            problem = f"option {option.code} is {theirs.name} ({theirs.source})"
            remedy = f"use {theirs.name} in options, or a code from 224 to 254"
            yield _error(site, (*place, "code"), problem, remedy)
        if option.inside is not None and known.get(option.inside, Rule(0, "")).type != "list":
            lists = [n for n, rule in known.items() if rule.type == "list"]
            problem = f"there is no option {option.inside!r} that carries others"
            yield _error(site, (*place, "inside"), problem, did_you_mean(option.inside, lists))
        before = used.setdefault((option.inside, option.vendor, option.code), name)
        if before != name:
            problem = f"options {before} and {name} have the same code {option.code}"
            yield _error(site, (*place, "code"), problem, "give each its own")


def _values(
    site: Site, known: Mapping[str, Rule], path: tuple[str, ...], values: Mapping[str, OptionValue]
) -> Iterator[Finding]:
    for name, value in values.items():
        place = (*path, "options", name)
        rule = known.get(name)
        if rule is None:
            origin = site.positions.of(place, key=True)
            remedy = f"{did_you_mean(name, known)} or add [option.{name}]"
            if not remedy.startswith("did"):
                remedy = f"define it with code and type in [option.{name}]"
            yield Finding(Severity.ERROR, origin, f"there is no option {name!r}", remedy)
        elif rule.inside is None and rule.code in _OURS:
            yield _error(site, place, f"option {name} is made by Daskel", _OURS[Code(rule.code)])
        elif value is not False:
            try:
                TYPES[rule.type].encode(value)
            except ValueError as error:
                problem = f"option {name} ({rule.type}): {error}"
                yield _error(site, place, problem, "correct this value")
