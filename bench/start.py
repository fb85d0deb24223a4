"""How soon a command begins: whole processes, beside an empty Python of the same run; and how much
room an installation takes, with and without what only pictures need."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import time
from importlib.metadata import PackageNotFoundError, distribution
from pathlib import Path
from statistics import median

from common import QUICK, at_most

from daskel.demo.data import lay_out

TIMES = 1 if QUICK else 7
COMMANDS = (
    "--help", "--version", "help segment.pool", "check", "explain tide-01", "client list",
    "boots list", "root list", "status", "survey",
)  # fmt: skip
GOALS = {"--help": 0.1, "check": 0.3, "explain": 0.3}  # seconds


def seconds(words: list[str], folder: Path) -> float:
    began = time.perf_counter()
    subprocess.run(words, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def needed(name: str, extra: str, seen: set[str]) -> None:
    """A package, and all that it requires."""
    if name in seen:
        return
    try:
        requires = distribution(name).requires or []
    except PackageNotFoundError:
        return
    seen.add(name)
    for line in requires:
        words, _, marker = line.partition(";")
        wanted = re.search(r"extra == ['\"](\w+)['\"]", marker)
        if wanted is None or wanted[1] == extra:
            match = re.match(r"[A-Za-z0-9._-]+", words)
            assert match
            needed(re.sub(r"[._]", "-", match[0]).lower(), "", seen)


def size(extra: str) -> int:
    """Bytes of Daskel with what it requires."""
    seen: set[str] = set()
    needed("daskel", extra, seen)
    return sum(
        path.stat().st_size
        for name in seen
        for file in distribution(name).files or ()
        if (path := Path(str(file.locate()))).is_file() and path.suffix != ".pyc"
    )


def main() -> None:
    program = str(Path(sys.executable).with_name("daskel"))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lay_out(folder)
        empty = [sys.executable, "-c", "pass"]
        for command in COMMANDS:
            both = [(seconds([program, *command.split()], folder), seconds(empty, folder))
                    for _ in range(TIMES)]  # fmt: skip
            own, beside = (sorted(times) for times in zip(*both, strict=True))
            ratio = median(one / other for one, other in both)
            at_most(f"`{command}` on a small site", "s", own, GOALS.get(command.split()[0]))
            print(f"  {ratio:4.1f} times an empty Python ({median(beside):.3f} s)")
    plain, plots = size(""), size("plot")
    print(f"installed: {plain / 1e6:.0f} MB, {plots / 1e6:.0f} MB with pictures (daskel[plot])")


if __name__ == "__main__":
    main()
