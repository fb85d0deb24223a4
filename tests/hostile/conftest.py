"""Figures of the attacks, for the table in docs/security.md."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import pytest

Figure = Callable[[str, int, str], None]  # the attack, how many, and what happened


@pytest.fixture
def figure() -> Figure:
    """Write a figure down, where somebody asked for them."""

    def write(attack: str, number: int, outcome: str) -> None:
        if place := os.environ.get("HOSTILE_FIGURES"):
            with Path(place).open("a") as file:
                file.write(
                    json.dumps({"attack": attack, "number": number, "outcome": outcome}) + "\n"
                )

    return write
