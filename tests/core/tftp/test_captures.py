"""Transfers of real firmware, recorded from the wire, played to the state machine again: it sends
what was sent then, packet for packet."""

from __future__ import annotations

from pathlib import Path

import pytest

from daskel.core.tftp.packet import Error, Request, parse
from daskel.core.tftp.transfer import Blocks, Output, State, Transfer, granted

CAPTURES = sorted((Path(__file__).parent / "captures").glob("*.txt"))
LARGEST, WINDOW = 1468, 16  # what the path and the site allowed when they were recorded


def lines_of(outputs: list[Output], size: int) -> list[str]:
    """As the recording has them; `size`: bytes of a block."""
    lines = []
    for output in outputs:
        if not isinstance(output, Blocks):
            lines.append(output.serialise().hex())
            continue
        left = output.length
        for number in range(output.first, output.first + output.amount):
            lines.append(f"data {number} {min(size, left)}")
            left -= size
    return lines


@pytest.mark.parametrize("path", CAPTURES, ids=[path.stem for path in CAPTURES])
def test_real_firmware(path: Path) -> None:
    about, *rows = path.read_text().splitlines()[1:]
    packets = [row.split(" ", 2) for row in rows]
    request = parse(bytes.fromhex(packets[0][2]))
    assert isinstance(request, Request)
    size = int(about.split()[1])
    transfer = Transfer(size, granted(request, size, LARGEST, WINDOW))
    sent = lines_of(transfer.start(0.0), transfer.block_size)
    for time, who, what in packets[1:]:
        if who == "S":
            assert sent.pop(0) == what, f"at {time} s"
            continue
        assert not sent, f"before {time} s: {sent}"
        now = float(time)
        assert now < transfer.deadline, "nothing was late then"
        answer = parse(bytes.fromhex(what))
        sent = lines_of(transfer.receive(answer, now), transfer.block_size)
    assert not sent
    only_asked = isinstance(answer, Error)
    assert transfer.state is (State.FAILED if only_asked else State.DONE)
