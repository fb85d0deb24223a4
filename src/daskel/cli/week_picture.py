"""A week of boots as one page."""

from __future__ import annotations

from pathlib import Path
from textwrap import wrap

import matplotlib

matplotlib.use("Agg")  # no screen

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from daskel.cli.week_report import Machine, Report
from daskel.core.values import counted, few, show_duration

_GOOD, _FAILED, _LINE, _GREY = "#56b4e9", "#d55e00", "#2b3a4a", "#777777"
_MOST_ROWS, _MOST_NAMES, _MOST_LINES, _WIDTH = 5, 3, 2, 66


def draw(target: Path, told: Report, title: str) -> None:
    """Boots and times by day; below them causes, and machines to look at."""
    causes = [(counted(f.times, "time"), f"{few(f.clients, _MOST_NAMES)}: {f.problem}")
              for f in told.failures[:_MOST_ROWS]]  # fmt: skip
    looked = [(m.client, _why(m)) for m in told.conspicuous[:_MOST_ROWS]]
    lower = 0.8 + 0.5 * max(len(causes), len(looked), 1)  # inches
    figure = Figure(figsize=(12, 4.4 + lower), layout="constrained")
    figure.suptitle(title, fontsize=15, fontweight="bold", x=0.01, ha="left")
    grid = figure.add_gridspec(2, 2, height_ratios=[4.4, lower])
    _boots(figure.add_subplot(grid[0, 0]), told)
    _times(figure.add_subplot(grid[0, 1]), told)
    line = 0.2 / lower
    _lines(figure.add_subplot(grid[1, 0]), "Why boots failed", causes, "No boot failed.", line)
    _lines(figure.add_subplot(grid[1, 1]), "Machines to look at", looked, "None stands out.", line)
    figure.savefig(target, dpi=108)


def _boots(axes: Axes, told: Report) -> None:
    names = [f"{day.day:%a}\n{day.day:%d %b}" for day in told.days]
    good = [day.good for day in told.days]
    failed = [day.boots - day.good for day in told.days]
    axes.bar(names, good, color=_GOOD, label="came up", width=0.62)
    axes.bar(names, failed, bottom=good, color=_FAILED, label="failed", width=0.62, hatch="//",
             edgecolor="white", linewidth=0)  # fmt: skip
    for index, day in enumerate(told.days):
        shown = f"{day.boots}" if day.good == day.boots else f"{day.good} of {day.boots}"
        axes.annotate(shown, (index, day.boots), ha="center", va="bottom", fontsize=9)
    axes.set_title("Boots", loc="left", fontsize=11)
    axes.set_ylim(0, max(day.boots for day in told.days) * 1.15)
    axes.legend(frameon=False, fontsize=9, loc="upper left", bbox_to_anchor=(0.3, 1.13), ncols=2)
    _plain(axes)


def _times(axes: Axes, told: Report) -> None:
    days = [day for day in told.days if day.median is not None]
    names = [f"{day.day:%a}\n{day.day:%d %b}" for day in days]
    half = [day.median or 0 for day in days]
    axes.plot(names, half, color=_LINE, marker="o", label="half within")
    axes.plot(names, [day.slowest or 0 for day in days], color=_FAILED, marker="^", linestyle=":",
              label="the slowest")  # fmt: skip
    for index, day in enumerate(days):
        at = (index, day.slowest or 0)
        axes.annotate(str(day.slowest_client), at, (0, 5), textcoords="offset points",
                      ha="center", va="bottom", fontsize=8, color=_GREY)  # fmt: skip
    axes.set_title("Seconds until they came up", loc="left", fontsize=11)
    axes.set_ylim(0, max([day.slowest or 0 for day in days], default=1.0) * 1.18)
    axes.margins(x=0.08)
    axes.legend(frameon=False, fontsize=9, loc="upper left", bbox_to_anchor=(0.42, 1.13), ncols=2)
    _plain(axes)


def _plain(axes: Axes) -> None:
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.tick_params(labelsize=9)


def _why(machine: Machine) -> str:
    said = f"failed {machine.failed} of {machine.boots}" if machine.failed else ""
    if machine.slower:
        now, before = show_duration(round(machine.median or 0)), round(machine.before or 0)
        said += f"{'; ' if said else ''}{now}, was {show_duration(before)}"
    return said


def _lines(
    axes: Axes, title: str, rows: list[tuple[str, str]], nothing: str, height: float
) -> None:
    axes.set_axis_off()
    axes.set_title(title, loc="left", fontsize=11)
    y = 1 - height
    if not rows:
        axes.text(0, y, nothing, fontsize=10, color=_GREY, transform=axes.transAxes)
    for first, text in rows:
        lines = wrap(text, _WIDTH)[:_MOST_LINES]
        axes.text(0, y, first, fontsize=10, fontweight="bold", transform=axes.transAxes)
        for line in lines:
            axes.text(0.15, y, line, fontsize=9.5, transform=axes.transAxes)
            y -= height
        y -= height / 4
