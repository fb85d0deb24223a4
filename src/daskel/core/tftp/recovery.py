"""What to do about an acknowledgement that is not for all that is under way."""

from __future__ import annotations

from enum import Enum


class Acked(Enum):
    """What an acknowledgement is for."""

    NOTHING = "nothing new"
    SOME = "some of what is under way"


class Step(Enum):
    """What follows from it."""

    REPEAT = "send again what is not acknowledged"
    EXTEND = "send what the window has room for"


# Whether what is under way was sent twice already, and what the acknowledgement is for
STEPS = {
    (False, Acked.NOTHING): Step.REPEAT,  # a block was lost: RFC 7440 section 4
    (False, Acked.SOME): Step.REPEAT,  # the one behind it was
    (True, Acked.NOTHING): Step.REPEAT,
    (True, Acked.SOME): Step.EXTEND,  # of blocks that it had already: they are behind it now
}


class Recovery:
    """Whether what is under way was sent twice, and how many acknowledgements only say so.

    A client that acknowledges what comes twice would have every window sent twice again, if each
    of those were taken for a loss.
    """

    __slots__ = ("_excused", "_twice", "resent")

    def __init__(self) -> None:
        self.resent = False  # some of what is under way was sent twice
        self._twice = 0  # the highest block that was sent again since nothing came back
        self._excused = 0  # acknowledgements that only say that it had come before, until then

    def nothing_came(self, acknowledged: int, sent: int) -> None:
        """All that is under way is sent again, because of a time-out."""
        before = self._excused if acknowledged < self._twice else 0
        self._twice, self._excused = sent, before + sent - acknowledged
        self.resent = True

    def excuses(self, acknowledged: int) -> bool:
        """This acknowledgement only says that its block had come before."""
        if self._excused and acknowledged <= self._twice:
            self._excused -= 1
            return True
        return False
