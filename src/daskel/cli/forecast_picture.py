"""A forecast as a picture: a bar for each client, a colour for each stage, and how many have their
root when."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import matplotlib

matplotlib.use("Agg")  # no screen

from matplotlib.figure import Figure
from matplotlib.patches import Patch

_COLOURS = {  # of the time until a stage; told apart by people who see red and green alike
    "seen": "#e3e6e8", "addressed": "#c9ced3", "loader": "#56b4e9", "menu": "#0072b2",
    "kernel": "#f0e442", "initrd": "#e69f00", "running kernel": "#d55e00", "root": "#cc79a7",
    "up": "#009e73",
}  # fmt: skip
_MOST_NAMES = 60
_GREY = "#777777"


def draw(
    target: Path, names: Sequence[str], ends: Sequence[Mapping[str, float]],
    limits: Mapping[str, str], title: str,
) -> None:  # fmt: skip
    """`ends`: of each client, seconds at which it comes to each stage, in their order; `limits`:
    of each stage, what limits clients on the way to it."""
    count = len(names)
    bars = 9.0 if count > _MOST_NAMES else max(2.6, 0.2 * count)
    figure = Figure(figsize=(12, bars + 4.2), layout="constrained")
    upper, lower = figure.subplots(2, 1, height_ratios=[bars, 3.0], sharex=True)
    height = 1.0 if count > _MOST_NAMES else 0.78
    for row, of_one in enumerate(ends):
        begun = 0.0
        for stage, at in of_one.items():
            colour = _COLOURS.get(stage, _GREY)
            upper.barh(row, at - begun, left=begun, height=height, color=colour, linewidth=0)
            begun = at
    upper.set_ylim(count - 0.4, -0.6)
    if count <= _MOST_NAMES:
        upper.set_yticks(range(count), names, fontsize=8)
    else:
        upper.set_ylabel(f"{count} clients, in the order in which they are switched on")
    upper.set_title(title, loc="left", fontweight="bold")
    stages = list(dict.fromkeys(stage for of_one in ends for stage in of_one))
    told = [f"until {stage}: {limits.get(stage, '')}" for stage in stages]
    patches = [
        Patch(color=_COLOURS.get(stage, _GREY), label=text)
        for stage, text in zip(stages, told, strict=True)
    ]
    upper.legend(
        handles=patches, loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=8.5,
        title="time, and what limits it", alignment="left",
    )  # fmt: skip
    done = sorted(max(of_one.values(), default=0.0) for of_one in ends)
    lower.step([0.0, *done, done[-1] * 1.02], [0, *range(1, count + 1), count], where="post",
               color="#2e7d4f", linewidth=1.8)  # fmt: skip
    lower.set_ylabel("have their root")
    lower.set_xlabel("seconds after the first is switched on")
    lower.set_ylim(0, count * 1.08)
    lower.set_xlim(0, done[-1] * 1.02)
    for axes in (upper, lower):
        axes.spines[["top", "right"]].set_visible(False)
        axes.grid(axis="x", color="#e6e6e6", linewidth=0.8)
        axes.set_axisbelow(True)
    figure.savefig(target, dpi=108)
