"""The site as machines see it over IPv6: what is wrong with it, what they are told, where it stands."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address, IPv6Network
from typing import cast

import pytest

from daskel.core.audit.checks import check_site
from daskel.core.boot.address import Lease, Leases, LeaseState
from daskel.core.boot.arguments import compose
from daskel.core.boot.caller import verified_over_ipv6
from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files
from daskel.core.content.grub import built_in, with_server
from daskel.core.dhcp.router_advertisement import NO_ROUTER, Network, network_here, networks_in
from daskel.core.history.events import Who
from daskel.core.site.layers import effective
from daskel.core.site.model import Site
from daskel.core.site.over_ipv6 import over_ipv6
from daskel.core.site.own_kernels import with_published
from daskel.core.site.parse import parse
from daskel.core.site.published import CLIENT, IMAGE, INITRD, KERNEL, Blob, BootSet, PublishedRoot
from tests.conftest import replaced, site_from

SITE = """format = 1
[site]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
router = "10.61.8.254"
pool = ["10.61.8.100 - 10.61.8.199"]
network6 = "fd61:8::/64"
server6 = "fd61:8::1"
pool6 = ["fd61:8::100 - fd61:8::1ff"]
[segment.quay]
network = "10.61.9.0/24"
server = "10.61.9.1"
dhcp = "off"
[root.notebook]
slate = "keep"
[loadout.notebook]
root = "notebook"
kernel = "notebook/vmlinuz"
[client.tide-01]
mac = "02:61:08:00:00:01"
segment = "tideroom"
boot = "notebook"
address = "10.61.8.21"
address6 = "fd61:8::21"
"""
ONE, TWO = "02:61:08:00:00:01", "02:61:08:00:00:02"
OWN = cast(IPv4Address, IPv6Address("fd61:8::21"))
# What is changed, what is found, and the line that it is found at
WRONG = [
    (('server6 = "fd61:8::1"\n', ""), "network6, and no server6", "network6"),
    (('network6 = "fd61:8::/64"\n', ""), "server6, and no network6", "server6"),
    (("fd61:8::1\"", "fd61:9::1\""), "fd61:9::1 is not inside the network fd61:8::/64", "server6"),
    (("fd61:8::1ff", "fd61:9::1"), "has more than 65,536 addresses", "pool6"),
    (("fd61:8::100 - fd61:8::1ff", "fd61:9::5"), "is not inside fd61:8::/64", "pool6"),
    (("fd61:8::100", "fd61:8::1"), "contains the server address fd61:8::1", "pool6"),
    (("fd61:8::100 - fd61:8::1ff", "10.61.8.7"), "is not a range", "pool6"),
    (('["fd61:8::100 - fd61:8::1ff"]', '"dhcp"'), 'must be "slaac", or a list of ranges', "pool6"),
    (('["fd61:8::100 - fd61:8::1ff"]', '"slaac"', "::/64", "::/60"), "of 64 bits alone", "pool6"),
    (('"fd61:8::21"', '"fd61:8::121"'), "lies in the pool", "address6"),
    (('"fd61:8::21"', '"fd61:8::1"'), "is the server's", "address6"),
    (('"fd61:8::21"', '"fe80::1"'), "is not the address of a machine in a network", "address6"),
    (("fd61:8::/64", "fd61:8::5/64"), "did you mean fd61:8::/64", "network6"),
    (("fd61:8::/64", "fd61:8::/120"), "is not a network that machines can be in", "network6"),
    (('segment = "tideroom"', 'segment = "quay"'), "its segment quay has no IPv6", "address6"),
    (('dhcp = "off"', 'dhcp = "off"\nnetwork6 = "fd61:8::/48"\nserver6 = "fd61:8::2"'),
     "overlaps segment tideroom (fd61:8::/64)", "network6"),
    (('dhcp = "full"', 'dhcp = "off"'), "mount its root over IPv4", "loadout.notebook"),
]  # fmt: skip


@pytest.mark.parametrize(("change", "problem", "line"), WRONG, ids=[case[1] for case in WRONG])
def test_what_is_wrong(change: tuple[str, ...], problem: str, line: str) -> None:
    parsed = parse(replaced(SITE, *change), "daskel.toml")
    findings = [*parsed.findings, *(check_site(parsed.site) if parsed.site else ())]
    found = next((f for f in findings if problem in f"{f.problem}; {f.remedy}"), None)
    assert found, findings
    text = replaced(SITE, *change).splitlines()[found.origin.line - 1]
    assert text.startswith((line, f"[{line}"))
    assert not [f for f in check_site(site_from(SITE)) if problem in f.problem]


def test_places_are_those_of_the_keys_of_ipv6() -> None:
    six = over_ipv6(site_from(SITE))
    for path, text in (
        (("segment", "tideroom", "server"), '"fd61:8::1"'),
        (("segment", "tideroom", "pool"), '["fd61:8::100 - fd61:8::1ff"]'),
        (("client", "tide-01", "address"), '"fd61:8::21"'),
        (("client", "tide-01", "mac"), f'"{ONE}"'),
    ):
        assert six.origin(*path).text == text


def published(*files: str) -> Site:
    """Where the notebook boots its own kernel, of a version that has these files."""
    made = BootSet("3", "6.1", "x86", {name: Blob("aa", 1) for name in files})
    text = SITE.replace('kernel = "notebook/vmlinuz"\n', "")
    return with_published(site_from(text), {"notebook": PublishedRoot("3", {"3": made})})


PACKED = (KERNEL, INITRD, CLIENT, IMAGE)
FOUR = "root=/dev/nfs nfsroot=10.61.8.1:/roots/notebook@3,v3,tcp,port=2049,nolock ip=dhcp"
SIX = (
    "boot=daskel daskel.root=nfs://[fd61:8::1]:2049/roots/notebook@3 daskel.tell=[fd61:8::1]:80 "
    "daskel.slate=keep daskel.address=fd61:8::21/64 ip=off"
)
MOUNTS = [
    (published(*PACKED), "files", SIX, True),
    (published(KERNEL, INITRD), "files", FOUR, False),
    (published(*PACKED), "blocks", "daskel.root=nbd://[fd61:8::1]:10809/notebook@3", True),
    (published(*PACKED), "memory",
     "daskel.root=http://[fd61:8::1]:80/published/notebook/3/root.img", True),
]  # fmt: skip


@pytest.mark.parametrize(("site", "way", "told", "own"), MOUNTS)
def test_how_a_root_is_mounted(site: Site, way: str, told: str, own: bool) -> None:
    """By Daskel's own initrd where it is there; else over IPv4, which others know."""
    roots = {"notebook": site.roots["notebook"].model_copy(update={"delivery": way})}
    six = over_ipv6(site.with_tables("root", roots))
    found = effective(six, "tide-01")
    arguments = compose(six, found, six.segments["tideroom"], Ports(), OWN)
    assert told in " ".join(argument.value for argument in arguments)
    assert found.loadout and (any(CLIENT in path for path in found.loadout.initrd) is own)


def test_templates_name_the_server_of_the_system_s_kind() -> None:
    """Its own initrd makes a system one that knows IPv6; all others are told IPv4's addresses."""
    args = ("a={{ segment.server }}", "b=http://{{ segment.host }}/", "c={{ segment.server6 }}")
    for site, told in (
        (published(*PACKED), "a=fd61:8::1 b=http://[fd61:8::1]/ c=fd61:8::1"),
        (published(KERNEL, INITRD), "a=10.61.8.1 b=http://10.61.8.1/ c=fd61:8::1"),
    ):
        clients = {"tide-01": site.clients["tide-01"].model_copy(update={"args": args})}
        six = over_ipv6(site.with_tables("client", clients))
        found = effective(six, "tide-01")
        arguments = compose(six, found, six.segments["tideroom"], Ports(), OWN)
        assert " ".join(argument.value for argument in arguments).endswith(told)


def test_over_http_a_boot_loader_is_told_its_address() -> None:
    files = Files(over_ipv6(site_from(SITE)), Ports())
    who = Who("tide-01", ONE, OWN)
    for over, own in (("http", ("fd61:8::21", "fd61:8::/64")), ("tftp", None)):
        found = files.content("tideroom", "loader/uefi-x64.efi", who, over)
        assert isinstance(found, Content) and found.own == own
        assert found.device == f"({over},[fd61:8::1])"
    plain = b"head" + built_in("uefi-x64").encode() + b"tail"
    made = with_server(plain, "(http,[fd61:8::1])", ("fd61:8::21", "fd61:8::/64"))
    assert len(made) == len(plain)
    lines = [line.split() for line in made.decode().splitlines()]
    assert ["net_add_addr", "own", "efinet0", "fd61:8::21"] in lines
    assert ["net_add_route", "here", "fd61:8::/64", "own"] in lines
    long = "fd61:8888:7777:6666:5555:4444:3333:2222"
    assert len(with_server(plain, f"(http,[{long}]:65535)", (long, f"{long}/112"))) == len(plain)


@pytest.mark.parametrize(
    ("leased_to", "hardware", "name", "contested"),
    [
        (None, ONE, "tide-01", False),
        (ONE, ONE, "tide-01", False),
        (TWO, ONE, None, True),
        (ONE, TWO, None, True),
        (ONE, None, None, False),
    ],
)
def test_who_came(
    leased_to: str | None, hardware: str | None, name: str | None, contested: bool
) -> None:  # fmt: skip
    """The wire says it, also of an address of a machine's own making; but not against a lease."""
    leases = Leases()
    if leased_to:
        leases.put(Lease(OWN, "tideroom", leased_to, LeaseState.BOUND, 9.0, 7, 1))
    six = over_ipv6(site_from(SITE))
    found = verified_over_ipv6(six, leases, "tideroom", OWN, hardware, 5.0)
    assert (found.who.name, found.contested is not None) == (name, contested)


def test_router_advertisements() -> None:
    network = IPv6Network("fd61:8::/64")
    for slaac in (True, False):
        told = network_here(network, slaac=slaac)
        assert networks_in(told) == (False, not slaac, (Network(network, slaac),))
        for end in range(len(told)):
            networks_in(told[:end])  # cut anywhere
    assert networks_in(NO_ROUTER) == (False, False, ())
    assert networks_in(told[:16] + b"\3\0" + told[18:]) == (False, True, ()), "of no length"


def test_files_of_clients_that_have_no_ipv6() -> None:
    """Nobody is missed there."""
    text = SITE.replace('segment = "tideroom"', 'segment = "quay"').replace("address", "# ")
    file = '[file."{{ client.name }}.txt"]\ntext = "{{ segment.server }}"\n'
    assert not [f for f in check_site(site_from(text + file)) if "IPv6" in f.problem]
