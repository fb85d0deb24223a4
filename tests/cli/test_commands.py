"""The installed program, on files in a temporary folder."""

from __future__ import annotations

import argparse
import io
import json
import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from daskel.cli import main
from daskel.cli.main import COMMANDS
from daskel.cli.output import Output
from daskel.cli.usage import UsageProblem
from tests.conftest import PATIENCE, SiteText, daskel


def test_every_command_has_help_with_an_example() -> None:
    top = daskel("--help").stdout
    for name, text in COMMANDS.items():
        assert name in top and text in " ".join(top.split())
        shown = daskel(name, "--help").stdout.partition("example:\n")[2]
        assert f"daskel {name}" in shown.partition("\n")[0]


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_shell_learns_to_complete(shell: str) -> None:
    done = daskel("completion", shell)
    assert done.returncode == 0 and "daskel" in done.stdout
    if shell == "bash":
        subprocess.run(["bash", "-n"], input=done.stdout, text=True, check=True)


def test_completion(demo_folder: Path) -> None:
    def complete(line: str) -> list[str]:
        told = {"_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line))}
        told |= {"_ARGCOMPLETE_STDOUT_FILENAME": str(demo_folder / "completed")}
        program = Path(sys.executable).with_name("daskel")
        environment = {**os.environ, **told}
        subprocess.run([program], cwd=demo_folder, env=environment, check=True, timeout=PATIENCE)
        return SiteText((demo_folder / "completed").read_text()).replace("\v", "\n").split()

    assert set(COMMANDS) <= set(complete("daskel "))
    assert "lib-01" in complete("daskel explain lib-")
    assert "uefi-x64-http" in complete("daskel explain lib-01 --firmware ")


USAGE = [
    ([], 2),
    (["chek"], 2),
    (["explain"], 2),
    (["serve", "--loopback", "80"], 2),
    (["--version"], 0),
]


@pytest.mark.parametrize(("words", "code"), USAGE)
def test_usage(words: list[str], code: int) -> None:
    done = daskel(*words)
    assert done.returncode == code and "Traceback" not in done.stderr


def test_demo() -> None:
    done = daskel("demo", "--json")
    assert done.returncode == 0, done.stderr
    result = json.loads(done.stdout)
    assert result["good"] and len(result["clients"]) == 22
    by_name = {client["client"]: client for client in result["clients"]}
    assert {client["firmware"] for client in by_name.values()} == {
        "bios",
        "uefi-x64",
        "uefi-x64-http",
        "uefi-arm64",
    }
    for name, client in by_name.items():
        own = 0 if name.startswith("buoy") or os.geteuid() else 4  # made for a client's slate
        assert client["stage"] == "root" and client["problem"] is None
        whats = [file["what"] for file in client["files"]]
        assert whats == ["loader", "configuration", "kernel", "initrd"] + ["root"] * (6 + own)
    assert by_name["tide-01"]["address"] == "10.61.8.21"
    assert "console=ttyS0,115200" in by_name["tide-01"]["command_line"]
    assert "quiet" not in by_name["tide-01"]["command_line"]
    assert "quiet" in by_name["tide-02"]["command_line"]


@pytest.mark.skipif(os.geteuid() != 0, reason="it is without privileges already")
def test_demo_without_privileges() -> None:
    """Roots are read-only then, and found by name instead of by the kernel's handles."""
    command = [
        "setpriv",
        "--bounding-set=-all",
        Path(sys.executable).with_name("daskel"),
        "demo",
        "--json",
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    result = json.loads(done.stdout)
    assert result["good"], done.stderr
    roots = [f["what"] for f in result["clients"][0]["files"]].count("root")
    assert roots == 6, "none made for a slate"


def test_demo_does_not_overwrite(tmp_path: Path) -> None:
    (tmp_path / "mine").write_text("x")
    assert daskel("demo", "--keep", tmp_path).returncode == 2
    assert [path.name for path in tmp_path.iterdir()] == ["mine"]


def test_check_a_good_site(demo_folder: Path) -> None:
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 0
    assert "No findings." in done.stdout and "22 clients, 3 segments, 5 loadouts" in done.stdout
    found = json.loads(daskel("check", "--json", cwd=demo_folder).stdout)
    assert found == {"site": "daskel.toml", "good": True, "findings": []}


def test_check_of_a_root_that_is_wrong(demo_folder: Path) -> None:
    """What hangs on it is not looked at before it is right."""
    site = demo_folder / "daskel.toml"
    slips = SiteText(site.read_text()).replace('slate = "keep"', 'slate = "kept"')
    site.write_text(slips.replace('size = "2 GiB"', 'size = "2 gibs"'))
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 2 and not done.stderr
    assert 'slate = "kept" is not possible' in done.stdout and "is not a size" in done.stdout


def test_check_names_place_text_and_way_out(demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    site.write_text(
        SiteText(site.read_text()).replace(
            'group = "tide"\naddress = "10.61.8.22"', 'grup = "tide"'
        )
    )
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 2
    line = next(n for n, text in enumerate(site.read_text().splitlines(), 1) if "grup" in text)
    assert f"daskel.toml:{line}:1: invalid: there is no key 'grup' in [client.NAME]" in done.stdout
    assert '    | grup = "tide"\n    | ^^^^\n      did you mean group?' in done.stdout
    for command in (["serve", "--loopback"], ["explain", "tide-01"]):
        refused = daskel(*command, cwd=demo_folder)
        assert (
            refused.returncode == 2 and "grup" in refused.stdout and "ready" not in refused.stdout
        )
    found = json.loads(daskel("check", "--json", cwd=demo_folder).stdout)["findings"]
    assert found == [
        {
            "severity": "invalid",
            "place": {"file": "daskel.toml", "line": line, "column": 1},
            "text": "grup",
            "problem": "there is no key 'grup' in [client.NAME]",
            "remedy": "did you mean group?",
        }
    ]


def test_check_missing_files(demo_folder: Path) -> None:
    (demo_folder / "files/notebook/vmlinuz").rename(demo_folder / "files/notebook/vmlinuz-6")
    (demo_folder / "files/logger/Image").unlink()
    (demo_folder / "files/logger/Image").symlink_to("/etc/hostname")
    (demo_folder / "roots/logger").rename(demo_folder / "roots/loger")
    done = daskel("check", cwd=demo_folder)
    assert done.returncode == 1
    for text in (
        "kernel notebook/vmlinuz of loadout notebook: no such file",
        "did you mean notebook/vmlinuz-6?",
        "kernel logger/Image of loadout logger: it leads out of the files folder",
        "root logger: the folder",
    ):
        assert text in done.stdout, text
    refused = daskel("serve", "--loopback", cwd=demo_folder)
    assert refused.returncode == 1 and "vmlinuz" in refused.stdout, "nothing starts"


def test_explain(demo_folder: Path) -> None:
    text = (demo_folder / "daskel.toml").read_text().splitlines()
    found = json.loads(daskel("explain", "tide-01", "--json", cwd=demo_folder).stdout)
    steps = {step["title"]: step for step in found["steps"]}
    assert list(steps) == [
        "DHCP reply",
        "Boot loader",
        "Loader configuration",
        "Kernel",
        "Command line",
        "Root filesystem",
        "File",
    ]
    options = {value["option"]: value for value in steps["DHCP reply"]["values"]}
    assert options[3]["name"] == "router" and options[3]["value"] == "10.61.8.1"
    assert options[17]["value"].startswith("10.61.8.1:/roots/notebook,v3,tcp,port=2049")
    for step in found["steps"]:
        for value in step["values"]:
            place = value["from"]
            if place and value["name"] == "argument" and "=" in value["value"]:
                assert place["column"] <= len(text[place["line"] - 1])
    line = steps["Command line"]["text"]
    assert line.endswith("rw hostname=tide-01 console=ttyS0,115200")
    assert line in steps["Loader configuration"]["text"]
    by_value = {value["value"]: value["from"]["line"] for value in steps["Command line"]["values"]}
    assert text[by_value["console=ttyS0,115200"] - 1] == 'args = ["-quiet", "console=ttyS0,115200"]'


EXPLAINED = [
    (["02-61-08-00-00-01"], 0, "option"),
    (["lib-01", "--firmware", "uefi-x64-http"], 0, "http://10.61.9.1/loader/uefi-x64.efi"),
    (["lib-01", "--firmware", "uefi-x64"], 0, "loader/uefi-x64.efi"),
    (["buoy-1", "--firmware", "uefi-arm64"], 0, "loader/uefi-arm64.efi"),
    (["tide-13"], 2, "did you mean tide-"),
    (["02:61:ff:00:00:01"], 2, "there is no client"),
]


@pytest.mark.parametrize(("words", "code", "expected"), EXPLAINED)
def test_explain_clients(demo_folder: Path, words: list[str], code: int, expected: str) -> None:
    done = daskel("explain", *words, cwd=demo_folder)
    assert done.returncode == code
    assert expected in done.stdout + done.stderr


def test_explain_what_does_not_boot(demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    text = (
        SiteText(site.read_text())
        .replace(', "uefi-arm64"', "")
        .replace('boot = "catalogue"', 'boot = "disk"')
    )
    site.write_text(text)
    arm = daskel("explain", "buoy-1", "--firmware", "uefi-arm64", cwd=demo_folder)
    assert arm.returncode == 1 and "add it to loaders in [site]" in arm.stdout
    disk = daskel("explain", "lib-01", cwd=demo_folder)
    assert disk.returncode == 0 and "starts from its own disk" in disk.stdout


def test_what_is_lacking_is_said(tmp_path: Path, demo_folder: Path) -> None:
    done = daskel("check", cwd=tmp_path / "..")
    assert done.returncode == 3 and "--site" in done.stderr
    (demo_folder / "daskel.toml").write_text(
        SiteText((demo_folder / "daskel.toml").read_text()).replace(
            '"state.db"', '"/proc/none/state.db"'
        )
    )
    done = daskel("serve", "--loopback", cwd=demo_folder)
    assert done.returncode == 3 and "state" in done.stderr and "Traceback" not in done.stderr


def test_serve_without_the_segments_address(demo_folder: Path) -> None:
    with socket.socket() as sock, pytest.raises(OSError, match="assign"):
        sock.bind(("10.61.8.1", 0))  # is not this machine's
    done = daskel("serve", cwd=demo_folder)
    assert done.returncode == 3
    assert "no interface of this machine has segment tideroom's address 10.61.8.1" in done.stderr
    assert "ip address add 10.61.8.1/24" in done.stderr


def test_check_of_one_client(demo_folder: Path) -> None:
    site = demo_folder / "daskel.toml"
    text = SiteText(site.read_text()).replace('address = "10.61.8.21"', 'address = "10.61.8.121"')
    site.write_text(text.replace('address = "10.61.8.22"', 'address = "10.61.8.122"'))
    assert "Findings: 2 errors." in daskel("check", cwd=demo_folder).stdout
    one = daskel("check", "--client", "tide-02", cwd=demo_folder)
    assert one.returncode == 1 and "10.61.8.122" in one.stdout and "10.61.8.121" not in one.stdout
    assert "No findings." in daskel("check", "--client", "lib-01", cwd=demo_folder).stdout
    assert daskel("check", "--client", "lib-1", cwd=demo_folder).returncode == 2


WRONG_WORDS = [  # words, the usage that is shown, and what is said
    (["chek"], "usage: daskel [-h]", "there is no command 'chek'; did you mean check?"),
    (["boots", "lst"], "usage: daskel boots [-h]", "there is no verb 'lst'; did you mean list?"),
    (["check", "--jsn"], "usage: daskel check", "there is no option --jsn; did you mean --json?"),
    (["boots", "list", "--rsult", "stuck"], "usage: daskel boots list", "did you mean --result?"),
    (["boots", "list", "--result", "stck"], "usage: daskel boots list", "did you mean stuck?"),
    (["status", "now"], "usage: daskel status", "'now' is one word too many"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "usage", "said"), WRONG_WORDS)
def test_wrong_words_show_the_usage_of_what_was_meant(
    words: list[str], usage: str, said: str
) -> None:
    done = daskel(*words)
    assert done.returncode == 2 and done.stdout == ""
    assert done.stderr.startswith(usage) and said in done.stderr


def test_a_question_is_asked_through_the_streams_that_are_given() -> None:
    class Terminal(io.StringIO):
        def isatty(self) -> bool:
            return True

    for typed, yes in (("y\n", True), ("no\n", False), ("", False)):
        err = io.StringIO()
        assert Output(out=io.StringIO(), err=err, stdin=Terminal(typed)).agreed("Sure?") is yes
        assert err.getvalue() == "Sure? [y/N] "
    nobody = Output(out=io.StringIO(), err=io.StringIO(), stdin=io.StringIO("y\n"))
    with pytest.raises(UsageProblem, match="nobody is at a terminal"):
        nobody.agreed("Sure?")


FORKS = """
import os, signal, sys
from daskel.cli.main import _clean_up_at_the_end
_clean_up_at_the_end()
read, write = os.pipe()
try:
    child = os.fork()
    if child == 0:
        os.write(write, b".")
        signal.pause()
    os.read(read, 1)
    os.kill(child, signal.SIGTERM)
    print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
finally:
    print("cleaned up", flush=True)
"""


def test_a_forked_child_cleans_nothing_up() -> None:
    """What a library forks, and ends, leaves what the command has begun alone."""
    done = subprocess.run([sys.executable, "-c", FORKS], capture_output=True, text=True, check=True)
    assert done.stdout == "143\ncleaned up\n", done


def _parsers(parser: argparse.ArgumentParser, above: str = "") -> Iterator[tuple[str, set[str]]]:
    """Every verb, and its options."""
    verbs = [a for a in parser._actions if isinstance(a, argparse._SubParsersAction)]
    for action in verbs:
        for name, below in action.choices.items():
            yield from _parsers(below, f"{above} {name}".strip())
    if not verbs:
        yield above, {option for action in parser._actions for option in action.option_strings}


def test_what_changes_something_takes_the_same_options() -> None:
    found = dict(_parsers(main.parser()))
    both = {name for name, options in found.items() if {"--yes", "--dry-run"} <= options}
    either = {name for name, options in found.items() if {"--yes", "--dry-run"} & options}
    assert both == either
    assert {"root files", "root build", "root seal", "client add", "assign", "lobby admit",
            "slate freeze", "store restore", "apply", "files add"} <= both  # fmt: skip
