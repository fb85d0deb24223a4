"""`daskel forecast`, and its model against storms of simulated clients on this machine."""

from __future__ import annotations

import importlib.util
import json
import sys
from pathlib import Path
from types import ModuleType

import pytest

from daskel.core.forecast.model import Resource
from daskel.system.site_check import load_checked
from tests.conftest import daskel

BENCH = Path(__file__).parents[3] / "bench/forecast.py"


def bench() -> ModuleType:
    spec = importlib.util.spec_from_file_location("bench_forecast", BENCH)
    assert spec and spec.loader
    made = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = made
    spec.loader.exec_module(made)
    return made


def test_what_it_says(demo_folder: Path) -> None:
    picture = demo_folder / "room.png"
    words = [
        "forecast",
        "tide",
        "lib",
        "--machines",
        "40",
        "--within",
        "20s",
        "--link",
        "100Mbit/s",
    ]
    done = daskel(*words, "--plot", str(picture), cwd=demo_folder)
    assert done.returncode == 0, done
    assert "40 clients switched on within 20 s: the first has its root after" in done.stdout
    for said in ("the firmware itself", "0.1 Gbit/s", "by a table of firmware", "… and 16 more"):
        assert said in done.stdout
    assert picture.read_bytes().startswith(b"\x89PNG")


def test_for_programs(demo_folder: Path) -> None:
    done = daskel("forecast", "--json", cwd=demo_folder)
    told = json.loads(done.stdout)
    assert len(told["clients"]) == 22 and told["assumed"] and told["limits"]["seen"] == "firmware"
    for client in told["clients"]:
        times = list(client["stages"].values())
        assert times == sorted(times) and times[-1] == client["seconds"] and client["bytes"] > 1e5
    firmware = {client["client"]: client["firmware"] for client in told["clients"]}
    assert (firmware["lib-01"], firmware["lib-03"]) == ("uefi-x64", "uefi-x64-http")


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["--link", "fast"], 2, "is not a rate; write one like 1Gbit/s"),
        (["--machines", "0"], 2, "a number from 1 to"),
        (["--within", "3"], 2, "--within"),
        (["--at-once", "--within", "3s"], 2, "not allowed with"),
        (["nobody"], 2, "nobody"),
        (["--plot", "x.txt"], 2, "is not a .png or .svg file"),
    ],
)
def test_wrong_words(demo_folder: Path, words: list[str], code: int, said: str) -> None:
    done = daskel("forecast", *words, cwd=demo_folder)
    assert done.returncode == code and said in done.stderr, done


def test_a_client_that_does_not_boot(demo_folder: Path) -> None:
    (demo_folder / "roots/logger/sbin/init").unlink()
    (demo_folder / "roots/logger/usr/bin/sh").unlink()
    done = daskel("forecast", "buoy", cwd=demo_folder)
    assert done.returncode == 1 and "does not come up" in done.stderr, done


def test_against_a_storm(demo_folder: Path) -> None:
    """Within wide limits: the machine that tests run on does other things, too."""
    found, outcome = bench().compare(load_checked(demo_folder / "daskel.toml"), 30)
    assert not [boot.problem for boot in outcome.boots if boot.problem]
    for ratio in bench().errors(found, outcome).values():
        assert 0.2 < ratio < 5
    assert found.slowest
    stage, limit = found.slowest
    assert stage in bench().slowest(outcome)[:3]  # kernel, initrd and root cost about as much
    assert limit in (Resource.PROCESSORS, Resource.SERVER)  # 30 at once are not alone any more
