"""The one error for what this machine lacks: a permission, a port, a program, an address."""

from __future__ import annotations


class MissingRequirementError(Exception):
    """What this machine lacks, and what to do about it. Commands end with exit code 3."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(f"{problem}: {remedy}")
        self.problem, self.remedy = problem, remedy
