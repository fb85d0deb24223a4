"""Which view of a root a client gets: by root, group and client, with files of its own."""

from __future__ import annotations

import pytest

from daskel.core.boot.arguments import compose
from daskel.core.boot.identity import by_mac
from daskel.core.boot.wire import Ports
from daskel.core.content import up
from daskel.core.history.events import Who
from daskel.core.roots.views import check_own, views_of
from daskel.core.site.layers import effective
from tests.conftest import SiteText, site_from

SITE = SiteText("""format = 1
[site]
[segment.tideroom]
network = "10.61.8.0/24"
server = "10.61.8.1"
dhcp = "full"
pool = ["10.61.8.100 - 10.61.8.199"]
[root.notebook]
ROOT
[loadout.notebook]
kernel = "k"
root = "notebook"
[group.tide]
segment = "tideroom"
boot = "notebook"
GROUP
[client.tide-01]
mac = "02:61:08:00:00:01"
group = "tide"
CLIENT
""")
RULES = [  # of root, group and client; the slate
    ("", "", "", "none"),
    ('slate = "keep"', "", "", "keep"),
    ('slate = "keep"', 'slate = "fresh"', "", "fresh"),
    ('slate = "keep"', 'slate = "fresh"', 'slate = "none"', "none"),
    ("", "", 'slate = "keep"', "keep"),
]


@pytest.mark.parametrize(("root", "group", "client", "slate"), RULES)
def test_whose_word_counts(root: str, group: str, client: str, slate: str) -> None:
    site = site_from(SITE.replace("ROOT", root).replace("GROUP", group).replace("CLIENT", client))
    who = by_mac(site, "02:61:08:00:00:01")
    view = views_of(site, who, "tideroom")["notebook"]
    assert view.slate == slate
    line = compose(site, effective(site, "tide-01"), site.segments["tideroom"], Ports(), None)
    assert ("ro" if slate == "none" else "rw") in [argument.value for argument in line]
    assert bool(view.own) is (slate != "none")
    assert not views_of(site, Who(), "tideroom"), "nobody known has no root"


def test_files_of_its_own() -> None:
    own = 'slate = "keep"\nsize = "1.5 GiB"\nown = { "etc/hostname" = "{{ client.name }}.{{ segment.name }} {{ root.export }}" }'
    site = site_from(SITE.replace("ROOT", own).replace("GROUP", "").replace("CLIENT", ""))
    view = views_of(site, by_mac(site, "02:61:08:00:00:01"), "tideroom")["notebook"]
    assert view.own == {"etc/hostname": "tide-01.tideroom 10.61.8.1:/roots/notebook"}
    assert view.limit == 1610612736 and not check_own(site)
    bad = own.replace("client.name", "client.nam")
    site = site_from(SITE.replace("ROOT", bad).replace("GROUP", "").replace("CLIENT", ""))
    (finding,) = check_own(site)
    assert "etc/hostname of the root notebook" in finding.problem and finding.origin.line == 11


def test_a_root_that_is_to_tell_when_it_is_up() -> None:
    for slate, client, findings in (
        ("none", "", 1), ("none", 'slate = "keep"', 0), ("fresh", "", 0)
    ):  # fmt: skip
        text = SITE.replace("ROOT", f'slate = "{slate}"\nup = true').replace("GROUP", "")
        found = check_own(site_from(text.replace("CLIENT", client)))
        assert len(found) == findings and all("up = true" in one.problem for one in found)
        assert (up.IN_ROOT.lstrip("/") in own_files(text.replace("CLIENT", client))) is not bool(
            findings
        )


def own_files(text: str) -> str:
    site = site_from(text)
    view = views_of(site, by_mac(site, "02:61:08:00:00:01"), "tideroom")["notebook"]
    return " ".join(view.own)
