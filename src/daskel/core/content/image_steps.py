"""What the initrd that mounts a root from an image tells: how far it is, and why no further.

One HTTP request with a line for each thing, `stage=` first of all (system/roots/client/daskel.pl).
"""

from __future__ import annotations

from daskel.core.history.events import ImageFailure, ImageStep, ImageTold, Who
from daskel.core.reader import MalformedError

TOLD_AT = "daskel/stage"  # over HTTP
OWN_AT = "daskel/own/"  # and where a client gets its own files of a root
MANY_AT = "daskel/multicast/"  # and what of a file it misses that is sent to many
_LONGEST = 400  # characters of a text


def parse(who: Who, body: bytes) -> ImageTold:
    """Read what a client told. Raises MalformedError."""
    lines = (line.partition("=") for line in body.decode("utf-8", "replace").splitlines())
    said = {key.strip(): value.strip() for key, _, value in lines}
    try:
        step = ImageStep(said.get("stage", ""))
        failure = None
        if step is ImageStep.FAILED:
            failure = ImageFailure(said.get("reason", ""))
        size, seconds = int(said.get("bytes", "0")), float(said.get("seconds", "0"))
    except ValueError as error:
        raise MalformedError(f"stage: {error}") from None
    text = said.get("text", "")[:_LONGEST]
    if not (0 <= size < 1 << 60 and 0 <= seconds < 1e9 and text.isprintable()):
        raise MalformedError("stage: numbers or text that no client tells")
    return ImageTold(who, step, failure, text, size, seconds)


def told(step: ImageStep, **more: object) -> bytes:
    """What a simulated client tells."""
    lines = {"stage": step.value, **more}
    return "".join(f"{key}={value}\n" for key, value in lines.items()).encode()
