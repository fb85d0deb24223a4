"""Draws what the benchmarks found: bench/picture.py RESULTS PICTURE.

A bar for each: the ratio to what it was measured beside, from the smallest to the largest of its
runs, and the ratio to be reached.
"""

from __future__ import annotations

import json
import statistics
import sys
from pathlib import Path

import matplotlib

matplotlib.use("Agg")
from matplotlib import pyplot

MOST = 1.5  # what is drawn of a ratio: one that is far beyond must not hide the others
REACHED, MISSED, PLAIN = "#2a7f62", "#c0562b", "#8a94a0"


def main(results: Path, picture: Path) -> None:
    found = [json.loads(line) for line in results.read_text().splitlines()]
    rows = [row for row in found if "ratios" in row]
    figure, axes = pyplot.subplots(figsize=(12.8, 0.9 + 0.42 * len(rows)), layout="constrained")
    for place, row in enumerate(rows):
        middle, goal = statistics.median(row["ratios"]), row["goal"]
        shown, *ends = (
            min(ratio, MOST) for ratio in (middle, max(row["ratios"]), min(row["ratios"]))
        )
        colour = PLAIN if goal is None else REACHED if middle >= goal else MISSED
        axes.barh(place, shown, height=0.62, color=colour)
        axes.plot(ends, [place, place], color="black", linewidth=1)
        if goal is not None:
            axes.plot([goal, goal], [place - 0.42, place + 0.42], color="black", linewidth=2.5)
        beyond = " →" if middle > MOST else ""
        said = f"{middle:.2f} of {row['of']}" + (f", goal {goal}" if goal else "") + beyond
        axes.annotate(said, (max(ends[0], shown, goal or 0) + 0.02, place), va="center", fontsize=9)
    axes.set_yticks(range(len(rows)), [row["title"] for row in rows], fontsize=9)
    axes.invert_yaxis()
    axes.set_xlim(0, MOST + 0.75)
    axes.set_xticks([n / 4 for n in range(int(MOST * 4) + 1)])
    axes.set_xlabel("ratio, medians; thin lines: smallest and largest run; thick: to be reached")
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(picture, dpi=100)


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
