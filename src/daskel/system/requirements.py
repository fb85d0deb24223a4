"""The one error for what is missing on this machine: a permission, a port, a program, an
address."""

from __future__ import annotations


class MissingRequirementError(Exception):
    """What is missing, and what to do about it. Commands end with exit code 3."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(f"{problem}: {remedy}")
        self.problem, self.remedy = problem, remedy
