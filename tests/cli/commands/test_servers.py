"""Two servers of the demo site with one PostgreSQL, and the commands that look at them."""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from daskel.demo.data import lay_out
from daskel.store.database import Store
from tests.cli.commands.test_boots import booted
from tests.conftest import Serve, Serving, SiteText, daskel, until
from tests.postgres import Postgres, needs_postgres, running
from tests.ssh_server import needs_ssh, sshd

pytestmark = needs_postgres

SERVERS = """[server.north]
addresses = { tideroom = "10.61.8.1", library = "10.61.9.1", boathouse = "10.61.8.1" }
[server.south]
addresses = { tideroom = "10.61.8.2", library = "10.61.9.2", boathouse = "10.61.8.2" }
"""
IPV6 = ("network6", "server6", "pool6")
AT = {"north": IPv4Address("10.61.8.1"), "south": IPv4Address("10.61.8.2")}
_NUMBERS = count(1)


@pytest.fixture(scope="module")
def postgres() -> Iterator[Postgres]:
    with running() as made:
        yield made


def lay_out_server(folder: Path, url: str) -> Path:
    folder.mkdir()
    site = lay_out(folder)
    lines = site.read_text().splitlines(keepends=True)
    text = SiteText("".join(line for line in lines if not line.startswith(("server =", *IPV6))))
    text = text.replace('state = "state.db"', f'state = "{url}"\nlocal = "."', 1)
    text = text.replace("[segment.tideroom]", f"{SERVERS}\n[segment.tideroom]", 1)
    site.write_text(text.replace('lease = "8h"\n', 'lease = "8h"\nunknown = "lobby"\n', 1))
    return folder


@dataclass
class Pair:
    """Two servers, each with a folder of its own."""

    folders: dict[str, Path]
    serving: dict[str, Serving]
    url: str

    def run(self, name: str, *words: str) -> Any:
        return daskel(*words, cwd=self.folders[name])

    def json(self, name: str, *words: str) -> Any:
        return json.loads(self.run(name, *words, "--json").stdout)

    def rows(self, name: str) -> dict[str, dict[str, Any]]:
        return {row["name"]: row for row in self.json(name, "servers")["servers"]}

    def boot(self, name: str, client: str, mac: str) -> Any:
        return booted(client, mac, "bios", self.serving[name], AT[name])


@pytest.fixture
def pair(postgres: Postgres, serve: Serve, tmp_path: Path) -> Pair:
    url = postgres.create(f"site{next(_NUMBERS)}")
    folders = {name: lay_out_server(tmp_path / name, url) for name in AT}
    serving = {name: serve(folders[name], more=("--as", name)) for name in AT}
    return Pair(folders, serving, url)


def test_each_sees_what_happens_at_the_other(pair: Pair) -> None:
    until(lambda: set(pair.rows("south")) == set(AT))
    done = pair.boot("north", "tide-01", "02:61:08:00:00:01")
    assert done.stage == "root" and done.address == IPv4Address("10.61.8.21"), done
    pair.boot("north", "", "02:61:ff:00:00:01")

    def seen() -> bool:
        boots = {row["client"]: row for row in pair.json("south", "boots", "list")}
        waiting = [row["mac"] for row in pair.json("south", "lobby", "list")]
        return boots.get("tide-01", {}).get("stage") == "root" and bool(waiting)

    until(seen, lambda: pair.run("south", "boots", "list").stdout, 0.3)
    shown = pair.run("south", "boots", "show", "tide-01").stdout
    assert "loader/bios.img" in shown
    watched = json.loads(
        subprocess.run(
            ["timeout", "4", sys.executable, "-m", "daskel", "watch", "--json"],
            cwd=pair.folders["south"], capture_output=True, text=True, check=False,
        ).stdout.splitlines()[-1]
    )  # fmt: skip
    assert watched["server"] == "north", watched
    assert pair.run("south", "lobby", "forget", "all").returncode == 0
    until(lambda: pair.json("north", "lobby", "list") == [])
    assert pair.run("south", "assign", "tide-01", "rescue", "--once").returncode == 0
    until(lambda: "rescue" in pair.run("north", "explain", "tide-01").stdout)
    rescued = pair.boot("north", "tide-01", "02:61:08:00:00:01")
    assert "rescue" in [got.path.split("/")[0] for got in rescued.files], rescued
    until(lambda: "boots next" not in pair.run("south", "explain", "tide-01").stdout)
    until(lambda: pair.rows("south")["north"]["leases"] == 2, pause=0.5)
    until(lambda: len({row["number"] for row in pair.json("south", "boots", "list")}) == 3)


def test_a_server_with_another_site_file(pair: Pair) -> None:
    until(lambda: set(pair.rows("north")) == set(AT))
    assert pair.run("north", "servers").returncode == 0
    site = pair.folders["north"] / "daskel.toml"
    site.write_text(SiteText(site.read_text()).replace('"quiet", ', '"verbose", ', 1))
    applied = pair.run("north", "apply", "--yes")
    assert applied.returncode == 1 and "south has another site file" in applied.stdout
    pair.serving["south"].wait_for("kept")
    until(lambda: pair.rows("north")["south"]["differs"] == ["daskel.toml"], pause=0.3)
    shown = pair.run("north", "servers")
    assert shown.returncode == 1 and "south has an older daskel.toml" in shown.stdout, shown
    compared = pair.run("north", "servers", "--compare", "south")
    assert "argument verbose removed" in compared.stdout and "tide-01" in compared.stdout
    assert "has an older daskel.toml" in pair.run("north", "check").stdout
    assert "has other site files" in pair.run("south", "status").stdout
    assert pair.run("north", "servers", "--compare", "west").returncode == 2
    shutil.copy(site, pair.folders["south"])
    applied = pair.run("north", "apply", "--yes")
    site.write_text(site.read_text() + "# nothing\n")
    shutil.copy(site, pair.folders["south"])
    applied = pair.run("north", "apply", "--yes")
    assert applied.returncode == 0 and "south has taken it over, too" in applied.stdout
    assert "verbose" in pair.run("south", "explain", "tide-02").stdout


def test_a_root_that_a_server_lacks(pair: Pair) -> None:
    until(lambda: set(pair.rows("north")) == set(AT))
    assert pair.run("north", "root", "seal", "notebook", "--yes").returncode == 0
    lacks = [{"root": "notebook", "version": "1", "how": "missing"}]
    until(lambda: pair.rows("north")["south"]["lacks"] == lacks, pause=0.3)
    shown = pair.run("north", "servers")
    assert shown.returncode == 1 and "south lacks version 1 of the root notebook" in shown.stdout
    assert "server south lacks version 1" in pair.run("north", "check").stdout
    assert not pair.rows("south")["north"]["lacks"], "it has more"


def test_a_server_and_a_database_that_are_away(pair: Pair, postgres: Postgres) -> None:
    until(lambda: set(pair.rows("north")) == set(AT))
    booted_before = pair.boot("north", "tide-01", "02:61:08:00:00:01")
    assert booted_before.stage == "root"
    pair.serving["south"].stop()
    until(lambda: not pair.rows("north")["south"]["alive"], pause=0.3)
    assert "Server south is away" in pair.run("north", "status").stdout
    assert pair.run("north", "assign", "tide-01", "rescue", "--once").returncode == 0
    with postgres.frozen():
        until(lambda: pair.json("north", "status")["away"], pause=0.3)
        shown = pair.run("north", "servers")
        assert shown.returncode == 1 and "The database has not answered" in shown.stdout
        rescued = pair.boot("north", "tide-01", "02:61:08:00:00:01")
        assert rescued.address == booted_before.address, "it is known"
        assert "rescue" in [got.path.split("/")[0] for got in rescued.files], rescued
        assert not pair.boot("north", "", "02:61:ff:00:00:09").address, "nobody can promise it one"
        refused = pair.run("north", "boots", "list")
        assert (refused.returncode, "does not answer" in refused.stderr) == (3, True), refused
    until(lambda: not pair.json("north", "status")["away"], pause=0.3)
    assert pair.boot("north", "tide-02", "02:61:08:00:00:02").stage == "root"
    time.sleep(2)  # the assignment for one boot was used up while the database was away
    assert pair.boot("north", "tide-01", "02:61:08:00:00:01").stage == "root"


def test_without_a_server_here(pair: Pair) -> None:
    for serving in pair.serving.values():
        serving.stop()
    said = pair.run("north", "explain", "tide-01")
    assert said.returncode == 0 and "nothing is known of leases" in said.stderr
    for words in (["servers"], ["boots", "list"], ["assign", "tide-01", "rescue", "--once"]):
        lacking = pair.run("north", *words)
        assert lacking.returncode == 3 and "no server of this site runs here" in lacking.stderr
    assert "it answers, and can be written" in pair.run("north", "store", "check").stdout
    assert pair.run("north", "serve", "--loopback").returncode == 3, "which of the two?"
    unknown = pair.run("north", "serve", "--loopback", "--as", "nord")
    assert unknown.returncode == 3 and "did you mean" in unknown.stderr, unknown


def test_what_is_typed_into_another_server_names_one_of_them(pair: Pair) -> None:
    shown = pair.run("north", "handoff", "tideroom", "--as", "south").stdout
    assert "10.61.8.2:/roots/notebook" in shown and "10.61.8.1:/" not in shown, shown
    assert "daskel handoff tideroom --as north" in shown
    assert pair.json("north", "handoff", "tideroom", "--as", "south")["server"] == "south"
    assert "10.61.8.2" in pair.run("north", "explain", "tide-01", "--as", "south").stdout
    assert pair.run("north", "handoff", "tideroom", "--as", "sout").returncode == 3


def test_a_name_that_is_taken(pair: Pair) -> None:
    folder = pair.folders["north"].with_name("again")
    shutil.copytree(pair.folders["north"], folder, ignore=shutil.ignore_patterns("*.socket"))
    done = daskel("serve", "--loopback", "--as", "north", cwd=folder)
    assert done.returncode == 3 and "north runs already" in done.stderr, done


def test_a_store_moves_to_a_database_and_back(
    postgres: Postgres, serve: Serve, demo_folder: Path
) -> None:
    serving = serve(demo_folder)
    booted("tide-01", "02:61:08:00:00:01", "bios", serving)
    until(lambda: "root" in daskel("boots", "list", cwd=demo_folder).stdout, pause=0.3)
    url = postgres.create(f"site{next(_NUMBERS)}")
    copy = ("store", "copy", "state.db", url, "--json")
    refused = daskel(*copy, cwd=demo_folder)
    assert refused.returncode == 3 and "runs here" in refused.stdout
    serving.stop()
    rows = {"leases": 1, "boots": 1, "sightings": 0, "once": 0}
    for more, written in ((("--dry-run",), False), ((), True)):
        done = json.loads(daskel(*copy, *more, cwd=demo_folder).stdout)
        assert done == {"written": written, "rows": rows}
    again = daskel(*copy, cwd=demo_folder)
    assert again.returncode == 2 and "has something in it: leases 1" in again.stdout
    back = daskel("store", "copy", url, "back.db", "--json", cwd=demo_folder)
    assert json.loads(back.stdout)["rows"] == rows
    before, after = (Store(demo_folder / name) for name in ("state.db", "back.db"))
    assert before.load().all() == after.load().all() and after.load().all()[0].expires > time.time()
    assert next(after.numbers()) == 2
    before.close()
    after.close()


def test_a_kept_slate_is_at_home_on_one_server(pair: Pair) -> None:
    """Its client boots from there alone; when that server is away, it is told why it does not."""
    until(lambda: set(pair.rows("north")) == set(AT) == set(pair.rows("south")))
    macs = {f"tide-{n:02}": f"02:61:08:00:00:{n:02x}" for n in (1, 2)}
    for name, mac in macs.items():
        assert pair.boot("north", name, mac).stage == "root"
        assert (pair.folders["north"] / "slates/notebook" / name).exists()
    time.sleep(1)
    for name, mac in macs.items():
        answered = pair.boot("south", name, mac)
        assert not answered.address, "north has its slate, and is alive"
    pair.serving["north"].stop()
    until(lambda: not pair.rows("south")["north"]["alive"], pause=0.3)
    assert not pair.boot("south", "tide-01", macs["tide-01"]).address
    refused = pair.serving["south"].wait_for("refused", client="tide-01")
    assert "its slates are on the server north, which is away" in refused["reason"]
    said = pair.run("south", "diagnose", "tide-01").stdout
    assert "its slates are on the server north" in said and 'keep-elsewhere = "fresh"' in said
    moved = pair.run("south", "slate", "home", "tide-01", "south", "--yes")
    assert moved.returncode == 0 and "no longer on north" in moved.stdout, moved
    assert pair.boot("south", "tide-01", macs["tide-01"]).stage == "root"
    assert pair.run("south", "slate", "home", "tide-01", "west", "--yes").returncode == 2
    catalogue = pair.boot("south", "buoy-1", "02:61:0a:00:00:01")
    assert catalogue.stage != "nothing" or catalogue.problem, "who keeps nothing goes on"


def test_a_fresh_slate_while_its_server_is_away(pair: Pair) -> None:
    client = ("tide-01", "02:61:08:00:00:01")
    for folder in pair.folders.values():
        site = SiteText((folder / "daskel.toml").read_text())
        text = site.replace("[site]\n", '[site]\nkeep-elsewhere = "fresh"\n', 1)
        (folder / "daskel.toml").write_text(text)
    assert pair.run("north", "apply", "--yes").returncode == 0
    assert pair.boot("north", *client).stage == "root"
    time.sleep(1)
    assert not pair.boot("south", *client).address, "north has its slate, and is alive"
    pair.serving["north"].stop()
    until(lambda: not pair.rows("south")["north"]["alive"], pause=0.3)
    assert pair.boot("south", *client).stage == "root"
    here = pair.folders["south"] / "slates"
    assert (here / ".elsewhere/notebook/tide-01/upper").is_dir()
    assert not (here / "notebook").exists(), "nothing of it is kept"
    (here / ".elsewhere/notebook/tide-01/upper/written").touch()
    assert pair.boot("south", *client).stage == "root"
    assert not (here / ".elsewhere/notebook/tide-01/upper/written").exists()
    moved = pair.run("south", "slate", "home", "tide-01", "south", "--yes")
    assert moved.returncode == 0, moved
    assert pair.boot("south", *client).stage == "root"
    assert (here / "notebook/tide-01/upper").is_dir()


class TestCopying:
    """By ssh and rsync, to a server that is this very machine, with another folder."""

    pytestmark = needs_ssh

    @pytest.fixture(autouse=True)
    def programs(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
        (tmp_path / "ssh").mkdir()
        path = os.environ["PATH"]
        own = f"PATH={Path(sys.executable).parent}:{path} PYTHONPATH={os.environ.get('PYTHONPATH', '')}"
        with sshd(
            tmp_path / "ssh", f'export {own}; exec /bin/sh -c "$SSH_ORIGINAL_COMMAND"'
        ) as found:
            monkeypatch.setenv("PATH", f"{found}:{path}")
            yield found

    def test_a_version_is_sent(self, pair: Pair) -> None:
        until(lambda: set(pair.rows("north")) == set(AT))
        tree = pair.folders["north"] / "roots/notebook"
        (tree / "large").write_bytes(os.urandom(1 << 20))
        os.link(tree / "large", tree / "linked")
        os.setxattr(tree / "large", "user.note", b"kept")
        os.chown(tree / "large", 1000, 42)
        for _ in range(2):
            assert pair.run("north", "root", "seal", "notebook", "--yes", "--use").returncode == 0
            (tree / "small").write_text("of version 2")
        send = ("root", "send", "notebook")
        refused = pair.run("north", *send, "7", "south")
        assert refused.returncode == 2 and "no version 7" in refused.stderr, refused
        assert pair.run("north", *send, "nord").returncode == 2
        assert "is this server" in pair.run("north", *send, "north").stderr
        first = pair.run("north", *send, "1", "south")
        assert first.returncode == 0 and "its digest is the same" in first.stdout, first
        done = pair.json("north", *send, "2", "south", "--use")
        assert (done["sent"], done["used"]) == (True, 2), done
        there = pair.folders["south"] / "roots/.versions/notebook"
        shared = [(there / n / "large").stat() for n in ("1", "2")]
        assert shared[0].st_ino == shared[1].st_ino and shared[0].st_nlink == 4, "links are kept"
        assert os.getxattr(there / "2/large", "user.note") == b"kept"
        assert (shared[0].st_uid, shared[0].st_gid) == (1000, 42)
        until(lambda: not pair.rows("north")["south"]["lacks"], pause=0.3)
        again = pair.run("north", *send, "south")
        assert again.returncode == 0 and "had it already" in again.stdout, again
        assert not (there / ".arriving/2").exists()

    def test_a_version_that_is_another_one_there(self, pair: Pair) -> None:
        until(lambda: set(pair.rows("north")) == set(AT))
        (pair.folders["south"] / "roots/notebook/other").touch()
        for name in AT:
            assert pair.run(name, "root", "seal", "notebook", "--yes").returncode == 0
        refused = pair.run("north", "root", "send", "notebook", "south")
        assert refused.returncode == 3 and "is another one here" in refused.stderr, refused

    def test_what_was_changed_on_the_way(self, pair: Pair, programs: Path) -> None:
        """And one that was broken off goes on."""
        until(lambda: set(pair.rows("north")) == set(AT))
        assert pair.run("north", "root", "seal", "notebook", "--yes").returncode == 0
        rsync = programs / "rsync"
        real = shutil.which("rsync")
        rsync.write_text(f'#!/bin/sh\n{real} "$@"\nexit 12\n')
        rsync.chmod(0o755)
        broken = pair.run("north", "root", "send", "notebook", "south")
        assert broken.returncode == 3 and "was not copied whole" in broken.stderr, broken
        rsync.unlink()
        arrived = pair.folders["south"] / "roots/.versions/notebook/.arriving/1"
        assert any((arrived / "tree").iterdir())
        refused = pair.run("south", "root", "receive", "notebook", "1")
        assert refused.returncode == 3 and "has not arrived" in refused.stderr, refused
        done = pair.run("north", "root", "send", "notebook", "south")
        assert done.returncode == 0, done
        state = pair.folders["south"] / "roots/.versions/notebook/root.json"
        assert json.loads(state.read_text())["used"] == 1

    def test_slates_move(self, pair: Pair) -> None:
        until(lambda: set(pair.rows("north")) == set(AT))
        client = ("tide-01", "02:61:08:00:00:01")
        assert pair.boot("north", *client).stage == "root"
        move = ("slate", "move", "tide-01", "south", "--yes")
        tree = pair.run("north", *move)
        assert tree.returncode == 1 and "is on the working tree" in tree.stderr, tree
        assert pair.run("north", "root", "seal", "notebook", "--yes").returncode == 0
        assert pair.run("north", "slate", "rebase", "tide-01", "--yes").returncode == 0
        upper = pair.folders["north"] / "slates/notebook/tide-01/upper"
        (upper / "mine").write_text("of a person")
        os.mknod(upper / "gone", stat.S_IFCHR)
        os.setxattr(upper, "trusted.overlay.opaque", b"y")
        os.setxattr(upper, "trusted.overlay.uuid", b"of this disk")
        refused = pair.run("north", *move)
        assert refused.returncode == 3 and "root send notebook 1" in refused.stderr, refused
        assert pair.boot("north", *client).stage == "root", "it boots as before"
        assert pair.run("north", "root", "send", "notebook", "south").returncode == 0
        assert pair.run("south", *move).returncode != 0, "they are not there"
        done = pair.run("north", *move)
        assert done.returncode == 0 and "are on south from now on" in done.stdout, done
        assert not upper.exists()
        there = pair.folders["south"] / "slates/notebook/tide-01/upper"
        assert (there / "mine").read_text() == "of a person"
        assert stat.S_ISCHR((there / "gone").stat().st_mode)
        assert os.listxattr(there) == ["trusted.overlay.opaque"]
        assert pair.boot("south", *client).stage == "root"
        time.sleep(1)
        assert not pair.boot("north", *client).address
        back = pair.run("south", "slate", "move", "tide-01", "north", "--json", "--yes")
        assert json.loads(back.stdout) == {"home": "north", "before": "south", "slates": 1}
