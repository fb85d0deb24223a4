"""What the benchmarks found, as one table: bench/table.py RESULTS [PAGE]. In PAGE (Markdown) it
takes the place of the one between its marks; the results are kept beside it as JSON."""

from __future__ import annotations

import json
import statistics
import sys
from pathlib import Path
from typing import Any

BEGIN, END = "<!-- measured: begin -->", "<!-- measured: end -->"


def main(results: Path, page: Path | None) -> None:
    found = [json.loads(line) for line in results.read_text().splitlines()]
    lines = [f"Measured with {found[0]['python']}.", ""] if found else []
    rows, plain = ([row for row in found if ("ratios" in row) is kind] for kind in (True, False))
    lines += ["| what | of | ratio (spread) | goal | processor time | goal | reached |",
              "|---|---|---|---|---|---|---|"]  # fmt: skip
    lines += map(_line, rows)
    lines += ["", "| what | measured (spread) | goal: at most | reached |", "|---|---|---|---|"]
    lines += map(_plain_line, plain)
    print("\n".join(lines))
    if page is None:
        return
    text = page.read_text()
    head, tail = text.split(BEGIN)[0], text.split(END)[1]
    page.write_text(f"{head}{BEGIN}\n" + "\n".join(lines) + f"\n{END}{tail}")
    page.with_suffix(".json").write_text(json.dumps(found, indent=1) + "\n")


def _line(row: dict[str, Any]) -> str:
    ratio, cost = _shown(row["ratios"]), _shown(row["costs"])
    reached = [
        statistics.median(row["ratios"]) >= row["goal"] if row["goal"] else None,
        statistics.median(row["costs"]) <= row["cost_goal"] if row["cost_goal"] else None,
    ]
    judged = [one for one in reached if one is not None]
    said = "" if not judged else "yes" if all(judged) else "no"
    cells = [row["title"], row["of"], ratio, row["goal"] or "", cost, row["cost_goal"] or "", said]
    return f"| {' | '.join(map(str, cells))} |"


def _plain_line(row: dict[str, Any]) -> str:
    """Of a row without a limit beside it."""
    values, most = row["values"], row["most"]
    said = "" if most is None else "yes" if statistics.median(values) <= most else "no"
    goal = "" if most is None else f"{most:g} {row['unit']}"
    return f"| {row['title']} | {_shown(values)} {row['unit']} | {goal} | {said} |"


def _shown(ratios: list[float]) -> str:
    if not ratios:
        return ""
    return f"{statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]) if len(sys.argv) > 2 else None)
