"""Layers: what replaces what, and where each value says that it comes from."""

from __future__ import annotations

import gc
import weakref
from collections.abc import Mapping
from dataclasses import FrozenInstanceError, fields

import pytest

from daskel.core.site.layers import Sourced, effective, merge
from daskel.core.site.model import Site
from daskel.core.site.positions import Origin
from tests.conftest import DEMO, site_from

MERGED = [
    ([["quiet"], []], ["quiet"]),
    ([["quiet"], ["-quiet"]], []),
    ([["a=1", "b=2"], ["a=3"]], ["b=2", "a=3"]),
    ([["console=tty0", "console=ttyS0"]], ["console=tty0", "console=ttyS0"]),
    ([["console=tty0", "console=ttyS0"], ["console=ttyS1"]], ["console=ttyS1"]),
    ([["a=1"], ["-a"], ["a=2"]], ["a=2"]),
    ([["a"], ["a=1"]], ["a=1"]),
    ([["a=1"], ["-a=1"]], []),
    ([["-never"], ["ab=1"], ["-a"]], ["ab=1"]),
]


@pytest.mark.parametrize(("layers", "expected"), MERGED)
def test_merge(layers: list[list[str]], expected: list[str]) -> None:
    origin = Origin("f", 1, 1)
    sourced = [[Sourced(argument, origin) for argument in layer] for layer in layers]
    assert [argument.value for argument in merge(sourced, [])] == expected


def test_a_client_of_the_demo(demo_site: Site) -> None:
    found = effective(demo_site, "tide-01")
    lines = DEMO.splitlines()
    assert found.segment and found.segment.value == "tideroom"
    assert found.boot and found.boot.value == "tideroom" and found.loadout_name == "notebook"
    assert [a.value for a in found.arguments] == [
        "hostname={{ client.name }}",
        "console=ttyS0,115200",
    ]
    for sourced in (found.mac, found.segment, found.boot, *found.arguments):
        assert str(sourced.value) in lines[sourced.origin.line - 1]


def test_groups_in_the_order_named() -> None:
    site = site_from(
        """format = 1
[loadout.x]
boot = "local"
[loadout.y]
boot = "local"
[group.a]
boot = "x"
args = ["one=a", "two=a"]
[group.b]
boot = "y"
args = ["two=b"]
[client.c]
mac = "026108000001"
group = ["a", "b"]
[client.d]
mac = "026108000002"
group = ["b", "a"]
"""
    )
    found = [effective(site, name) for name in "cd"]
    assert [f.boot.value for f in found if f.boot] == ["y", "x"]
    arguments = [[a.value for a in f.arguments] for f in found]
    assert arguments == [["one=a", "two=b"], ["one=a", "two=a"]]


def test_on_another_segment_the_fixed_address_does_not_hold(demo_site: Site) -> None:
    here, there = (effective(demo_site, "tide-01", s) for s in ("tideroom", "library"))
    assert here.address and there.address is None
    assert there.segment and there.segment.value == "library"
    assert there.boot == here.boot


def test_a_site_never_changes() -> None:
    site = site_from(DEMO)
    for kept in fields(site):
        value = getattr(site, kept.name)
        with pytest.raises(FrozenInstanceError):
            setattr(site, kept.name, value)
        if isinstance(value, Mapping):
            with pytest.raises(TypeError):
                value["x"] = None  # type: ignore[index]


def test_what_is_worked_out_is_kept_beside_its_site_and_forgotten_with_it() -> None:
    site, other = site_from(DEMO), site_from(DEMO)
    assert effective(site, "tide-01") is effective(site, "tide-01")
    assert effective(site, "tide-01") is not effective(other, "tide-01")
    assert effective(site, "tide-01", once="disk").loadout_name == "disk"
    assert effective(site, "tide-01").loadout_name != "disk"
    seen = weakref.ref(site)
    del site
    gc.collect()
    assert seen() is None
