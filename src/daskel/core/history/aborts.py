"""Why a transfer ended early, as an event says it: from who ended it, and TFTP's error numbers.

What a client writes beside its number is for people: every maker has words of its own.
"""

from __future__ import annotations

from daskel.core.history.events import Abort, FileAborted, Who
from daskel.core.tftp.ending import Ending, Failure
from daskel.core.tftp.packet import ErrorCode

_ENDINGS = {
    Ending.MISTAKE: Abort.BY_CLIENT,
    Ending.SILENT: Abort.SILENT,
    Ending.CLOSED: Abort.CLOSED,
    Ending.NO_ROOM: Abort.NOT_ALLOWED,
    Ending.BY_SERVER: Abort.BY_SERVER,
}


def abort_of(failure: Failure | None, blocks: int) -> Abort:
    """`blocks`: how many the client had."""
    if failure is None:
        return Abort.UNTOLD
    if failure.ending is Ending.BY_CLIENT:
        return abort_by(failure.code, blocks)
    return _ENDINGS[failure.ending]


def abort_by(code: int | None, blocks: int) -> Abort:
    """Of a client's own error number (RFC 1350 appendix; 8: RFC 2347)."""
    if code == ErrorCode.FULL:
        return Abort.NO_ROOM
    if code == ErrorCode.OPTION and not blocks:  # later, firmware says so for whatever reason
        return Abort.OPTIONS
    return Abort.BY_CLIENT


def aborted(who: Who, path: str, failure: Failure | None, blocks: int) -> FileAborted:
    """The event of a TFTP transfer that ended early."""
    words, code = (failure.words, failure.code) if failure else ("", None)
    return FileAborted(who, path, "tftp", words, abort_of(failure, blocks), code)
