"""How long an answer takes, and how long to wait for the next one (RFC 6298)."""

from __future__ import annotations

FIRST_WAIT, SHORTEST_WAIT, LONGEST_WAIT = 1.0, 0.02, 2.0  # seconds until blocks are sent again
_LEARNING, _SELDOM = 64, 15  # blocks that are all learnt from; then every sixteenth


class RoundTrip:
    """`wait`: seconds until what was not answered is sent again."""

    __slots__ = ("_smoothed", "_variation", "longest", "seldom", "wait")

    def __init__(self, first: float = FIRST_WAIT, longest: float = LONGEST_WAIT) -> None:
        self.wait, self.longest = first, longest
        self.seldom = 0  # bits that a block's number must not have for its answer to be learnt from
        self._smoothed = self._variation = 0.0  # seconds; zero when nothing is known yet

    @property
    def half(self) -> float:
        """Seconds in which no answer to what was just sent can be here."""
        return self._smoothed / 2

    def learn(self, took: float, block: int) -> None:
        """From the answer to a `block` that was sent once (RFC 6298 section 2)."""
        if block >= _LEARNING:
            self.seldom = _SELDOM
        if self._smoothed:
            off = abs(took - self._smoothed)
            self._variation += (off - self._variation) / 4
            self._smoothed += (took - self._smoothed) / 8
        else:
            self._smoothed, self._variation = max(took, 1e-6), took / 2
        wait = self._smoothed + 4 * self._variation
        if wait < SHORTEST_WAIT:
            wait = SHORTEST_WAIT
        self.wait = wait if wait < self.longest else self.longest

    def back_off(self) -> None:
        """Nothing came in time: wait twice as long (RFC 6298 5.5)."""
        self.wait = min(self.wait * 2, self.longest)
