"""Equations as a picture, set by Matplotlib."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure

from molino.core.chemistry.typeset import Equations
from molino.desk.figures import style


def equations(of: Any) -> Figure:
    """The equations of a chemistry or vessel, one below the other, as tall and wide as they need.

    Parameters
    ----------
    of : Chemistry, vessel or Equations
    """
    shown: Equations = of if isinstance(of, Equations) else of.equations()
    figure = style.blank()
    figure.set_layout_engine("none")
    texts = [
        (
            figure.text(0, 0, f"${one.latex[0]}$", ha="right", fontsize=14),
            figure.text(0, 0, f"$= {one.latex[1]}$", ha="left", fontsize=14),
        )
        for one in shown.lines
    ]
    margin, gap = 24.0, 18.0
    boxes = [(left.get_window_extent(), right.get_window_extent()) for left, right in texts]
    split = margin + max((box.width for box, _ in boxes), default=0.0)
    width = split + max((box.width for _, box in boxes), default=0.0) + margin + 8.0
    heights = [max(left.height, right.height) + gap for left, right in boxes]
    height = sum(heights) + 2 * margin - gap
    figure.set_size_inches(width / figure.dpi, height / figure.dpi)
    top = height - margin
    for (left, right), tall in zip(texts, heights, strict=True):
        middle = (top - (tall - gap) / 2) / height
        for text, x in ((left, split), (right, split + 8.0)):
            text.set_position((x / width, middle))
            text.set(va="center", color=style.INK)
        top -= tall
    return figure
