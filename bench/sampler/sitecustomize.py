"""Python that finds this on its path looks at its own stack each millisecond of processor time.

SIGUSR2 begins and ends that; the end writes how often each function stood in the stack, and each
line at its top, into a file of the folder that WHERE names."""

from __future__ import annotations

import json
import os
import signal
from collections import Counter
from pathlib import Path
from types import CodeType, FrameType

_PERIOD = 0.001  # seconds
_within: Counter[CodeType] = Counter()
_lines: Counter[tuple[CodeType, int]] = Counter()
_running = False


def _look(_signal: int, frame: FrameType | None) -> None:
    if frame:
        _lines[frame.f_code, frame.f_lineno] += 1
    seen = set()
    while frame:
        seen.add(frame.f_code)
        frame = frame.f_back
    _within.update(seen)


def _name(code: CodeType) -> str:
    return f"{Path(code.co_filename).stem}.{code.co_qualname}"


def _switch(_signal: int, _frame: FrameType | None) -> None:
    global _running
    _running = not _running
    signal.setitimer(signal.ITIMER_PROF, _running * _PERIOD, _PERIOD)
    if not _running:
        lines = {f"{_name(code)}:{line}": n for (code, line), n in _lines.items()}
        within = {_name(code): n for code, n in _within.items()}
        found = {"within": within, "lines": lines}
        Path(os.environ["WHERE"], f"{os.getpid()}.json").write_text(json.dumps(found))


if "WHERE" in os.environ:
    signal.signal(signal.SIGPROF, _look)
    signal.signal(signal.SIGUSR2, _switch)
