"""What the processes of a server say to each other comes across as it was said."""

from __future__ import annotations

import os

import pytest

from daskel.core.history.events import MountRefusal, Trouble
from daskel.service.nfs import block_grants, grants, keeper, messages, worker
from daskel.service.nfs.channel import pair, receive, send
from daskel.service.nfs.messages import (
    AskMount,
    Begin,
    BootBegins,
    Envelope,
    ExportAt,
    Grant,
    InTrouble,
    Message,
    NotServed,
    NotThere,
    OpenSlate,
    Shown,
    ShownView,
    ShowViews,
    SlateName,
    Versions,
    decode,
    encode,
)  # fmt: skip

NAME = SlateName("/slates", "notebook", "tide-01")
SAID: list[Message] = [
    Begin(bytes(range(32))), AskMount("10.61.8.21", "/roots/n\u00f6tebook", True), NotThere(),
    Versions(2, (0, 1, 2)), BootBegins(NAME, fresh=True),
    OpenSlate(NAME, "/roots", "notebook", {"etc/hostname": "tide-01\n"}, True, False),
    Grant("10.61.8.21", (ExportAt(b"n" * 8, "/f", 1), ExportAt(b"m" * 8, "/g", 0, "/u", 1 << 40)),
          (b"l" * 8,)),
    ShowViews("/r", {"a": ("10.61.8.21",)}, {"a": "b"},
              (ShownView("a", "tide-01", {}, ("10.61.8.21",), "/slates"),)),
    Shown({"a": 1}, ("x",)), InTrouble("10.61.8.21", Trouble.FULL),
    NotServed("10.61.8.21", "version 4", MountRefusal.VERSION),
]  # fmt: skip


@pytest.mark.parametrize("message", SAID)
def test_there_and_back(message: Message) -> None:
    assert decode(encode(Envelope(message, 7))) == (message, 7)


@pytest.mark.parametrize(
    "data", [b"", b"x", b"Nothing 1 {}", b"Begin x {}", b"Begin 1 {}", b"Done 0 []"]
)
def test_what_is_no_message_is_refused(data: bytes) -> None:
    with pytest.raises(ValueError):
        decode(data)


def test_descriptors_go_with_them_and_an_end_is_noticed() -> None:
    ours, theirs = pair()
    reading, writing = os.pipe()
    send(ours, NotThere(), 3, [writing])
    received = receive(theirs)
    assert received
    (message, number), descriptors = received
    assert (message, number, len(descriptors)) == (NotThere(), 3, 1)
    ours.close()
    assert receive(theirs) is None
    for descriptor in (reading, writing, *descriptors):
        os.close(descriptor)
    theirs.close()


def test_every_message_has_somebody_who_deals_with_it() -> None:
    """By a table, or as the answer to a question."""
    answers = {
        messages.Ready, messages.Versions, messages.Opened, messages.NotThere, messages.MustBeWiped,
        messages.Shown, messages.Done, messages.Failed, messages.MountHere, messages.MountNot,
        messages.Paths, messages.Republished, messages.Slates, messages.DiskAt,
        messages.BlockHere, messages.BlockNot, messages.BlockNames,
    }  # fmt: skip
    starting = {messages.StartKeeper, messages.StartWorker}  # by the processes themselves
    parts = {messages.SlateName, messages.ShownView, messages.ExportAt, messages.SlateOn}
    handled = set(keeper._HANDLERS) | set(worker._HANDLERS) | set(grants.HEARD)
    handled |= set(keeper.FOR_WORKERS) | set(block_grants.HEARD_OF_BLOCKS)
    kinds = {k for k in vars(messages).values() if isinstance(k, type) and issubclass(k, Message)}
    assert handled | answers | parts | starting == kinds - {Message}
    assert not handled & answers
