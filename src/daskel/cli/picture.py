"""Boots as a picture: a bar for each client, a colour for each stage, and how long stages take."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from statistics import median

import matplotlib

matplotlib.use("Agg")  # no screen

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Patch
from matplotlib.ticker import FuncFormatter, NullFormatter

from daskel.core.history.boots import Boot
from daskel.core.history.events import Stage
from daskel.core.history.outcome import GOOD, Result
from daskel.core.values import counted

_COLOURS = {  # told apart by people who see red and green alike
    Stage.SEEN: "#c9ced3", Stage.ADDRESSED: "#56b4e9", Stage.LOADER: "#0072b2",
    Stage.MENU: "#f0e442", Stage.KERNEL: "#e69f00", Stage.INITRD: "#d55e00",
    Stage.RUNNING: "#cc79a7", Stage.ROOT: "#009e73", Stage.UP: "#00513b",
}  # fmt: skip
_MEANT = {  # what a client does until the next stage
    Stage.SEEN: "seen: asks for an address", Stage.ADDRESSED: "addressed: fetches its boot loader",
    Stage.LOADER: "loader: asks for its menu", Stage.MENU: "menu: chooses, fetches the kernel",
    Stage.KERNEL: "kernel: fetches the initrd", Stage.INITRD: "initrd: its kernel starts",
    Stage.RUNNING: "running kernel: mounts its root", Stage.ROOT: "root: its system starts",
    Stage.UP: "up",
}  # fmt: skip
_GREY, _RED = "#777777", "#b3261e"
_LEAST, _LONGEST = 4, 32  # rows; characters of a name
_DECADES = 1000  # an axis that spans more has room for powers of ten alone
_AT = (Result.STUCK, Result.UNDER_WAY)
_SPREAD = 1800.0  # seconds; boots that began further apart are drawn from their own beginnings
_CROWD = 220  # clients: more are drawn without a gap, as they began
_TAIL = 0.02  # of the width, for the last stage, which has no end


def draw(
    target: Path, boots: Sequence[tuple[Boot, str]], against: Sequence[tuple[Boot, str]],
    title: str, against_title: str, note: str = "",
) -> None:  # fmt: skip
    """`boots` with their results, the newest first; of each client, the newest is drawn."""
    newest: dict[str, tuple[Boot, str]] = {}
    for boot, how in boots:
        newest.setdefault(boot.name, (boot, how))
    crowd = len(rows := list(newest.values())) > _CROWD
    rows.sort(key=lambda pair: pair[0].began if crowd else pair[0].name)
    bars = max(2.2, (0.26 if len(rows) <= 40 else 0.115) * len(rows))
    bars = 9.0 if crowd else bars
    figure = Figure(figsize=(12, bars + 4.6), layout="constrained")
    upper, lower = figure.subplots(2, 1, height_ratios=[bars, 3.0])
    _timeline(figure, upper, rows, title)
    _distribution(lower, [boot for boot, _ in rows], [boot for boot, _ in against], against_title)
    if note:
        figure.supxlabel(note, x=0.01, ha="left", fontsize=10)
    figure.savefig(target, dpi=108)


def _timeline(figure: Figure, axes: Axes, rows: Sequence[tuple[Boot, str]], title: str) -> None:
    first = min(boot.began for boot, _ in rows)
    together = max(boot.began for boot, _ in rows) - first < _SPREAD
    width = max(_end(boot) - (first if together else boot.began) for boot, _ in rows) or 1.0
    for row, (boot, how) in enumerate(rows):
        start = first if together else boot.began
        _bar(axes, row, boot, how, start, max(width, 1e-3), len(rows) > _CROWD)
    crowd = len(rows) > _CROWD
    names = [_short(boot.name) for boot, _ in rows]
    size, step = (9 if len(rows) <= 40 else 6.5), (len(rows) // 60 + 1 if crowd else 1)
    axes.set_yticks(range(0, len(rows), step), names[::step], fontsize=size)
    axes.set_ylim(max(len(rows), _LEAST) - 0.4, -0.6)
    axes.set_xlim(0, width * 1.02)
    axes.set_xlabel("seconds since the first began" if together else "seconds since each began")
    good = sum(1 for _, how in rows if how in GOOD)
    came = f"{good:,} of {counted(len(rows), 'client')} came up"
    axes.set_title(f"{title}: {came}", loc="left", fontsize=12)
    shown = [stage for stage in _COLOURS if any(stage in dict(boot.stages) for boot, _ in rows)]
    patches = [Patch(color=_COLOURS[stage], label=_MEANT[stage]) for stage in shown]
    if crowd and good < len(rows):
        failed = [(row, boot) for row, (boot, how) in enumerate(rows) if how not in GOOD]
        at = [_end(boot) - (first if together else boot.began) for _, boot in failed]
        axes.scatter(at, [row for row, _ in failed], s=9, color=_RED, marker="x", lw=1, zorder=3)
        patches.append(Patch(color=_RED, label=f"x: came no further ({len(rows) - good:,})"))
    figure.legend(handles=patches, fontsize=8, loc="outside right upper")
    axes.grid(axis="x", color="#e4e4e4")
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)


def _bar(
    axes: Axes, row: int, boot: Boot, how: str, start: float, width: float, crowd: bool
) -> None:
    ends = [at for _, at in boot.stages[1:]]
    last = _end(boot)
    for (stage, at), end in zip(boot.stages, [*ends, max(last, boot.stages[-1][1])], strict=True):
        if stage in _COLOURS:
            length = max(end - at, width * _TAIL if stage is boot.stage else 0)
            height, colour = (1.0 if crowd else 0.72), _COLOURS[stage]
            axes.barh(row, length, left=at - start, height=height, color=colour)
    if how not in GOOD and not crowd:
        text = f" {how} at {boot.stage.value}" if how in _AT else f" {how}"
        colour = _GREY if how == Result.UNDER_WAY else _RED
        axes.text(last - start + width * _TAIL, row, text, va="center", fontsize=8, color=colour,
                  fontweight="bold")  # fmt: skip


def _end(boot: Boot) -> float:
    """When it came to its last stage, or was last heard of before that."""
    good = boot.stage in (Stage.ROOT, Stage.UP)
    return boot.stages[-1][1] if good and boot.stages else boot.last


def _distribution(
    axes: Axes, boots: Sequence[Boot], against: Sequence[Boot], against_title: str
) -> None:
    """A dot for each boot and stage, the medians in figures."""
    stages = [stage for stage in _COLOURS if any(stage in boot.durations for boot in boots)]
    for row, stage in enumerate(stages):
        here = -0.14 if against else 0.0
        for group, offset, colour in ((against, 0.2, "#9a9a9a"), (boots, here, _COLOURS[stage])):
            times = [boot.durations[stage] for boot in group if stage in boot.durations]
            if not times:
                continue
            at = [row + offset + ((i * 0.381966) % 1 - 0.5) * 0.24 for i in range(len(times))]
            axes.scatter([max(t, 1e-3) for t in times], at, s=14, color=colour, alpha=0.75, lw=0)
            middle = max(median(times), 1e-3)
            axes.plot([middle, middle], [row + offset - 0.17, row + offset + 0.17],
                      color="#222222" if group is boots else _GREY, lw=2)  # fmt: skip
            axes.annotate(_time(middle), (1.005, row + offset), xycoords=("axes fraction", "data"),
                          va="center", fontsize=8, color="#222222" if group is boots else _GREY
                          )  # fmt: skip
    axes.set_xscale("log")
    axes.xaxis.set_major_formatter(FuncFormatter(lambda seconds, _: f"{seconds:g}"))
    low, high = axes.get_xlim()
    axes.xaxis.set_minor_formatter(
        FuncFormatter(_minor) if high < _DECADES * low else NullFormatter()
    )
    axes.set_yticks(range(len(stages)), [_MEANT[stage] for stage in stages], fontsize=9)
    axes.set_ylim(len(stages) - 0.5, -0.5)
    axes.set_xlabel("seconds that a stage takes; the line and the figure are the median")
    title = "How long each stage takes"
    axes.set_title(f"{title}; grey: {against_title}" if against else title, loc="left", fontsize=12)
    axes.grid(axis="x", color="#e4e4e4")
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)


def _minor(seconds: float, _: object) -> str:
    """Between the powers of ten, two and five."""
    return f"{seconds:g}" if f"{seconds:e}"[0] in "25" else ""


def _short(name: str) -> str:
    return name if len(name) <= _LONGEST else f"…{name[1 - _LONGEST :]}"


def _time(seconds: float) -> str:
    return f"{seconds * 1000:.0f} ms" if seconds < 1 else f"{seconds:.1f} s"
