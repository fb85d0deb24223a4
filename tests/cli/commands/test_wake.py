"""`wake`, `watch --room` and `boots report` where they cannot do what was asked."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import SiteText, daskel

WRONG = [
    (["wake"], 2, "CLIENT|GROUP"),
    (["wake", "tied"], 2, "did you mean tide?"),
    (["wake", "tide", "--pace", "fast"], 2, "write one like 5/s"),
    (["wake", "tide", "--pace", "0/s"], 2, "write one like 5/s"),
    (["wake", "tide", "--at", "25:00"], 2, "write one like 07:30"),
    (["wake", "tide", "--wait", "soon"], 2, "is not a duration"),
    (["wake", "tide-01"], 3, "this machine does not have the address 10.61.8.1"),
    (["boots", "report", "--week", "soon"], 2, "is not a day"),
    (["boots", "report", "--plot", "week.pdf"], 2, "is not a .png or .svg file"),
    (["boots", "report"], 1, "no boot ended in the week of"),
    (["watch", "lib", "--room"], 2, "no client has a place in the room"),
]


@pytest.mark.parametrize(("words", "code", "said"), WRONG)
def test_wrong_use(demo_folder: Path, words: list[str], code: int, said: str) -> None:
    done = daskel(*words, cwd=demo_folder)
    assert done.returncode == code and said in done.stderr, done


def test_a_client_without_a_mac_address(demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    text = SiteText(site.read_text())
    site.write_text(text.replace('[client.tide-02]\nmac = "02:61:08:00:00:02"', "[client.tide-02]"))
    done = daskel("wake", "tide", cwd=demo_folder)
    assert done.returncode == 2 and "the key 'mac' is missing" in done.stdout, done
    assert "add a line: mac = ..." in done.stdout
