"""Commands that change the site file: checked before, written as a whole, nothing else touched."""

from __future__ import annotations

import json
import signal
import tomllib
from pathlib import Path

import pytest

from daskel.core.dhcp.client_messages import SYSTEM
from daskel.rehearse.fetch import NfsRoot, get_address
from tests.conftest import SERVER, Serve, SiteText, daskel


def site_of(folder: Path) -> dict[str, dict[str, dict[str, object]]]:
    return tomllib.loads((folder / "daskel.toml").read_text())


EDITS = [  # words, kind, name, what is written
    (["client", "add", "tide-13", "mac=02-61-08-00-00-0D", "group=tide"], "client", "tide-13", {"mac": "02-61-08-00-00-0D", "group": "tide"}),
    (["client", "add", "x", "mac=026108000010", "group=tide", "group=lib", "args=a", "args=b=1,2"], "client", "x", {"mac": "026108000010", "group": ["tide", "lib"], "args": ["a", "b=1,2"]}),
    (["client", "set", "lib-01", "boot=rescue", "address="], "client", "lib-01", {"mac": "02:61:09:00:00:01", "group": "lib", "boot": "rescue"}),
    (["client", "set", "lib-01", "options.desk-broker=b", "options.interface-mtu=1400"], "client", "lib-01", {"mac": "02:61:09:00:00:01", "group": "lib", "address": "10.61.9.21", "options": {"desk-broker": "b", "interface-mtu": 1400}}),
    (["client", "rename", "lib-01", "desk"], "client", "desk", {"mac": "02:61:09:00:00:01", "group": "lib", "address": "10.61.9.21"}),
    (["group", "set", "tide", "options.ntp-servers=false"], "group", "tide", {"segment": "tideroom", "boot": "tideroom", "options": {"desk-broker": "broker.skerry.example", "ntp-servers": False}}),
    (["loadout", "copy", "rescue", "try", "args=debug"], "loadout", "try", {"kernel": "rescue/vmlinuz", "initrd": ["rescue/initrd.img"], "args": ["debug"]}),
    (["loadout", "copy", "rescue", "try", "args+=debug", "args+=x", "args-=x"], "loadout", "try", {"kernel": "rescue/vmlinuz", "initrd": ["rescue/initrd.img"], "args": ["debug"]}),
    (["client", "set", "tide-01", "args-=-quiet", "args+=a"], "client", "tide-01", {"mac": "02:61:08:00:00:01", "group": "tide", "address": "10.61.8.21", "args": ["console=ttyS0,115200", "a"], "place": "A1"}),
    (["assign", "buoy-1", "rescue"], "client", "buoy-1", {"mac": "02:61:0a:00:00:01", "group": "buoy", "boot": "rescue"}),
    (["assign", "lib", "tideroom"], "group", "lib", {"segment": "library", "boot": "tideroom", "firmware": "uefi-x64"}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("words", "kind", "name", "expected"), EDITS, ids=[" ".join(e[0]) for e in EDITS]
)
def test_edits(
    demo_folder: Path, words: list[str], kind: str, name: str, expected: dict[str, object]
) -> None:
    before = SiteText((demo_folder / "daskel.toml").read_text())
    dry = daskel(*words, "--dry-run", cwd=demo_folder)
    assert dry.returncode == 0 and (demo_folder / "daskel.toml").read_text() == before
    done = daskel(*words, cwd=demo_folder)
    assert done.returncode == 0, done.stderr
    assert site_of(demo_folder)[kind][name] == expected
    after = (demo_folder / "daskel.toml").read_text()
    changed = [
        line
        for line in dry.stdout.splitlines()
        if line[:1] in "+-" and line[:3] not in ("+++", "---")
    ]
    assert changed and [line for line in done.stdout.splitlines() if line in changed] == changed
    kept = [line for line in before.splitlines() if f"-{line}" not in changed]
    assert [line for line in after.splitlines() if f"+{line}" not in changed or line in kept][
        : len(kept)
    ]
    assert after.startswith(before.split("\n[", 1)[0]), "the head and its comments stay"
    assert sorted(path.name for path in demo_folder.iterdir()) == ["daskel.toml", "files", "roots"]


REFUSED = [
    (["client", "add", "tide-01", "mac=026108000044"], 2, "is there already"),
    (["client", "add", "new", "mac=02:61:08:00:00:01", "group=tide"], 1, "which tide-01 has"),
    (["client", "add", "new", "group=tide"], 2, "'mac' is missing"),
    (["client", "set", "tide-01", "boot=resque"], 2, "did you mean rescue?"),
    (["client", "set", "tide-01", "bot=rescue"], 2, "did you mean boot?"),
    (["client", "set", "tide-99", "boot=rescue"], 2, "did you mean tide-"),
    (["client", "set", "tide-01", "address=10.61.9.5"], 1, "is not inside the network"),
    (["loadout", "remove", "rescue"], 2, "there is no loadout 'rescue'"),
    (["group", "remove", "tide"], 2, "there is no group 'tide'"),
    (["assign", "tide-1", "rescue"], 2, "did you mean tide-"),
    (["client", "import", "none.csv"], 3, "cannot read none.csv"),
]


@pytest.mark.parametrize(("words", "code", "said"), REFUSED, ids=[" ".join(r[0]) for r in REFUSED])
def test_what_would_break_the_site_is_not_written(
    demo_folder: Path, words: list[str], code: int, said: str
) -> None:
    before = SiteText((demo_folder / "daskel.toml").read_text())
    done = daskel(*words, cwd=demo_folder)
    assert done.returncode == code, done.stdout + done.stderr
    assert said in done.stdout + done.stderr and "Traceback" not in done.stderr
    assert (demo_folder / "daskel.toml").read_text() == before


def test_an_old_mistake_does_not_hinder_a_new_edit(demo_folder: Path) -> None:
    (demo_folder / "files/rescue/vmlinuz").unlink()
    assert daskel("client", "set", "tide-01", "boot=notebook", cwd=demo_folder).returncode == 0
    assert site_of(demo_folder)["client"]["tide-01"]["boot"] == "notebook"


def test_out_to_a_spreadsheet_and_back(demo_folder: Path) -> None:
    exported = daskel("client", "export", cwd=demo_folder).stdout
    assert (
        exported.splitlines()[1]
        == 'tide-01,02:61:08:00:00:01,tide,10.61.8.21,,"-quiet console=ttyS0,115200"'
    )
    before = json.loads(daskel("client", "list", "--json", cwd=demo_folder).stdout)
    names = [client["name"] for client in before]
    assert daskel("client", "remove", *names, cwd=demo_folder).returncode == 0
    assert "client" not in site_of(demo_folder)
    (demo_folder / "room.csv").write_text(exported)
    done = daskel("client", "import", "room.csv", cwd=demo_folder)
    assert done.returncode == 0 and "22 clients imported." in done.stdout
    assert json.loads(daskel("client", "list", "--json", cwd=demo_folder).stdout) == before
    site = (demo_folder / "daskel.toml").read_text().split("[client.")[0]
    (demo_folder / "daskel.toml").write_text('clients-from = "room.csv"\n' + site)
    assert json.loads(daskel("client", "list", "--json", cwd=demo_folder).stdout) == before
    by_hand = daskel("client", "set", "tide-01", "boot=rescue", cwd=demo_folder)
    assert by_hand.returncode == 2 and "stands in room.csv:2:" in by_hand.stderr


def test_an_included_file_is_edited_where_it_stands(demo_folder: Path) -> None:
    site = (demo_folder / "daskel.toml").read_text()
    (demo_folder / "daskel.toml").write_text('include = ["more/*.toml"]\n' + site)
    (demo_folder / "more").mkdir()
    more = demo_folder / "more" / "a.toml"
    more.write_text('[client.desk]  # by the door\nmac = "02:61:08:00:00:21"\ngroup = "tide"\n')
    more.chmod(0o640)
    assert daskel("assign", "desk", "rescue", cwd=demo_folder).returncode == 0
    assert (
        more.read_text()
        == '[client.desk]  # by the door\nmac = "02:61:08:00:00:21"\ngroup = "tide"\nboot = "rescue"\n'
    )
    assert more.stat().st_mode & 0o777 == 0o640


def test_a_running_server_takes_changes_over(serve: Serve, demo_folder: Path) -> None:
    serving = serve(demo_folder)
    own = get_address(serving.wire, SERVER, SYSTEM, "02:61:08:00:00:01", 1).yiaddr
    root = NfsRoot(serving.wire, own, SERVER, "/roots/notebook")
    daskel("client", "add", "tide-13", "mac=02:61:08:00:00:0d", "group=tide", cwd=demo_folder)
    serving.process.send_signal(signal.SIGHUP)
    assert "23 clients" in serving.wait_for("taken over")["text"]
    assert len(list(root.files())) >= 6, "what is mounted stays mounted"
    root.close()
    get_address(serving.wire, SERVER, SYSTEM, "02:61:08:00:00:0d", 2)
    serving.wait_for("addressed", client="tide-13")
    good = SiteText((demo_folder / "daskel.toml").read_text())
    (demo_folder / "daskel.toml").write_text(good.replace('dhcp = "full"', 'dhcp = "ful"'))
    serving.process.send_signal(signal.SIGHUP)
    assert "2 findings" in serving.wait_for("kept")["text"]
    assert (
        "did you mean" in serving.wait_for("finding")["text"]
        or "write" in serving.wait_for("finding")["text"]
    )
    (demo_folder / "daskel.toml").write_text(
        good.replace('server = "10.61.9.1"', 'server = "10.61.9.2"')
    )
    serving.process.send_signal(signal.SIGHUP)
    for _ in range(100):
        if "start daskel serve again" in serving.events("kept")[-1]["text"]:
            break
        serving.wait_for("kept")
    assert serving.process.poll() is None
    assert serving.stop() == 0
