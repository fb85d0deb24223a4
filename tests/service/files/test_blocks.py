"""Files as TFTP's datagrams: the same bytes whether they are kept or not, in bounded memory."""

from __future__ import annotations

import os
import socket
from pathlib import Path

import pytest

from daskel.core.history.events import FileKind
from daskel.core.tftp.transfer import Blocks
from daskel.service.files import blocks
from daskel.service.files.blocks import Image, Images, Sender, Window
from daskel.service.files.opened import Opened

BLOCK = 100
CONTENT = bytes(range(256)) * 40  # 102 whole blocks, and one of 40 bytes


def expected(first: int, amount: int) -> bytes:
    parts = [(n, CONTENT[(n - 1) * BLOCK : n * BLOCK]) for n in range(first, first + amount)]
    return b"".join(b"\0\3" + n.to_bytes(2, "big") + part for n, part in parts)


@pytest.mark.parametrize("amount", [1, 16])
def test_datagrams(opened: Opened, amount: int) -> None:
    computed = Opened("computed", FileKind.OTHER, len(CONTENT), data=CONTENT)
    made = [
        (Image(len(CONTENT), BLOCK), opened),
        (Window(BLOCK, amount), opened),
        (Window(BLOCK, amount), computed),
    ]
    for first in (1, 60, 103 - amount + 1):
        offset = (first - 1) * BLOCK
        asked = Blocks(first, amount, offset, min(amount * BLOCK, len(CONTENT) - offset))
        for maker, source in made:
            assert bytes(maker.datagrams(asked, source)) == expected(first, amount)


def test_a_file_that_has_become_shorter(opened: Opened, tmp_path: Path) -> None:
    os.truncate(tmp_path / "file", 500)
    for maker in (Image(len(CONTENT), BLOCK), Window(BLOCK, 16)):
        with pytest.raises(EOFError):
            maker.datagrams(Blocks(1, 16, 0, 1600), opened)


def test_what_is_kept_is_bounded(opened: Opened, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(blocks, "_MOST_KEPT", 3 * len(CONTENT))
    images = Images()
    held = [images.of(opened, block, 4) for block in (100, 200, 300, 400)]
    assert [type(image) for image in held] == [Image, Image, Window, Window]
    del held
    assert isinstance(images.of(opened, 500, 4), Image)


def test_where_the_kernel_does_not_cut(opened: Opened, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(blocks, "_UDP_SEGMENT", 9999)  # no such option: refused
    blocks._cut_to.cache_clear()
    sender, data = Sender(), Window(BLOCK, 16).datagrams(Blocks(1, 16, 0, 1600), opened)
    udp = (socket.AF_INET, socket.SOCK_DGRAM)
    with socket.socket(*udp) as there, socket.socket(*udp) as here:
        there.bind(("127.0.0.1", 0))
        here.connect(there.getsockname())
        there.settimeout(5)
        for _ in range(2):
            sender.send(here, data, 104)
            got = [there.recv(2048) for _ in range(16)]
            assert b"".join(got) == expected(1, 16) and {len(d) for d in got} == {104}
    assert not sender.cuts
    blocks._cut_to.cache_clear()
