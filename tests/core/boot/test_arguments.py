"""Kernel arguments from the layers, with their origins."""

from __future__ import annotations

import pytest

from daskel.core.boot.arguments import ArgumentError, check_arguments, compose
from daskel.core.boot.wire import Ports
from daskel.core.site.finding import Severity
from daskel.core.site.layers import effective
from tests.conftest import DEMO, site_from
from tests.core.boot.sites import site


def test_what_is_overridden_is_remembered() -> None:
    made = site(
        group='args = ["a=1"]\noptions = { desk-broker = "b" }',
        client='args = ["a=2", "-quiet"]\nboot = "notebook"\noptions = { desk-broker = false }',
    )
    found = effective(made, "tide-01")
    assert sorted((old.what, old.value) for old in found.overridden) == [
        ("argument", "a=1"),
        ("argument", "quiet"),
        ("boot", "menu"),
        ("option desk-broker", "b"),
    ]
    assert all(old.by.line > old.origin.line for old in found.overridden)
    assert not check_arguments(made, Ports())


def test_a_root_typed_by_hand_is_pointed_out() -> None:
    (finding,) = check_arguments(site(group='args = ["root=/dev/sda1"]'), Ports())
    assert "replaces the root" in finding.problem and finding.severity is Severity.WARNING


WITH_TEMPLATE = DEMO.replace("hostname={{ client.name }}", "{0}")
TEMPLATES = [
    ("name={{ client.name }}-{{ segment.name }}", "name=tide-02-tideroom"),
    ("m={{ client.mac_dashed }}", "m=02-61-08-00-00-02"),
    ("a={{ client.address }}", "a=10.61.8.22"),
    ("s={{ segment.server }},{{ site.name | lower }}", "s=10.61.8.1,skerry point"),
    ("{{ client.nam }}", "there is no variable 'nam'"),
    ("{{ clint.name }}", "there is no variable 'clint'"),
    ("{{ client.name", "unexpected end of template"),
    ("{{ 1 // 0 }}", "zero"),
    ("{{ ''.__class__.__mro__ }}", "unsafe"),
    ("{{ client.name.format.__globals__ }}", ""),
]


@pytest.mark.parametrize(("template", "expected"), TEMPLATES)
def test_templates(template: str, expected: str) -> None:
    site = site_from(WITH_TEMPLATE.replace("{0}", template))
    found = effective(site, "tide-02")
    findings = check_arguments(site, Ports())
    try:
        line = compose(site, found, site.segments["tideroom"], Ports(), None)
    except ArgumentError as error:
        assert expected in str(error)
        assert (
            findings and findings[0].origin.line == site.origin("loadout", "notebook", "args").line
        )
        assert "client.mac_dashed" in findings[0].remedy
        assert len(findings) == 1, "the same mistake is said once, not once per client"
    else:
        assert expected in [argument.value for argument in line] and not findings


def test_the_administrators_root_replaces_daskels() -> None:
    site = site_from(DEMO.replace('"-quiet"', '"root=/dev/sda1", "-quiet"'))
    line = compose(site, effective(site, "tide-01"), site.segments["tideroom"], Ports(), None)
    values = [argument.value for argument in line]
    assert "root=/dev/sda1" in values and "root=/dev/nfs" not in values and "ip=dhcp" in values


def test_a_line_that_the_kernel_would_cut_is_found() -> None:
    site = site_from(DEMO.replace('"-quiet"', f'"{"x" * 2000}"'))
    (finding,) = check_arguments(site, Ports())
    assert "2047" in finding.problem and "tide-01" in finding.problem
