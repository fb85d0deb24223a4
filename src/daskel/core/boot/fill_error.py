"""What is wrong with a template."""

from __future__ import annotations


class FillError(ValueError):
    """A template that cannot be filled in; `line` counts from 1 within it."""

    def __init__(self, reason: str, line: int) -> None:
        super().__init__(reason)
        self.line = line
