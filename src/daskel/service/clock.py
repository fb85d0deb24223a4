"""The time, as the services ask for it: the system's, or one that a test sets."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Clock:
    """`now`: seconds since 1970; `monotonic`: seconds that never go back; `sleep` waits."""

    now: Callable[[], float] = time.time
    monotonic: Callable[[], float] = time.monotonic
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep


SYSTEM = Clock()
