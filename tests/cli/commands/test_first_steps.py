"""From nothing to a room that boots: a site, a root with its loadout and group, and a machine."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest

from tests.cli.commands.test_rehearse import rehearse
from tests.conftest import daskel
from tests.core.roots.elf_files import elf

RELEASE = "6.1.0-demo"


def kernel() -> bytes:
    data = bytearray(2000)
    data[0x202:0x206], data[0x20E:0x210] = b"HdrS", (0x100).to_bytes(2, "little")
    data[0x300:0x310] = f"{RELEASE} (x)\0\0".encode()[:16]
    return bytes(data)


@pytest.fixture
def system(tmp_path: Path) -> Path:
    """A folder that is the whole system of a reference machine."""
    made = tmp_path / "reference"
    for folder in ("boot", "sbin", "etc"):
        (made / folder).mkdir(parents=True)
    (made / f"boot/vmlinuz-{RELEASE}").write_bytes(kernel())
    (made / f"boot/initrd.img-{RELEASE}").write_bytes(b"070701 an initrd of the demo")
    (made / "sbin/init").write_bytes(elf(machine=62))
    return made


@pytest.fixture
def room(tmp_path: Path) -> Path:
    made = tmp_path / "room"
    done = daskel("new", str(made), "--server", "10.61.8.1/24", "--segment", "tideroom")
    assert done.returncode == 0, done
    return made


def site_of(room: Path) -> dict[str, Any]:
    return tomllib.loads((room / "daskel.toml").read_text())


def test_two_commands_and_a_machine(room: Path, system: Path) -> None:
    words = ["--loadout", "notebook", "--group", "tide", "--yes"]
    done = daskel("root", "import", "notebook", str(system), *words, cwd=room)
    assert done.returncode == 0, done
    assert "The loadout notebook boots it. The group tide gets it." in done.stdout
    said = site_of(room)
    assert said["loadout"]["notebook"] == {"root": "notebook"}, "the kernel is the root's own"
    assert said["group"]["tide"] == {"boot": "notebook", "segment": "tideroom"}
    added = daskel("client", "add", "tide-01", "mac=02:61:08:00:00:01", "group=tide", cwd=room)
    assert added.returncode == 0
    (client,) = rehearse(room, "tide-01")["clients"]
    assert (client["stage"], client["problem"]) == ("root", None), client
    again = daskel("root", "import", "notebook", str(system), "--replace", *words, cwd=room)
    assert again.returncode == 0 and site_of(room)["group"]["tide"]["boot"] == "notebook"


def test_the_only_group_or_segment_is_taken(room: Path) -> None:
    done = daskel("client", "add", "tide-01", "mac=02:61:08:00:00:01", "--json", cwd=room)
    assert done.returncode == 0 and "the only one" in json.loads(done.stdout)["said"]
    assert site_of(room)["client"]["tide-01"]["group"] == "tideroom"
    daskel("group", "add", "tide", "segment=tideroom", cwd=room)
    done = daskel("client", "add", "tide-02", "mac=02:61:08:00:00:02", cwd=room)
    assert done.returncode == 1 and "tide-02" in done.stdout, "there is a choice now"


def test_a_group_alone(room: Path, system: Path) -> None:
    """Is refused before anything is copied."""
    done = daskel("root", "import", "notebook", str(system), "--group", "tide", cwd=room)
    assert done.returncode == 2 and "--group goes with --loadout" in done.stderr, done
    assert not (room / "roots/notebook").exists()


def test_a_root_without_a_kernel(room: Path, system: Path) -> None:
    for path in (system / "boot").iterdir():
        path.unlink()
    done = daskel("root", "import", "notebook", str(system), "--loadout", "notebook", cwd=room)
    assert done.returncode == 3 and "has no kernel in its /boot" in done.stderr, done


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["--list", "thin-client"], 2, "which?"),
        (["--list", "thin-client", "--program", "a\nb"], 2, "line break"),
        (["--list", "nothing"], 3, "no package list"),
        (["--user", "tess"], 2, "no password and no key"),
        (["--user", "root", "--password-file", "pw"], 2, "name another account"),
        (["--user", "Tess!", "--password-file", "pw"], 2, "small letters"),
        (["--user", "tess", "--password-file", "nowhere"], 3, "cannot read nowhere"),
        (["--user", "tess", "--password-file", "empty"], 2, "is empty"),
        (["--user", "tess", "--ssh-key", "pw"], 2, "public SSH key"),
        (["--password-file", "pw"], 2, "give --user, too"),
        (["--time-zone", "over there"], 2, "Europe/Lisbon"),
        (["--locale", "english"], 2, "en_GB.UTF-8"),
        (["--keyboard", "QWERTY!"], 2, "gb or de"),
    ],
)
def test_what_a_system_cannot_be_like(room: Path, words: list[str], code: int, said: str) -> None:
    """Is said before anything is made."""
    (room / "pw").write_text("low water 7\n")
    (room / "empty").write_text("\n")
    done = daskel("root", "build", "notebook", *words, cwd=room)
    assert done.returncode == code and said in done.stderr, done
    assert not (room / "roots/notebook").exists()


def test_nobody_can_log_in(room: Path, system: Path) -> None:
    (system / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (system / "etc/shadow").write_text("root:*:20000:0:99999:7:::\n")
    done = daskel("root", "import", "notebook", str(system), "--loadout", "notebook", cwd=room)
    assert "Nobody can log in" in done.stdout, done
    found = json.loads(daskel("root", "inspect", "notebook", "--json", cwd=room).stdout)["findings"]
    assert [f["severity"] for f in found if "nobody can log in" in f["problem"]] == ["warning"]
    (room / "roots/notebook/etc/shadow").write_text("root::20000:0:99999:7:::\n")
    again = daskel("root", "inspect", "notebook", "--json", cwd=room).stdout
    assert "nobody can log in" not in again
