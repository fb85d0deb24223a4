"""The unit for systemd: it is well-formed, and grants what the server needs."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

UNIT = Path(__file__).parents[2] / "packaging/daskel.service"


@pytest.mark.skipif(
    not shutil.which("systemd-analyze") and "CI" not in os.environ,
    reason="systemd is not installed",
)
def test_systemd_reads_it(tmp_path: Path) -> None:
    text = UNIT.read_text().replace("/usr/local/bin/daskel", "/bin/true")
    unit = tmp_path / "daskel.service"
    unit.write_text(text)
    done = subprocess.run(
        ["systemd-analyze", "verify", unit], capture_output=True, text=True, check=False
    )
    said = [line for line in done.stderr.splitlines() if "daskel.service" in line]
    assert done.returncode == 0 and not said, done.stderr
