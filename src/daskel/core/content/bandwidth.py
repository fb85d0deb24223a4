"""How fast the boot files of one segment may leave, when the administrator says so."""

from __future__ import annotations

_AHEAD = 0.05  # seconds that may be sent at once after a pause


class Bandwidth:
    """Shared by all transfers of a segment, who have their turns in the order in which they ask."""

    def __init__(self, rate: int) -> None:
        self.rate = rate  # bytes per second
        self._free = float("-inf")  # when the next bytes may leave

    def wait(self, size: int, now: float) -> float:
        """Seconds from `now` until `size` bytes may be sent; they are counted as sent."""
        begin = max(self._free, now - _AHEAD)
        self._free = begin + size / self.rate
        return max(0.0, begin - now)
