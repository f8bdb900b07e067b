"""The look that all figures share: colours that colour-blind readers can tell apart, marks and strokes that differ."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from molino.desk.tables.write import whole

COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00", "#000000", "#999933")
"""After M. Okabe, K. Ito, Color Universal Design, 2008."""
MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
STROKES: tuple[Any, ...] = ("-", "--", "-.", (0, (1, 1.2)), (0, (5, 1, 1, 1, 1, 1)), (0, (8, 2)), (0, (3, 1)), ":")
INK, QUIET = "#222222", "#8a8a8a"


def blank(width: float = 10.0, height: float = 6.25) -> Figure:
    """An empty figure of 1280 x 800 points at 128 dots an inch."""
    return Figure(figsize=(width, height), dpi=128, layout="constrained")


def dress(axes: Axes, x: str = "", y: str = "", title: str = "") -> None:
    """Labels, a light grid, no box."""
    axes.set_xlabel(x)
    axes.set_ylabel(y)
    if title:
        axes.set_title(title, loc="left", fontsize=10, color=INK)
    axes.grid(True, color="#e4e4e4", linewidth=0.8)
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)


def stroke(n: int) -> dict[str, Any]:
    """Colour and dash pattern of the n-th line."""
    return {"color": COLOURS[n % len(COLOURS)], "linestyle": STROKES[n % len(STROKES)], "linewidth": 1.8}


def save(figure: Figure, path: Path) -> Path:
    """Save a figure as PNG, whole or not at all."""
    with whole(path) as temporary:
        figure.savefig(temporary, format="png")
    return path
