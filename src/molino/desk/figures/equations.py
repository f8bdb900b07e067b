"""Equations as a figure, typeset by Matplotlib."""

from __future__ import annotations

from matplotlib.figure import Figure

from molino.core.arguments import checked
from molino.core.chemistry.chemistry import Chemistry
from molino.core.chemistry.notation import Equations
from molino.core.contract.vessel import Vessel
from molino.desk.figures import style


@checked
def equations(of: Chemistry | Vessel | Equations) -> Figure:
    """The equations of a chemistry or vessel in a figure of their size.

    Parameters
    ----------
    of : Chemistry, vessel or Equations
    """
    shown: Equations = of if isinstance(of, Equations) else of.equations()
    figure = style.blank()
    figure.set_layout_engine("none")
    texts = [
        (
            figure.text(0, 0, f"${one.latex[0]}$", ha="right", va="baseline", fontsize=14),
            figure.text(0, 0, f"$= {one.latex[1]}$", ha="left", va="baseline", fontsize=14),
        )
        for one in shown.lines
    ]
    margin, gap = 24.0, 18.0
    boxes = [(left.get_window_extent(), right.get_window_extent()) for left, right in texts]
    split = margin + max((box.width for box, _ in boxes), default=0.0)
    width = split + max((box.width for _, box in boxes), default=0.0) + margin + 8.0
    rises = [max(box.y1 for box in pair) for pair in boxes]
    falls = [max(-box.y0 for box in pair) for pair in boxes]
    height = sum(rises) + sum(falls) + gap * (len(texts) - 1) + 2 * margin
    figure.set_size_inches(width / figure.dpi, height / figure.dpi)
    top = height - margin
    for pair, rise, fall in zip(texts, rises, falls, strict=True):
        for text, x in zip(pair, (split, split + 8.0), strict=True):
            text.set_position((x / width, (top - rise) / height))
            text.set_color(style.INK)
        top -= rise + fall + gap
    return figure
