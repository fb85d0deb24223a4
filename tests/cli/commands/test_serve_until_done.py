"""`daskel serve --until-done`: one batch of clients, and the server ends by itself."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from daskel.cli.practice_server import free_base
from daskel.core.dhcp.client_messages import LOADER, SYSTEM
from daskel.rehearse.fetch import get_address, tftp_get
from tests.conftest import PATIENCE, SERVER, Serve, Serving, daskel

MACS = {"tide-01": "02:61:08:00:00:01", "tide-02": "02:61:08:00:00:02"}


def boots(serving: Serving, name: str, *, whole: bool = True) -> None:
    own = get_address(serving.wire, SERVER, SYSTEM, MACS[name], 1).yiaddr
    files = (f"loader/{MACS[name]}.cfg", "rescue/vmlinuz", "rescue/initrd.img")
    for path in files if whole else files[:2]:
        tftp_get(serving.wire, own, SERVER, path, LOADER)


@pytest.fixture
def batch(demo_folder: Path, serve: Serve) -> Serving:
    for name in MACS:
        assert daskel("assign", name, "rescue", cwd=demo_folder).returncode == 0
    return serve(demo_folder, more=("--until-done", "tide-01,tide-02"))


def test_it_ends_when_all_have_everything(batch: Serving) -> None:
    boots(batch, "tide-01")
    boots(batch, "tide-02", whole=False)
    assert batch.process.poll() is None
    boots(batch, "tide-02")
    assert batch.process.wait(PATIENCE) == 0
    assert batch.events("ended")[-1]["text"] == "2 of 2 have fetched everything"


def test_one_that_is_ended_before(batch: Serving) -> None:
    boots(batch, "tide-01")
    batch.wait_for("file-sent", path="rescue/initrd.img")
    assert batch.stop() == 1
    assert batch.events("ended")[-1]["text"] == "1 of 2 have fetched everything; not tide-02"


def test_a_batch_follows_the_site(batch: Serving) -> None:
    boots(batch, "tide-01")
    daskel("client", "remove", "tide-02", cwd=batch.folder)
    applied = daskel("apply", "--yes", cwd=batch.folder)
    assert applied.returncode == 0, applied
    assert batch.process.wait(PATIENCE) == 0
    assert batch.events("ended")[-1]["text"] == "1 of 1 have fetched everything"


def test_it_ends_when_nothing_moves_any_more(demo_folder: Path) -> None:
    program = (
        "import sys, daskel.cli.server_run as s; s.STILL = 1.0\n"
        "from daskel.cli.main import main; sys.exit(main())"
    )
    words = ["serve", "--until-done", "tide-01", "--loopback", str(free_base())]
    command = [sys.executable, "-c", program, *words]
    done = subprocess.run(
        command, cwd=demo_folder, capture_output=True, text=True, timeout=PATIENCE
    )
    assert "0 of 1 have fetched everything; not tide-01" in done.stdout
    assert done.returncode == 1


def test_who_is_meant(demo_folder: Path, serve: Serve) -> None:
    done = daskel("serve", "--until-done", "tide-1", "--loopback", "61000", cwd=demo_folder)
    assert done.returncode == 2 and "did you mean tide-1" in done.stderr
    whole = serve(demo_folder, more=("--until-done", "lib"))
    assert whole.stop() == 1
    assert "0 of 4 have fetched everything" in whole.events("ended")[-1]["text"]
    roots = "the roots of lib-01, lib-02, lib-03 and 1 more are on this server"
    assert roots in whole.events("warning")[0]["text"]
