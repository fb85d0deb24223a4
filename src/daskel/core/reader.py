"""One bounded reader for bytes that come from the network; every protocol reads through it."""

from __future__ import annotations


class MalformedError(ValueError):
    """Malformed bytes from the network: what was read, where, and what is wrong."""


class Reader:
    """Reads `data` from front to back and never beyond its end."""

    __slots__ = ("_data", "_end", "_what", "position")

    def __init__(self, data: bytes, what: str, position: int = 0) -> None:
        self._data, self._end = data, len(data)
        self._what = what
        self.position = position

    @property
    def left(self) -> int:
        """Bytes that have not been read."""
        return self._end - self.position

    def fail(self, reason: str) -> MalformedError:
        """The error to raise for what stands here."""
        return MalformedError(f"{self._what}: {reason} at byte {self.position}")

    def take(self, count: int) -> bytes:
        """The next `count` bytes. Raises MalformedError when fewer are left."""
        start = self.position
        end = start + count
        if count < 0 or end > self._end:
            raise self.fail(f"{count} bytes wanted, {self.left} are left")
        self.position = end
        return self._data[start:end]

    def number(self, size: int) -> int:
        """An unsigned big-endian number of `size` bytes."""
        start = self.position
        end = start + size
        if end > self._end:
            raise self.fail(f"{size} bytes wanted, {self.left} are left")
        self.position = end
        return int.from_bytes(self._data[start:end], "big")

    def opaque(self, limit: int) -> bytes:
        """Data of at most `limit` bytes behind its length, filled up to four (RFC 4506 4.10)."""
        start = self.position + 4
        length = int.from_bytes(self._data[start - 4 : start], "big")
        end = start + length
        behind = end + -length % 4
        if length > limit or behind > self._end:
            raise self.fail(f"opaque data of {length} bytes, {limit} at most, {self.left} are left")
        self.position = behind
        return self._data[start:end]

    def rest(self) -> bytes:
        """All bytes that have not been read."""
        return self.take(self.left)

    def until_zero(self) -> bytes:
        """The bytes before the next NUL, which is consumed and not returned."""
        end = self._data.find(b"\0", self.position)
        if end < 0:
            raise self.fail("text without a closing NUL")
        text = self.take(end - self.position)
        self.position += 1
        return text

    def end(self) -> None:
        """Raises MalformedError when something is left."""
        if self.left:
            raise self.fail(f"{self.left} bytes too many")
