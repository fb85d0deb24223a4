"""A private root is in the tunnel alone, whatever says that it is private."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address

import pytest

from daskel.core.audit.private import check_private
from daskel.core.boot.arguments import ArgumentError, check_arguments, compose
from daskel.core.boot.identity import roots_of
from daskel.core.boot.wire import Ports
from daskel.core.history.events import Who
from daskel.core.site.layers import effective
from daskel.core.site.own_kernels import with_published
from daskel.core.site.parse import parse
from daskel.core.site.private import INSIDE, inner_address, inside, private_roots
from daskel.core.site.published import CLIENT, IMAGE, INITRD, KERNEL, Blob, BootSet, PublishedRoot
from tests.conftest import SiteText, site_from

SITE = SiteText("""format = 1
[site.private]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
[root.notebook]
[root.other]
[loadout.notebook]
root = "notebook"
[loadout.other]
root = "other"
[choice.both]
entries = ["other", "notebook"]
[group.tide]
segment = "tideroom"
boot = "both"
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
[client.tide-02]
mac = "02:61:08:00:00:02"
group = "tide"
""")
SAID = {
    "root": ("[root.notebook]", "[root.notebook]\nprivate = true"),
    "loadout": ("[loadout.notebook]", "[loadout.notebook]\nprivate = true"),
    "group": ("[group.tide]", "[group.tide]\nprivate = true"),
    "client": ("[client.tide-01]", "[client.tide-01]\nprivate = true"),
}


@pytest.mark.parametrize("layer", SAID)
@pytest.mark.parametrize("delivery", ["files", "blocks", "memory"])
def test_nobody_has_it_outside(layer: str, delivery: str) -> None:
    text = SITE.replace(*SAID[layer], 1)
    text = text.replace("[root.notebook]", f'[root.notebook]\ndelivery = "{delivery}"', 1)
    site = site_from(text)
    assert "notebook" in private_roots(site)
    within = inside(site)
    for number in (1, 2):
        who = Who(f"tide-0{number}", f"02:61:08:00:00:0{number}")
        for way in ("files", "blocks", "memory"):
            assert "notebook" not in roots_of(site, who, "tideroom", way=way)  # type: ignore[arg-type]
    first = Who("tide-01", "02:61:08:00:00:01")
    assert "notebook" in roots_of(within, first, INSIDE, way=delivery)  # type: ignore[arg-type]
    assert not roots_of(within, Who(None, "02:61:08:00:00:09"), INSIDE)


def test_what_it_is_told() -> None:
    site = site_from(SITE.replace(*SAID["root"], 1))
    files = dict.fromkeys((KERNEL, INITRD, CLIENT, IMAGE), Blob("d" * 64, 1))
    made = BootSet("1", files=files)
    site = with_published(site, {"notebook": PublishedRoot("1", {"1": made})})
    found, here = effective(site, "tide-01", None, "notebook"), site.segments["tideroom"]
    line = [a.value for a in compose(site, found, here, Ports(), IPv4Address("10.61.8.21"))]
    own = inner_address(site, "02:61:08:00:00:01")
    assert f"daskel.private=10.61.8.1,51820,{own},fd64:6173:6b65::1" in line
    assert "daskel.root=nfs://[fd64:6173:6b65::1]:2049/roots/notebook@1" in line
    assert "daskel.contact=10.61.8.1:80" in line and "daskel.key=variable,medium" in line
    assert any(path.endswith(f"/{CLIENT}") for path in found.loadout.initrd if found.loadout)  # type: ignore[union-attr]
    plain = effective(site, "tide-01", None, "other")
    assert "daskel.private" not in " ".join(
        a.value for a in compose(site, plain, here, Ports(), IPv4Address("10.61.8.21"))
    )


@pytest.mark.parametrize(
    ("keys", "client", "told"),
    [
        ('"tpm", "medium"', "", "medium"),
        ('"tpm", "medium"', 'loader = "none"', "tpm,medium"),
        ('"tpm"', 'loader = "none"', "tpm"),
        ('"tpm"', "", None),
    ],
)
def test_a_tpm_is_for_machines_that_boot_one_image(
    keys: str, client: str, told: str | None
) -> None:
    text = SITE.replace(*SAID["root"], 1).replace(
        "[site.private]", f"[site.private]\nkey = [{keys}]"
    )
    site = site_from(text.replace("[client.tide-01]", f"[client.tide-01]\n{client}"))
    made = BootSet("1", files=dict.fromkeys((KERNEL, INITRD, CLIENT, IMAGE), Blob("d" * 64, 1)))
    site = with_published(site, {"notebook": PublishedRoot("1", {"1": made})})
    found, here = effective(site, "tide-01", None, "notebook"), site.segments["tideroom"]
    if told is None:
        with pytest.raises(ArgumentError, match="a TPM says nothing"):
            compose(site, found, here, Ports(), None)
        return
    line = [a.value for a in compose(site, found, here, Ports(), None)]
    assert f"daskel.key={told}" in line
    assert ("panic=30" in line) is ("tpm" in told)


def test_addresses_are_each_one_s_own() -> None:
    site = site_from(SITE)
    macs = [f"02:61:08:00:{n >> 8:02x}:{n & 255:02x}" for n in range(5000)]
    found = {inner_address(site, mac) for mac in macs}
    assert len(found) == len(macs) and IPv6Address("fd64:6173:6b65::1") not in found


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("[client.tide-02]", "[client.tide-02]\nprivate = false"), "private for others"),
        (("[site.private]", '[site]\nloader = "none"\n[site.private]\nkey = ["tpm"]'), "tied to an image with its address"),
        (("[site.private]", "[site]\nnfs = \"kernel\"\n[site.private]"), "not with nfs"),
        (('dhcp = "full"', 'dhcp = "full"\nunknown = "notebook"'), "unknown machines cannot"),
        (
            ('dhcp = "full"', 'dhcp = "full"\nnetwork6 = "fd64:6173:6b65::/48"\nserver6 = "fd64:6173:6b65:1::1"'),
            "overlaps segment",
        ),
    ],
)  # fmt: skip
def test_what_is_refused(change: tuple[str, str], said: str) -> None:
    text = SITE.replace(*SAID["root"], 1).replace(*change, 1)
    site = site_from(text)
    found = [*check_private(site), *check_arguments(site, Ports())]
    assert sum(said in finding.problem for finding in found) == 1, found


def test_one_wrong_key_of_its_table_takes_no_tunnel_away() -> None:
    text = SITE.replace(*SAID["root"], 1)
    parsed = parse(text.replace("[site.private]", '[site.private]\nsecrets = ["../key"]'), "f")
    assert ["secrets" in finding.problem for finding in parsed.findings] == [True]
    assert parsed.site and parsed.site.settings.private


def test_without_a_tunnel_it_does_not_come() -> None:
    text = SITE.replace(*SAID["root"], 1).replace("[site.private]\n", "", 1)
    site = site_from(text)
    found = effective(site, "tide-01", None, "notebook")
    with pytest.raises(ArgumentError, match="no tunnel"):
        compose(site, found, site.segments["tideroom"], Ports(), None)
