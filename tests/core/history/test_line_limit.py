"""Nobody fills the log: what is written of each machine, and of all that are made up."""

from __future__ import annotations

from daskel.core.history.events import FileKind, FileMissing, FileSent, Malformed, Seen, Who
from daskel.core.history.line_limit import EACH, STRANGER, STRANGERS, WINDOW, LineLimit

CLIENT, STRANGE = Who("tide-01", "02:61:08:00:00:01"), Who(None, "02:61:ff:00:00:01")


def missing(who: Who) -> FileMissing:
    return FileMissing(who, "x", "tftp", "no such file")


def test_each_has_a_number_of_lines_and_the_rest_is_counted() -> None:
    limit = LineLimit()
    assert sum(limit.takes(missing(CLIENT), 1.0) for _ in range(500)) == EACH
    assert sum(limit.takes(missing(STRANGE), 1.0) for _ in range(500)) == STRANGER
    (said,) = limit.left_out()
    assert (said.kind, said.count) == ("file-missing", 1000 - EACH - STRANGER)
    assert not limit.has_left_out and limit.takes(missing(STRANGE), 1.0 + WINDOW)


def test_what_a_client_fetches_is_always_written() -> None:
    limit = LineLimit()
    sent = FileSent(CLIENT, "x", FileKind.OTHER, 1, 0.1, "http")
    assert all(limit.takes(sent, 1.0) for _ in range(1000))
    assert all(limit.takes(Malformed(Who(), "tftp", 1, "x"), 1.0) for _ in range(1000))


def test_made_up_machines_together_have_a_number() -> None:
    limit = LineLimit()
    made_up = [Who(None, f"02:61:ff:{n >> 8:02x}:{n & 255:02x}:00") for n in range(5000)]
    seen = [Seen(who, "tideroom", None, None, None, None, None) for who in made_up]
    assert sum(limit.takes(event, 1.0) for event in seen) == STRANGERS
    assert len(limit._lines) <= STRANGERS
    assert limit.takes(missing(STRANGE), 1.0), "another kind"
