"""Links that clients and imported systems have: the server's own files are never meant by them."""

from __future__ import annotations

import stat
from pathlib import Path

import pytest

from daskel.system.roots.own_kernels import own_kernels
from daskel.system.roots.sealing import packages
from daskel.system.roots.slates import Slate, SlateState

KERNEL = (
    bytes(0x202) + b"HdrS" + bytes(8) + b"\x80\0" + bytes(112) + b"6.1.0-demo (x)\0" + bytes(99)
)


@pytest.fixture
def slate(tmp_path: Path) -> Slate:
    found = Slate(tmp_path / "slates", "notebook", "tide-01")
    found.upper.mkdir(parents=True)
    found.keep(SlateState(1, 0, 0))
    return found


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/secret").write_text("of the server")
    return tmp_path / "outside"


def test_moving_a_slate_removes_nothing_through_a_link(slate: Slate, outside: Path) -> None:
    (slate.upper / "etc").symlink_to(outside)
    (slate.upper / "gone").write_text("x")
    slate.move(2, ["etc/secret", "gone", "nowhere/at/all"])
    assert (outside / "secret").read_text() == "of the server"
    assert not (slate.upper / "gone").exists() and (slate.upper / "etc").is_symlink()


def test_what_is_copied_out_has_no_rights(slate: Slate, outside: Path, tmp_path: Path) -> None:
    (slate.upper / "bin").mkdir()
    (slate.upper / "bin/own").write_text("x")
    (slate.upper / "bin/own").chmod(0o6755)
    (slate.upper / "bin/link").symlink_to(outside / "secret")
    assert slate.copy(Path("bin"), tmp_path / "copy")
    assert stat.S_IMODE((tmp_path / "copy/own").stat().st_mode) == 0o755
    assert (tmp_path / "copy/link").readlink() == outside / "secret"


def test_a_kernel_that_is_a_link_is_not_handed_out(outside: Path, tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    (tree / "boot").mkdir(parents=True)
    (tree / "boot/vmlinuz-6.1.0-demo").write_bytes(KERNEL)
    (tree / "boot/initrd.img-6.1.0-demo").symlink_to(outside / "secret")
    (tree / "var").symlink_to(outside)
    (outside / "lib/dpkg").mkdir(parents=True)
    (outside / "lib/dpkg/status").write_text(
        "Package: server\nStatus: install ok installed\nVersion: 1\n"
    )
    (kernel,) = own_kernels(tree)
    assert kernel.release == "6.1.0-demo" and kernel.initrd is None
    assert packages(tree) == {}
    (tree / "boot").rename(outside / "boot")
    (tree / "boot").symlink_to(outside / "boot")
    assert own_kernels(tree) == []
