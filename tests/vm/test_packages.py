"""What is handed to others: a wheel in an environment of its own, and the Debian package on a system
that has nothing but Debian."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel import __version__
from daskel.cli.main import COMMANDS
from daskel.demo.data import lay_out
from tests.conftest import PATIENCE
from tests.vm.lab import with_machines

HERE = Path(__file__).parents[2]
pytestmark = with_machines("dpkg-buildpackage", "debootstrap", seconds=3600)
_LATE = ("matplotlib", "pandas", "aiohttp", "cryptography", "numpy")  # that few commands need


def run(*words: str | Path, cwd: Path | None = None) -> str:
    without = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}
    done = subprocess.run(
        words, cwd=cwd, env=without, capture_output=True, text=True, timeout=PATIENCE, check=False
    )
    assert done.returncode == 0, (words, done.stdout[-2000:], done.stderr[-2000:])
    return done.stdout


@pytest.fixture(scope="module")
def alone(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel, installed without anything that only pictures need."""
    folder = tmp_path_factory.mktemp("wheel")
    run(sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "-w", folder, ".", cwd=HERE)
    (wheel,) = folder.glob("*.whl")
    run(sys.executable, "-m", "venv", folder / "venv")
    pip = [folder / "venv/bin/pip", "install", "-q", "--disable-pip-version-check"]
    run(*pip, "--constraint", HERE / "constraints.txt", wheel)
    return folder / "venv/bin"


def test_the_wheel_is_whole(alone: Path, tmp_path: Path) -> None:
    assert run(alone / "daskel", "--version") == f"daskel {__version__}\n"
    assert json.loads(run(alone / "daskel", "demo", "--json", cwd=tmp_path))["good"]
    assert "pool" in run(alone / "daskel", "help", "segment.pool")
    there = run(alone / "python", "-c", "import daskel; print(daskel.__path__[0])").strip()
    source = HERE / "src/daskel"
    ours = {path.relative_to(source) for path in source.rglob("*") if path.is_file()}
    ours = {path for path in ours if "__pycache__" not in path.parts}
    assert [path for path in ours if not (Path(there) / path).exists()] == []


def test_what_few_need_is_imported_late(alone: Path, tmp_path: Path) -> None:
    lay_out(tmp_path)
    program = (
        "import sys; from daskel.cli.main import main; main(sys.argv[1:]); print(*sys.modules)"
    )
    for words in (["check"], ["explain", "tide-01"], ["client", "list"]):
        told = run(alone / "python", "-c", program, *words, cwd=tmp_path).splitlines()[-1].split()
        assert not set(told) & set(_LATE), words


def test_a_picture_says_what_it_needs(alone: Path, tmp_path: Path) -> None:
    lay_out(tmp_path)
    words = [alone / "daskel", "boots", "report"]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 3 and "needs pandas" in done.stderr
    assert "pip install 'daskel[plot]'" in done.stderr


@pytest.fixture(scope="module")
def debian(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A fresh Debian with the package, built of what is committed."""
    run(HERE / "packaging/build-deb")
    tree = tmp_path_factory.mktemp("debian") / "tree"
    run("debootstrap", "--variant=minbase", "--include=python3,systemd,man-db", "bookworm", tree)
    (package,) = (HERE / "build").glob("daskel_*.deb")
    shutil.copy(package, tree / "root")
    inside(tree, "dpkg", "-i", f"/root/{package.name}")
    yield tree
    shutil.rmtree(tree, ignore_errors=True)


def inside(tree: Path, *words: str) -> str:
    namespace = ["unshare", "--mount", "--pid", "--fork", "--kill-child", "--root", tree]
    mounted = 'mount -t proc proc /proc; mount -t tmpfs tmp /tmp; exec "$@"'
    return run(*namespace, "sh", "-c", mounted, "sh", *words)


@pytest.mark.extended
def test_the_package_works(debian: Path) -> None:
    assert inside(debian, "daskel", "--version") == f"daskel {__version__}\n"
    assert json.loads(inside(debian, "daskel", "demo", "--json"))["good"]
    found = inside(debian, "daskel", "check", "--site", "/etc/daskel/daskel.toml", "--json")
    assert json.loads(found)["good"]


@pytest.mark.extended
def test_the_package_has_all_of_it(debian: Path) -> None:
    manuals = debian / "usr/share/man"
    pages = {path.name for path in manuals.glob("man*/daskel*")}
    assert pages == {"daskel.1.gz", "daskel.toml.5.gz", *(f"daskel-{n}.1.gz" for n in COMMANDS)}
    assert "daskel.toml" in inside(debian, "man", "-P", "cat", "5", "daskel.toml")
    unit = (debian / "usr/lib/systemd/system/daskel.service").read_text()
    assert "ExecStart=/usr/bin/daskel serve" in unit
    account = next(
        line for line in (debian / "etc/passwd").read_text().splitlines() if "daskel" in line
    )
    assert account.endswith("nologin")
    kept = (debian / "var/lib/daskel").stat()
    assert (kept.st_mode & 0o777, str(kept.st_uid)) == (0o750, account.split(":")[2])
    for path in ("bash-completion/completions/daskel", "zsh/vendor-completions/_daskel"):
        assert (debian / "usr/share" / path).stat().st_size > 100


@pytest.mark.extended
def test_it_goes_without_a_trace(debian: Path) -> None:
    inside(debian, "dpkg", "--purge", "daskel")
    found = (path.relative_to(debian) for path in debian.rglob("*daskel*"))
    left = [path for path in found if path.suffix != ".deb" and path.parts[:2] != ("var", "cache")]
    kept = {"var/lib/daskel", "srv/daskel", "run/daskel"}  # what it kept of clients stays
    assert set(map(str, left)) <= kept, left
