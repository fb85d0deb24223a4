"""Files that clients deliver: over a wire that loses and doubles, and what is refused."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from daskel.core.tftp.packet import (
    Ack,
    Data,
    Error,
    ErrorCode,
    Opcode,
    Options,
    Request,
    TftpPacket,
)
from daskel.core.tftp.reception import LINGER, Reception, Write, accepted
from daskel.core.tftp.transfer import State


@given(
    st.binary(max_size=100),
    st.lists(st.sampled_from(["arrives", "lost", "doubled", "answer lost"]), max_size=20),
)
def test_every_file_arrives_whole(content: bytes, fates: list[str]) -> None:
    reception, now, fate = Reception(1000, {"blksize": "8"}), 0.0, iter(fates)
    written, whole, block = bytearray(), 0, 0
    answers: list[TftpPacket] = [o for o in reception.start(now) if not isinstance(o, Write)]
    for _ in range(500):
        if answers == [Ack(len(content) // 8 + 1)]:
            break
        heard = [a for a in answers if next(fate, "arrives") not in ("lost", "answer lost")]
        if Options({"blksize": "8"}) in heard or Ack(block) in heard:
            block += 1
        elif block == 0:
            answers = [o for o in reception.tick(reception.deadline) if not isinstance(o, Write)]
            continue
        answers, happens = [], next(fate, "arrives")
        for _ in range({"lost": 0, "doubled": 2}.get(happens, 1)):
            now += 0.001
            for output in reception.receive(Data(block, content[block * 8 - 8 : block * 8]), now):
                if isinstance(output, Write):
                    written += output.data
                    whole += output.last
                else:
                    answers = [output]
    assert reception.state is State.DONE and whole == 1
    assert bytes(written) == content and reception.size == len(content)


ODD: list[tuple[TftpPacket, State, list[object]]] = [
    (Data(2, b"x"), State.SENDING, []),
    (Data(0, b"x"), State.SENDING, []),
    (Data(1, bytes(513)), State.FAILED, [ErrorCode.ILLEGAL]),
    (Data(1, bytes(400)), State.FAILED, [ErrorCode.FULL]),
    (Ack(0), State.FAILED, [ErrorCode.ILLEGAL]),
    (Error(0, "changed my mind"), State.FAILED, []),
    (Data(1, b""), State.DONE, [Write(b"", True), Ack(1)]),
]


@pytest.mark.parametrize(("packet", "state", "outputs"), ODD)
def test_what_comes_first(packet: TftpPacket, state: State, outputs: list[object]) -> None:
    reception = Reception(300)
    assert reception.start(0.0) == [Ack(0)]
    came = reception.receive(packet, 0.1)
    assert [o.code if isinstance(o, Error) else o for o in came] == outputs
    assert reception.state is state


def test_options_of_a_write() -> None:
    asked = {"tsize": "700", "blksize": "9000", "windowsize": "4"}
    options = accepted(Request(Opcode.WRITE, b"log", "octet", asked), 1468)
    assert options == {"tsize": "700", "blksize": "1468"}
    assert Reception(699, options).start(0.0) == [Error(ErrorCode.FULL, "more than 699 bytes")]


def test_silence_and_the_last_acknowledgement() -> None:
    silent = Reception(300)
    silent.start(0.0)
    times = []
    while silent.state is State.SENDING:
        times.append(silent.deadline)
        silent.tick(silent.deadline)
    assert times[:3] == [1, 3, 5] and 31 <= times[-1] <= 33
    done = Reception(300)
    done.start(0.0)
    done.receive(Data(1, b"x"), 1.0)
    assert done.deadline == 1.0 + LINGER
    assert done.receive(Data(1, b"x"), 2.0) == [Ack(1)], "it was lost, and nothing is written twice"
