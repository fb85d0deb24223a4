"""What the rules of nftables do to messages that clients send to this machine."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Any

Rules = Sequence[Mapping[str, Any]]
_DEPTH = 8  # of chains that jump to others


class Fate(Enum):
    """What becomes of a new message."""

    ACCEPTED = "accepted"
    DROPPED = "dropped"
    UNTOLD = "it depends"  # on what is not looked at: who sends it, its interface, a count


@dataclass(frozen=True, slots=True)
class _Fit:
    """Whether a rule is for a message: for certain, or perhaps."""

    fits: bool
    certain: bool


def fates(
    ruleset: Mapping[str, Any], ports: Sequence[tuple[str, int]]
) -> dict[tuple[str, int], Fate]:
    """By protocol and port. `ruleset`: what `nft --json list ruleset` prints (libnftables-json(5));
    what cannot be read in it counts as a rule that perhaps fits."""
    chains: dict[tuple[str, str, str], list[Mapping[str, Any]]] = defaultdict(list)
    hooks: list[tuple[tuple[str, str, str], str]] = []
    for item in ruleset.get("nftables", ()):
        chain, rule = item.get("chain"), item.get("rule")
        if chain and chain.get("hook") == "input" and chain.get("family") in ("ip", "inet"):
            hooks.append((_key(chain, chain.get("name")), str(chain.get("policy", "accept"))))
        if rule:
            chains[_key(rule, rule.get("chain"))].append(rule)
    return {port: _worst([_through(chains, key, port, policy) for key, policy in hooks])
            for port in ports}  # fmt: skip


def _key(of: Mapping[str, Any], chain: object) -> tuple[str, str, str]:
    return str(of.get("family")), str(of.get("table")), str(chain)


def _worst(found: list[Fate]) -> Fate:
    """Every base chain must let it pass."""
    order = (Fate.DROPPED, Fate.UNTOLD, Fate.ACCEPTED)
    return next((fate for fate in order if fate in found), Fate.ACCEPTED)


def _through(
    chains: Mapping[tuple[str, str, str], Rules], key: tuple[str, str, str], port: tuple[str, int],
    policy: str,
) -> Fate:  # fmt: skip
    found = _chain(chains, key, port, 0)
    if found in (Fate.ACCEPTED, Fate.DROPPED):
        return found
    rest = Fate.DROPPED if policy == "drop" else Fate.ACCEPTED
    return rest if found is None else found


def _chain(
    chains: Mapping[tuple[str, str, str], Rules], key: tuple[str, str, str], port: tuple[str, int],
    depth: int,
) -> Fate | None:  # fmt: skip
    """None: it comes to the chain's end."""
    perhaps = False
    for rule in chains.get(key, ()) if depth < _DEPTH else ():
        fit, verdict, target = _rule(rule, port)
        if not fit.fits or verdict is None:
            continue
        ends: Fate | None = None
        if verdict in ("jump", "goto"):
            ends = _chain(chains, (*key[:2], target), port, depth + 1)
            if ends is None and verdict == "jump":
                continue
        elif verdict == "vmap":
            ends = Fate.UNTOLD
        elif verdict != "return":
            ends = Fate.ACCEPTED if verdict == "accept" else Fate.DROPPED
        if not fit.certain or ends is Fate.UNTOLD:
            perhaps = True
            continue
        return Fate.UNTOLD if perhaps else ends
    return Fate.UNTOLD if perhaps else None


def _rule(rule: Mapping[str, Any], port: tuple[str, int]) -> tuple[_Fit, str | None, str]:
    certain, verdict, target = True, None, ""
    for part in rule.get("expr", ()):
        if "match" in part:
            fit = _match(part["match"], port)
            if not fit.fits:
                return fit, None, ""
            certain = certain and fit.certain
        for word in ("accept", "drop", "reject", "return"):
            verdict = word if word in part else verdict
        for word in ("jump", "goto"):
            if word in part:
                verdict, target = word, str(part[word].get("target"))
        if "vmap" in part and not _only_old(part["vmap"]):
            verdict = "vmap"
        if part.keys() & {"xt", "limit"}:
            certain = False
    return _Fit(True, certain), verdict, target


def _only_old(table: Mapping[str, Any]) -> bool:
    """A table of verdicts by the state of a connection, with none for a new one."""
    key, data = table.get("key"), table.get("data")
    if not isinstance(key, Mapping) or key.get("ct", {}).get("key") != "state":
        return False
    pairs = data.get("set", ()) if isinstance(data, Mapping) else ()
    return bool(pairs) and all(pair[0] != "new" for pair in pairs)


def _match(match: Mapping[str, Any], port: tuple[str, int]) -> _Fit:
    left, right, same = match.get("left", {}), match.get("right"), match.get("op") in ("==", "in")
    payload = left.get("payload", {}) if isinstance(left, Mapping) else {}
    meta = left.get("meta", {}) if isinstance(left, Mapping) else {}
    if payload.get("field") == "dport":
        if payload.get("protocol") not in (port[0], "th"):
            return _Fit(False, True)
        if isinstance(right, str):  # the name of a set that stands elsewhere
            return _Fit(True, False)
        return _Fit(_holds(right, port[1]) == same, True)
    if meta.get("key") == "l4proto" or payload.get("field") == "protocol":
        return _Fit(_holds(right, port[0]) == same, True)
    if isinstance(left, Mapping) and left.get("ct", {}).get("key") == "state":
        return _Fit(_holds(right, "new") == same, True)
    if meta.get("key") in ("iif", "iifname") and right == "lo":
        return _Fit(not same, True)
    return _Fit(True, False)


def _holds(right: object, value: object) -> bool:
    if isinstance(right, Mapping) and "set" in right:
        return any(_holds(item, value) for item in right["set"])
    if isinstance(right, Mapping) and "elem" in right:
        return _holds(right["elem"].get("val"), value)
    if isinstance(right, Mapping) and "range" in right and isinstance(value, int):
        low, high = right["range"]
        return bool(low <= value <= high)
    if isinstance(right, list):
        return any(_holds(item, value) for item in right)
    return right == value
