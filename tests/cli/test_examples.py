"""Every example of every help, typed as it stands there, on the demo site with a running server."""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.cli.main import _apart, parser
from daskel.demo.data import lay_out
from tests.cli.commands.test_boots import CAPTURES, booted
from tests.conftest import PATIENCE, Serve, SiteText, daskel, until

NOT_RUN = {  # what is tested elsewhere, or does not end by itself
    "daskel root build terminal --list text-terminal": "tests/vm",
    "daskel root edit notebook -- apt-get upgrade": "tests/system/roots",
    "daskel root import notebook root@10.61.8.50:/ --fit": "tests/system/roots",
    "daskel rehearse tide-01 --machine": "tests/vm",
    "daskel rehearse tide --storm 300 --within 5s --plot storm.png": "tests/cli/commands",
    "daskel serve": "ends with a signal",
    "daskel serve --loopback": "ends with a signal",
    "daskel serve --until-done tide": "tests/cli/commands",
    "daskel serve --record packets": "tests/vm",
    "daskel serve --as north": "tests/cli/commands/test_servers.py",
    "daskel watch": "ends with a key",
    "daskel watch tide": "ends with a key",
    "daskel watch tide --room": "ends with a key",
    "daskel watch --plain | tee monday.log": "ends with a signal",
    'eval "$(daskel completion zsh)"': "another shell's",
    "daskel completion fish > ~/.config/fish/completions/daskel.fish": "writes into a home",
    "daskel wake tide lib --pace 2/s --at 07:30": "waits until then",
    "daskel demo --keep /tmp/skerry-point": "writes outside of the test's folder",
}
CODES = {  # other than 0
    "daskel survey --wire enp3s0": {2, 3},  # it has no such interface
    "daskel new skerry-point": {2},  # nobody is there to ask
    "daskel root import notebook notebook.img": {2, 3},
    "daskel root files notebook": {1, 3},  # and has no kernel in it
    "daskel check --site /etc/daskel/daskel.toml --json": {3},  # there is none
    "daskel files add rescue rescue.iso": {2, 3},
    "daskel files add live live.iso --choice tideroom": {1},  # there is no such image
    "daskel lobby refuse 02:61:08:00:00:0d": {0, 2},  # or it does not wait any more
    "daskel root pack notebook": {3},  # it has no kernel, nor perl
    "daskel root drop notebook 1": {1},  # tide-01 has a slate on it
    "daskel client import room.csv": {2},  # they are all in the site already
    "daskel group remove tide": {2},  # clients are in it
    "daskel loadout remove rescue": {2},  # a choice has it
    "daskel wake tide": {3},  # this machine does not have the server's address
    "daskel wake tide --pace forecast --wait 10min": {3},
    "daskel boots report --week 2026-11-23 --plot week.png": {0, 1},
    "daskel slate copy-out tide-01 home ./from-tide-01": {1},  # which it did not change
    "daskel lobby admit all --name 'tide-{:02}' --group tide": {0, 2},  # or nobody waits any more
    "daskel lobby forget all": {0, 2},
    "daskel boots plot monday.png --day 2026-11-23 --against 2026-11-16": {1},  # nothing booted
    "daskel store restore --dry-run": {3},  # the server runs
    "daskel slate home tide-01 south": {2},  # the demo has one server
    "daskel slate move tide-01 south": {2},
    "daskel root send notebook south": {2},
    "daskel root receive notebook 3": {0, 3},  # where nobody sealed it before
    "daskel slate receive tide-01 --root notebook --digest 9f86d081884c7d65": {1},
    "daskel store copy state.db postgresql://daskel@db.skerry.example/daskel --dry-run": {3},
    "daskel keys list": {3},  # nor a tunnel
    "daskel keys revoke tide-01": {3},
    "daskel keys renew": {3},
    "daskel lobby admit tide-01 --word JTLB6S": {3},
    "daskel keys show": {1},  # the demo site has no key; tests/cli/commands/test_keys.py has
    "daskel keys enrol mok": {1},
    "daskel keys https": {1},
    "daskel diagnose tide-04": {1},  # it says why it does not boot
    "daskel diagnose --capture monday.pcapng": {1},
    "daskel diagnose tide-04 --capture monday.pcapng": {1, 2},
}


def examples(of: argparse.ArgumentParser) -> Iterator[str]:
    lines = (of.epilog or "").removeprefix("example:").split("\n")
    yield from (line.partition(" #")[0].strip() for line in lines if "daskel " in line)
    for action in of._actions:
        if isinstance(action, argparse._SubParsersAction):
            for verb in action.choices.values():
                yield from examples(verb)


ALL = list(dict.fromkeys(line for line in examples(parser()) if not line.startswith("Begin")))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory, serve_for_all: Serve) -> Path:
    """The demo site, whose server has seen tide-01 boot, tide-04 find no kernel, and a stranger."""
    made = tmp_path_factory.mktemp("room")
    site = lay_out(made)
    text = SiteText(site.read_text()).replace(
        'lease = "8h"\n', 'lease = "8h"\nunknown = "lobby"\n', 1
    )
    site.write_text(text.replace("[client.tide-04]\n", '[client.tide-04]\nboot = "rescue"\n'))
    for note in ("first", "second"):
        assert daskel("root", "seal", "notebook", "--note", note, "--yes", cwd=made).returncode == 0
    serving = serve_for_all(made)
    kernel = made / "files/rescue/vmlinuz"
    kernel.rename(kernel.with_name("away"))
    booted("tide-99", "02:61:08:00:00:0d", "bios", serving)
    booted("tide-04", "02:61:08:00:00:04", "bios", serving)
    booted("tide-01", "02:61:08:00:00:01", "bios", serving)
    kernel.with_name("away").rename(kernel)
    until(lambda: "root" in daskel("boots", "list", "tide-01", cwd=made).stdout)
    shutil.copy(CAPTURES / "file-missing.pcap", made / "monday.pcapng")
    return made


@pytest.mark.parametrize("line", [line for line in ALL if line not in NOT_RUN])
def test_an_example(folder: Path, line: str) -> None:
    """As it is typed; what it changed in the site file is put back."""
    site = (folder / "daskel.toml").read_text()
    program = Path(sys.executable).parent
    typed = f"{line} --yes" if "--dry-run" not in line and takes_yes(line) else line
    done = subprocess.run(
        typed, shell=True, executable="/bin/bash", cwd=folder, stdin=subprocess.DEVNULL, capture_output=True, text=True,
        env={**os.environ, "PATH": f"{program}:{os.environ['PATH']}"}, timeout=PATIENCE, check=False,
    )  # fmt: skip
    (folder / "daskel.toml").write_text(site)
    assert done.returncode in CODES.get(line, {0}) and "usage:" not in done.stderr, done


def takes_yes(line: str) -> bool:
    words = _apart(shlex.split(line.partition(">")[0].partition("|")[0])[1:])[0]
    try:
        parser(words[0]).parse_args([*words, "--yes"])
    except SystemExit:
        return False
    return True


def test_what_is_not_run_can_be_typed() -> None:
    for line in NOT_RUN:
        assert line in ALL, line
        typed = line.removeprefix('eval "$(').removesuffix(')"').partition("|")[0]
        words = _apart(shlex.split(typed.partition(">")[0])[1:])[0]
        parser(words[0]).parse_args(words)
