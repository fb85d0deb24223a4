"""Paths that clients ask for."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.content.paths import PathRefusedError, by_folded, clean_path, nearest

PATHS = [
    (b"loader/bios.img", "loader/bios.img"),
    (b"/loader/bios.img", "loader/bios.img"),
    (b"//loader///bios.img", "loader/bios.img"),
    (b"loader\\bios.img", "loader/bios.img"),
    (b"./loader/./x", "loader/x"),
    (b"...", "..."),
    ("buoy-\u00e4".encode(), "buoy-\u00e4"),
    (b"..", PathRefusedError),
    (b"a/../b", PathRefusedError),
    (b"..\\..\\etc\\passwd", PathRefusedError),
    (b"a\0b", PathRefusedError),
    (b"a\nb", PathRefusedError),
    (b"\xff\xfe", PathRefusedError),
    (b"", PathRefusedError),
    (b"///", PathRefusedError),
    (b"x" * 256, PathRefusedError),
    (b"x/" * 5000, PathRefusedError),
]


@pytest.mark.parametrize(("asked", "expected"), PATHS)
def test_paths(asked: bytes, expected: str | type[Exception]) -> None:
    if isinstance(expected, str):
        assert clean_path(asked) == expected
    else:
        with pytest.raises(expected):
            clean_path(asked)


@given(st.binary(max_size=60))
def test_no_path_leads_out(asked: bytes) -> None:
    try:
        path = clean_path(asked.replace(b"\1", b"../").replace(b"\2", b"/"))
    except PathRefusedError:
        return
    assert not path.startswith("/") and ".." not in path.split("/") and path.isprintable()


NAMES = ["notebook/vmlinuz", "rescue/vmlinuz", "rescue/initrd.img", "Loader/A.img", "loader/a.img"]
NEAR = [
    ("notebook/vmlinux", ["notebook/vmlinuz"]),
    ("vmlinuz", ["notebook/vmlinuz", "rescue/vmlinuz"]),
    ("rescue/inird.img", ["rescue/initrd.img"]),
    ("else/where", []),
]


@pytest.mark.parametrize(("path", "expected"), NEAR)
def test_nearest_names(path: str, expected: list[str]) -> None:
    assert nearest(path, NAMES) == expected


def test_names_without_upper_and_lower_case() -> None:
    folded = by_folded(NAMES)
    assert folded["rescue/vmlinuz"] == "rescue/vmlinuz"
    assert "loader/a.img" not in folded, "two are the same then"
