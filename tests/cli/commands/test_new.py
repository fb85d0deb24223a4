"""A new site file passes the check as it stands, whatever network it is for."""

from __future__ import annotations

from ipaddress import IPv4Interface
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.site.check import check
from daskel.core.site.new_site import NewSite, fresh, suggested_pool
from tests.conftest import daskel, site_from

NAMES = st.text(st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp")), min_size=1, max_size=12)


@given(st.integers(0, 2**32 - 1), st.integers(8, 29), NAMES.filter(str.strip))
def test_any_network(number: int, length: int, name: str) -> None:
    server = IPv4Interface((number, length))
    if server.ip in (server.network[0], server.network[-1]):
        return
    site = site_from(fresh(NewSite(name, server, "room", suggested_pool(server))))
    assert [f.problem for f in check(site)] == ["nothing uses the group room"]
    assert site.settings.name == name


def test_from_options(tmp_path: Path) -> None:
    words = ["new", "skerry-point", "--server", "10.61.8.1/24", "--segment", "tideroom"]
    more = ["--router", "10.61.8.1", "--domain", "tide.skerry.example", "--interface", "lo"]
    done = daskel(*words, *more, cwd=tmp_path)
    assert done.returncode == 0 and "10.61.8.128 - 10.61.8.253" in done.stdout, done.stderr
    folder = tmp_path / "skerry-point"
    assert "1 note." in daskel("check", cwd=folder).stdout
    added = daskel("client", "add", "tide-01", "mac=026108000001", "group=tideroom", cwd=folder)
    assert added.returncode == 0
    assert daskel("explain", "tide-01", cwd=folder).returncode == 0
    again = daskel(*words, cwd=tmp_path)
    assert again.returncode == 2 and "is there already" in again.stderr


WRONG = [
    ([], "--server: an address with the network's length is needed"),
    (["--server", "10.61.8.1"], "like 10.61.8.1/24"),
    (["--server", "10.61.8/24"], "is not an address"),
    (["--server", "10.61.8.1/30"], "too small"),
    (["--server", "10.61.8.1/24", "--pool", "10.61.8.9 - x"], "--pool"),
    (["--server", "10.61.8.1/24", "--segment", "a b"], "letters, digits"),
    (["--server", "10.61.8.1/24", "--router", "x"], "x"),
]


@pytest.mark.parametrize(("words", "said"), WRONG)
def test_wrong_answers(tmp_path: Path, words: list[str], said: str) -> None:
    done = daskel("new", "room", *words, cwd=tmp_path)
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr
    assert not (tmp_path / "room").exists()
