"""What the initrd of an image tells."""

from __future__ import annotations

import pytest

from daskel.core.content.image_steps import parse, told
from daskel.core.history.events import ImageFailure, ImageStep, ImageTold, Who
from daskel.core.reader import MalformedError

WHO = Who("tide-01", "02:61:08:00:00:01")


@pytest.mark.parametrize(
    ("body", "event"),
    [
        (told(ImageStep.FETCHING, bytes=160_702_464),
         ImageTold(WHO, ImageStep.FETCHING, size=160_702_464)),
        (told(ImageStep.MOUNTED, seconds="4.1"), ImageTold(WHO, ImageStep.MOUNTED, seconds=4.1)),
        (told(ImageStep.FAILED, reason="memory", text="too small"),
         ImageTold(WHO, ImageStep.FAILED, ImageFailure.MEMORY, "too small")),
        (told(ImageStep.RECONNECTED, seconds=45), ImageTold(WHO, ImageStep.RECONNECTED, seconds=45.0)),
        (b"stage=mounted\nlater=word\n", ImageTold(WHO, ImageStep.MOUNTED)),
        (told(ImageStep.FAILED, reason="server", text="x" * 9999),
         ImageTold(WHO, ImageStep.FAILED, ImageFailure.SERVER, "x" * 400)),
    ],
)  # fmt: skip
def test_parse(body: bytes, event: ImageTold) -> None:
    assert parse(WHO, body) == event


@pytest.mark.parametrize(
    "body",
    [b"", b"stage=", b"stage=flying", b"stage=failed", b"stage=failed\nreason=flat",
     b"stage=fetching\nbytes=-1", b"stage=fetching\nbytes=x", b"stage=mounted\nseconds=nan",
     b"stage=mounted\nseconds=1e99", b"stage=failed\nreason=memory\ntext=a\x1b[2J", b"\xff\xfe"],
)  # fmt: skip
def test_what_no_initrd_tells(body: bytes) -> None:
    with pytest.raises(MalformedError):
        parse(WHO, body)
