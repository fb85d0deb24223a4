"""Days as people name them."""

from __future__ import annotations

from datetime import datetime, timedelta

from daskel.cli.usage import UsageProblem


def day(word: str | None) -> tuple[float, float]:
    """From when to when, in seconds since 1970. Raises UsageProblem."""
    if word is None:
        return 0.0, float("inf")
    today = datetime.now().replace(hour=0, minute=0, second=0, microsecond=0)
    known = {"today": today, "yesterday": today - timedelta(days=1)}
    try:
        start = known.get(word) or datetime.fromisoformat(word)
    except ValueError:
        raise UsageProblem(
            f"{word} is not a day", "write today, yesterday, or 2026-11-23"
        ) from None
    return start.timestamp(), (start + timedelta(days=1)).timestamp()
