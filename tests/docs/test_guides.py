"""Every guide's commands, typed as they stand there, on a machine with the networks of the guide.

A guide's code blocks are one session: `sh` is typed, `toml` is written or added to the file that
its title names, `text` must be in what the commands before it printed ("..." stands for anything).
A `sh` block titled "in another terminal" runs until the guide ends.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tarfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pycdlib
import pytest

from tests.cli.commands.test_first_steps import RELEASE
from tests.conftest import PATIENCE
from tests.image_roots import image_root
from tests.wire.net import Net

GUIDES = Path(__file__).parents[2] / "docs/guides"
_BLOCK = re.compile(r"^```(\w+)(?: title=\"([^\"]*)\")?\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_BESIDE = "in another terminal"


@dataclass
class Block:
    """One code block: what is typed or written, and what it must have printed."""

    kind: str
    title: str
    text: str
    expected: list[str] = field(default_factory=list)


def blocks(guide: str) -> list[Block]:
    found: list[Block] = []
    for kind, title, text in _BLOCK.findall(guide):
        if kind == "text":
            found[-1].expected += [line for line in text.splitlines() if line.strip()]
        else:
            found.append(Block(kind, title, text))
    return found


def script(session: list[Block]) -> str:
    lines = ["set -eu"]
    for number, block in enumerate(session):
        lines.append(f"echo :block:{number}")
        if block.kind == "toml":
            how = ">>" if block.title.startswith("added to ") else ">"
            name = block.title.removeprefix("added to ")
            lines += [f"cat {how} {name} <<'END_OF_FILE'", block.text, "END_OF_FILE"]
        elif block.title == _BESIDE:
            lines += [
                f"( {block.text} ) > serve.log 2>&1 &",
                "until daskel status; do sleep 0.2; done",
            ]
        else:
            lines.append(block.text)
    return "\n".join(lines) + "\n"


def fits(expected: str, printed: str) -> bool:
    parts = re.split(r"\s*\.\.\.\s*", " ".join(expected.split()))
    pattern = r".*".join(map(re.escape, parts))
    return any(re.search(pattern, " ".join(line.split())) for line in printed.splitlines())


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    """What an administrator has at hand: an archive of a reference machine, and two ISO images."""
    made = image_root(tmp_path / "reference", RELEASE)
    (made / "opt/tides").mkdir(parents=True)
    with (made / f"lib/modules/{RELEASE}/modules.builtin").open("a") as built_in:
        built_in.write("kernel/fs/nfs/nfs.ko\n")
    (made / "opt/tides/tides.conf").write_text("harbour = skerry\n")
    with tarfile.open(tmp_path / "notebook.tar", "w") as archive:
        archive.add(made, ".")
    for name in ("rescue.iso", "installer.iso"):
        image = pycdlib.PyCdlib()
        image.new(rock_ridge="1.09")
        image.add_directory("/LIVE", rr_name="live")
        for short, long, source in (("VMLINUZ", "vmlinuz", f"vmlinuz-{RELEASE}"),
                                    ("INITRD", "initrd.img", f"initrd.img-{RELEASE}")):  # fmt: skip
            image.add_file(str(made / "boot" / source), f"/LIVE/{short}.;1", rr_name=long)
        image.write(str(tmp_path / name))
        image.close()
    return tmp_path


@pytest.fixture
def machine() -> Iterator[Net]:
    """The server, with a card on each of the clients' networks."""
    net = Net()
    net.add("server")
    net.wire("enp3s0", "10.61.8.1/24")
    net.wire("enp4s0", "10.61.9.1/24")
    yield net
    net.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="networks of its own need root")
@pytest.mark.parametrize("guide", sorted(GUIDES.glob("*.md")), ids=lambda path: path.stem)
def test_a_guide(guide: Path, desk: Path, machine: Net) -> None:
    session = blocks(guide.read_text())
    assert session, "a guide has commands"
    program = Path(sys.executable).parent
    done = subprocess.run(
        ["ip", "netns", "exec", machine.full("server"), "bash", "-c", f"{script(session)}\nkill $(jobs -p) 2>/dev/null || true"],
        cwd=desk, env={**os.environ, "PATH": f"{program}:{os.environ['PATH']}"}, text=True,
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        timeout=PATIENCE, check=False,
    )  # fmt: skip
    printed = dict(part.partition("\n")[::2] for part in done.stdout.split(":block:")[1:])
    assert done.returncode == 0, f"{session[len(printed) - 1].text}\n{done.stdout[-2000:]}"
    for number, block in enumerate(session):
        for line in block.expected:
            assert fits(line, printed[str(number)]), f"{line!r} is not in:\n{printed[str(number)]}"


def test_a_wrong_guide_fails() -> None:
    guide = "```sh\ndaskel chek\n```\n```text\n0 errors ... 22 clients\n```\n"
    (block,) = blocks(guide)
    assert block.expected == ["0 errors ... 22 clients"]
    assert fits(block.expected[0], "0 errors 1 note: 22  clients") and not fits(
        block.expected[0], "22"
    )
