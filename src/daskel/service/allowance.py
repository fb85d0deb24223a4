"""How much is taken of what strangers send."""

from __future__ import annotations

from daskel.service.clock import Clock


class Allowance:
    """`rate` messages a second, and as many at once."""

    def __init__(self, clock: Clock, rate: float) -> None:
        self._clock, self._rate = clock, rate
        self._left, self._filled = rate, clock.monotonic()

    def take(self) -> bool:
        """Whether one more is."""
        now = self._clock.monotonic()
        self._left = min(self._rate, self._left + (now - self._filled) * self._rate)
        self._filled = now
        if self._left < 1:
            return False
        self._left -= 1
        return True
