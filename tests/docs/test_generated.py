"""What is generated in docs/ is what the program says now."""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.cli.main import COMMANDS, parser
from daskel.core.formats.registry import COMMANDS as FORMATS
from daskel.core.formats.registry import QUESTIONS
from daskel.service.control import _QUESTIONS
from tests.conftest import PATIENCE

HERE = Path(__file__).parents[2]


def made(*words: str | Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, HERE / "tools/reference", *words], capture_output=True, text=True,
        timeout=PATIENCE, check=False,
    )  # fmt: skip


def test_nothing_is_stale() -> None:
    done = made("--check")
    assert done.returncode == 0, done.stdout + done.stderr


def test_manual_pages(tmp_path: Path) -> None:
    assert made("--man", tmp_path).returncode == 0
    pages = {path.name for path in tmp_path.glob("man*/*")}
    assert pages == {"daskel.1", "daskel.toml.5", *(f"daskel-{name}.1" for name in COMMANDS)}
    assert ".SH EXAMPLES" in (tmp_path / "man1/daskel-rehearse.1").read_text()
    assert r"\fBtftp\-window\fR" in (tmp_path / "man5/daskel.toml.5").read_text()


def parsers(
    name: str, of: argparse.ArgumentParser
) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    verbs = [a for a in of._actions if isinstance(a, argparse._SubParsersAction)]
    if not verbs:
        yield name, of
    for action in verbs:
        for verb, inside in action.choices.items():
            yield from parsers(f"{name} {verb}".strip(), inside)


ALL = dict(parsers("", parser()))


@pytest.mark.parametrize("command", ALL)
def test_every_argument_has_a_text(command: str) -> None:
    assert all(action.help for action in ALL[command]._actions), command


def test_every_json_has_a_format() -> None:
    with_json = {name for name, of in ALL.items() if "--json" in of._option_string_actions}
    assert with_json == set(FORMATS)
    assert set(QUESTIONS) == set(_QUESTIONS)


def test_the_site_is_whole(tmp_path: Path) -> None:
    """Every link leads somewhere, every page is in the menu, and nothing comes from elsewhere."""
    alone = ["unshare", "--net"] if os.geteuid() == 0 else []
    done = subprocess.run(
        [*alone, sys.executable, "-m", "mkdocs", "build", "--site-dir", tmp_path],
        cwd=HERE, capture_output=True, text=True, timeout=PATIENCE, check=False,
        env={**os.environ, "NO_MKDOCS_2_WARNING": "1"},
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    loaded = re.findall(
        r'(?:src|<link[^>]*href)="(https?:[^"]*)', (tmp_path / "index.html").read_text()
    )
    assert not [address for address in loaded if "generator" not in address], loaded


def test_the_readme_is_short_and_its_links_lead_somewhere() -> None:
    text = (HERE / "README.md").read_text()
    assert len(text.splitlines()) <= 150
    linked = set(re.findall(r"\]\(([^)#]+)", text))
    assert all((HERE / path).exists() for path in linked), linked
    pictures = {f"docs/screenshots/{path.name}" for path in (HERE / "docs/screenshots").iterdir()}
    assert pictures <= linked and len(pictures) < 20
