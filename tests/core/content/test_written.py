"""The site file's own files, filled in for each client."""

from __future__ import annotations

from ipaddress import IPv4Address

import pytest

from daskel.core.boot.wire import Ports
from daskel.core.content.computed import Content, Files, check_files
from daskel.core.history.events import Who
from tests.core.boot.sites import BASE, TIDE, site

FILES = """
[file."boards/{{ client.mac_dashed }}/cmdline.txt"]
text = "{{ arguments }} at {{ client.address }}"
[file."{{ client.serial }}/config.txt"]
text = '''
kernel={{ kernel }}
initrd={{ initrd }}
'''
[file."room.txt"]
text = "{{ client.name }} in {{ segment.name }}"
[file."{{ client.serial }}/*"]
folder = "boards"
"""


def test_files_of_ones_own() -> None:
    made = site(more=FILES)
    files = Files(made, Ports())
    one, two = Who("tide-01", TIDE, IPv4Address("10.61.8.100")), Who("tide-02", "02:61:08:00:00:02")

    def get(path: str, who: Who) -> str:
        found = files.content("tideroom", path, who, "tftp")
        return (found.data or b"").decode() if isinstance(found, Content) else found.reason

    board = get("boards/02-61-08-00-00-01/cmdline.txt", one)
    assert board.startswith("root=/dev/nfs") and board.endswith(" at 10.61.8.100")
    assert get("boards/02-61-08-00-00-01/cmdline.txt", two) == "there is no variable 'address'"
    assert get("s4711/config.txt", two) == "kernel=r\ninitrd=\n"
    assert get("room.txt", one) == "tide-01 in tideroom"
    assert get("room.txt", two) == "tide-02 in tideroom"
    assert "nobody knows who asks" in get("room.txt", Who())
    own = files.content("tideroom", "s4711/overlays/x.bin", two, "tftp")
    assert isinstance(own, Content)
    places = ("clients/tide-02", "groups/tide", "s4711/overlays/x.bin", "boards/overlays/x.bin")
    assert [place.removesuffix("/s4711/overlays/x.bin") for place in own.places] == list(places)
    plain = files.content("tideroom", "s4712/x.bin", Who(), "tftp")
    assert isinstance(plain, Content) and plain.places == ("s4712/x.bin",)
    assert not check_files(made, Ports())


WRONG_FILES = [
    ('[file."x"]\ntext = "{{ client.nam }}"', 1, "no variable 'nam' (for client tide-01)"),
    ("[file.\"x\"]\ntext = '''\none\n{{ client.nam }}\n'''", 3, "no variable 'nam'"),
    ('[file."x"]\ntext = """one\n{{ client.nam }}"""', 2, "no variable 'nam'"),
    ('[file."x"]\ntext = "{% if %}"', 1, "Expected an expression"),
    ('[file."{{ client.nam }}"]\ntext = "x"', 0, "is one for no client"),
    ('[file."{{ client.uuid }}"]\ntext = "x"', 0, "is one for no client"),
]


@pytest.mark.parametrize(("more", "line", "problem"), WRONG_FILES)
def test_wrong_files(more: str, line: int, problem: str) -> None:
    made = site(more=more)
    first = BASE.format(segment="", options="", choice="", group="", client="", more="MORE")
    start = first.splitlines().index("MORE") + 1
    (finding,) = check_files(made, Ports())
    assert problem in finding.problem, finding
    assert finding.origin.line == start + line and "--variables" in finding.remedy
