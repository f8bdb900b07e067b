"""A figure as SVG for a page: in the page's colors, and with its curves for reading values."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import matplotlib as mpl
import numpy as np
from matplotlib.lines import Line2D

from molino.core.annotations import PlainData

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_POINTS_AN_INCH = 72.0
_MOST_POINTS = 300
_DIGITS = 6
_OF_PAGE = {
    "#ffffff": "var(--paper)",
    "#222222": "var(--ink)",
    "#000000": "var(--ink)",
    "#e4e4e4": "var(--grid)",
    "#8a8a8a": "var(--quiet)",
}
"""Colors of figures that follow those of the page, also of a dark one."""


@dataclass(frozen=True)
class Drawing:
    """A figure for a page.

    Attributes
    ----------
    svg : str
    panels : list of dict
        Of each pair of axes: its place in the SVG, its ranges, and its curves.
    """

    svg: str
    panels: list[PlainData]

    @property
    def has_curves(self) -> bool:
        """Whether it has curves for reading values."""
        return any(panel["curves"] for panel in self.panels)


def draw(figure: Figure, name: str) -> Drawing:
    """A figure as SVG; `name` makes the identifiers of its parts unique in the page."""
    stream = io.StringIO()
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": name}):
        figure.savefig(stream, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    return Drawing(
        _for_page(stream.getvalue(), name), [_panel(axes, figure) for axes in figure.axes if _is_plain(axes)]
    )


def _for_page(svg: str, name: str) -> str:
    """The SVG in a page: without prolog and size, with its own names and colors."""
    svg = svg[svg.index("<svg") :]
    head, rest = svg.split(">", 1)
    box = re.search(r'viewBox="[^"]*"', head)
    assert box is not None
    rest = re.sub(r"<metadata>.*?</metadata>", "", rest, flags=re.DOTALL)
    rest = re.sub(r'\bid="', f'id="{name}-', rest)
    rest = re.sub(r'(href="#|url\(#)', rf"\g<1>{name}-", rest)
    for color, own in _OF_PAGE.items():
        rest = rest.replace(color, own)
    attributes = 'xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" aria-hidden="true"'
    return f"<svg {attributes} {box.group()}>{rest}".rstrip()


def _is_plain(axes: Axes) -> bool:
    """Whether the curves of these axes can be read."""
    scales = {axes.get_xscale(), axes.get_yscale()}
    return axes.get_visible() and scales <= {"linear", "log"} and axes.get_label() != "<colorbar>"


def _panel(axes: Axes, figure: Figure) -> PlainData:
    """The place of some axes in the SVG, and their curves."""
    box = axes.get_window_extent()
    scale, height = _POINTS_AN_INCH / figure.dpi, figure.get_figheight() * _POINTS_AN_INCH
    titles = [axes.get_title(loc) for loc in ("left", "center", "right")]
    return {
        "title": next((text for text in titles if text), ""),
        "box": [round(v, 2) for v in (box.x0 * scale, height - box.y1 * scale, box.width * scale, box.height * scale)],
        "x": {"range": _plain(axes.get_xlim()), "log": axes.get_xscale() == "log", "label": axes.get_xlabel()},
        "y": {"range": _plain(axes.get_ylim()), "log": axes.get_yscale() == "log", "label": axes.get_ylabel()},
        "curves": [curve for line in axes.lines if (curve := _curve(line, axes)) is not None],
    }


def _curve(line: Line2D, axes: Axes) -> PlainData | None:
    """A curve along x, thinned for a page; None if it is not one."""
    try:
        x, y = (np.asarray(v, dtype=float) for v in line.get_data(orig=False))
    except (TypeError, ValueError):
        return None
    if len(x) < 3 or not line.get_visible() or line.get_transform() != axes.transData or line.get_linestyle() == "None":
        return None
    kept = np.isfinite(x) & np.isfinite(y)
    x, y = x[kept], y[kept]
    if len(x) < 3 or not ((np.diff(x) >= 0).all() and x[-1] > x[0]):
        return None
    if len(x) > _MOST_POINTS:
        chosen = np.unique(np.round(np.linspace(0, len(x) - 1, _MOST_POINTS)).astype(int))
        x, y = x[chosen], y[chosen]
    label = str(line.get_label())
    name = "" if label.startswith("_") else label
    return {"name": name, "color": mpl.colors.to_hex(line.get_color()), "x": _plain(x), "y": _plain(y)}


def _plain(values: Iterable[float]) -> list[float]:
    """Numbers of few digits, for JSON."""
    return [float(f"{v:.{_DIGITS}g}") if math.isfinite(v) else 0.0 for v in (float(one) for one in values)]
