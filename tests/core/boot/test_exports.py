"""What clients ask for by name: paths of NFS, exports of NBD."""

from __future__ import annotations

import pytest

from daskel.core.boot import images
from daskel.core.boot.arguments import asked_for, export_path

ROOTS = ("notebook", "notebook@1", "desk")


@pytest.mark.parametrize(
    ("path", "found"),
    [
        ("/roots/notebook", ("notebook", None, "")),
        ("roots/notebook/", ("notebook", None, "")),
        ("/roots/notebook/usr/share", ("notebook", None, "usr/share")),
        ("/roots/desk@12", ("desk", 12, "")),
        ("/roots/desk@12/etc", ("desk", 12, "etc")),
        ("/roots/desk@tree", ("desk", 0, "")),
        ("/roots/notebook@1", ("notebook@1", None, "")),  # a root of that very name
        ("/roots/notebook@2", ("notebook", 2, "")),
        ("/roots/desk@", None), ("/roots/desk@x", None), ("/roots/desk@-1", None),
        ("/roots/desk@\u0661", None), ("/roots/desk@99999999999", None), ("/roots/desks", None),
        ("/", None), ("", None), ("/etc/shadow", None), ("/roots/../roots/desk", None),
    ],
)  # fmt: skip
def test_a_path_that_is_mounted(path: str, found: tuple[str, int | None, str] | None) -> None:
    assert asked_for(path, ROOTS) == found


@pytest.mark.parametrize("version", [None, 0, 3])
def test_there_and_back(version: int | None) -> None:
    assert asked_for(export_path("desk", version), ["desk"]) == ("desk", version, "")


@pytest.mark.parametrize(
    ("name", "found"),
    [
        ("notebook@3", ("notebook", 3, "")),
        ("notebook@3/tide-01", ("notebook", 3, "tide-01")),
        ("rooms/a@12/tide-01", ("rooms/a", 12, "tide-01")),
        ("notebook@3/a/b", None), ("notebook", None), ("notebook@", None), ("@3", None),
        ("notebook@-3", None), ("notebook@\u0661", None), ("", None), ("a@1/", ("a", 1, "")),
    ],
)  # fmt: skip
def test_an_export_that_is_opened(name: str, found: tuple[str, int, str] | None) -> None:
    assert images.asked_for(name) == found
