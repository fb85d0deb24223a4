"""`account`: once its ports are open, the server is an account's that can do little else."""

from __future__ import annotations

import os
import pwd
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.cli.practice_server import free_base
from daskel.core.dhcp.client_messages import Face
from daskel.core.dhcp.pxe import Firmware
from daskel.rehearse.fetch import get_address, tftp_get
from tests.conftest import SERVER, Serve, SiteText, daskel
from tests.service.nfs.test_slates import ONE, Client, lay_out, run

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="another account needs root")
NOBODY = pwd.getpwnam("nobody").pw_uid


@pytest.fixture
def folder() -> Iterator[Path]:
    """One that other accounts can reach, unlike pytest's own."""
    made = Path(tempfile.mkdtemp(prefix="daskel-test-"))
    made.chmod(0o755)
    lay_out(made, "keep")
    text = SiteText((made / "daskel.toml").read_text())
    said = 'state = "state/state.db"\naccount = "nobody"\n'
    rule = '[upload."logs/{{ client.name }}/*"]\n'
    (made / "daskel.toml").write_text(text.replace('state = "state.db"\n', said) + rule)
    yield made
    shutil.rmtree(made)


def test_the_server_is_the_accounts(folder: Path, serve: Serve) -> None:
    serving = serve(folder)
    status = Path(f"/proc/{serving.process.pid}/status").read_text().splitlines()
    fields = dict(line.split(":\t", 1) for line in status if ":\t" in line)
    assert set(fields["Uid"].split()) == {str(NOBODY)} and fields["Groups"].split()
    assert int(fields["CapEff"], 16) == int(fields["CapPrm"], 16) == 1 << 10 | 1 << 11 | 3 << 12
    face = Face.of(Firmware.BIOS)
    assert get_address(serving.wire, SERVER, face, "02:61:08:00:00:01", 1).yiaddr == ONE
    assert tftp_get(serving.wire, ONE, SERVER, "vmlinuz", face).startswith(b"MZ")
    Client(serving, ONE).write("mine", b"changed")
    owners = {path.stat().st_uid for path in [folder / "state", *(folder / "state").iterdir()]}
    assert owners <= {NOBODY, 0} and (folder / "state/state.db").stat().st_uid == NOBODY
    assert (folder / "uploads").stat().st_uid == NOBODY
    assert "mine" in run(folder, "slate", "show", "tide-01")
    with (folder / "daskel.toml").open("a") as file:
        file.write(
            '[client.tide-03]\nmac = "02:61:08:00:00:03"\ngroup = "tide"\naddress = "10.61.8.23"\n'
        )
    run(folder, "apply", "--yes")
    run(folder, "assign", "tide-01", "notebook", "--once")
    serving.stop()
    again = serve(folder)
    assert "mine" in Client(again, ONE).files(), "its lease and its slate are known"


def test_what_the_account_cannot_do_is_said_at_once(folder: Path) -> None:
    site = folder / "daskel.toml"
    text = SiteText(site.read_text())
    cases = {
        text.replace("state/state.db", "state.db"): "nobody may not write into",
        text.replace('"nobody"', '"daskel-9"'): "this machine has no account daskel-9",
    }
    for changed, said in cases.items():
        site.write_text(changed)
        done = daskel("serve", "--site", site, "--loopback", str(free_base()))
        assert (done.returncode, said in done.stderr) == (3, True), done
    assert "no account daskel-9" in daskel("check", "--site", site).stdout
