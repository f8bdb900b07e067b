"""The common style of figures: colours for colour-blind readers, different marks and strokes."""

from __future__ import annotations

import io
import math
import re
import warnings
from collections.abc import Callable
from functools import cache, wraps
from typing import Any, ParamSpec, TypeVar

import matplotlib as mpl
import numpy as np
from matplotlib import font_manager
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.markers import CARETDOWNBASE, CARETUPBASE
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from molino.core import units
from molino.core.annotations import PlainData
from molino.core.arguments import checked

COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00", "#000000", "#999933")
"""After M. Okabe, K. Ito, Color Universal Design, 2008."""
_SCRIPTS = (
    "Noto Sans CJK SC",
    "Noto Sans CJK JP",
    "Noto Sans SC",
    "Noto Sans JP",
    "Noto Sans KR",
    "Source Han Sans SC",
    "WenQuanYi Zen Hei",
    "Microsoft YaHei",
    "PingFang SC",
    "Hiragino Sans",
    "Yu Gothic",
    "Malgun Gothic",
    "Noto Sans Arabic",
    "Noto Sans Devanagari",
    "Noto Sans Hebrew",
    "Noto Sans Thai",
)
"""Fonts of other scripts than Latin, Greek and Cyrillic."""
MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
STROKES: tuple[object, ...] = ("-", "--", "-.", (0, (1, 1.2)), (0, (5, 1, 1, 1, 1, 1)), (0, (8, 2)), (0, (3, 1)), ":")
_SCREEN = 88
"""Dots per inch of a figure in a notebook."""
INK, QUIET = "#222222", "#8a8a8a"


Look = PlainData
"""Keyword arguments of a Matplotlib artist."""
P = ParamSpec("P")
R = TypeVar("R")


def draws(function: Callable[P, R]) -> Callable[P, R]:
    """A public function that draws: names are shown literally, also with a dollar sign."""

    @wraps(function)
    def call(*args: P.args, **kwargs: P.kwargs) -> R:
        with mpl.rc_context({"text.parse_math": False, "font.family": _families()}):
            return checked(function)(*args, **kwargs)

    return call


@cache
def _families() -> list[str]:
    """The usual font, and those installed ones that have other scripts."""
    installed = {*font_manager.get_font_names()}
    return [*mpl.rcParams["font.family"], *(name for name in _SCRIPTS if name in installed)]


class InlineFigure(Figure):
    """A figure that a notebook shows in the width of the page."""

    def savefig(self, *args: Any, **kwargs: Any) -> None:
        """As of Matplotlib, with one warning of all characters that no font has.

        The layout is made once: Matplotlib would draw everything an additional time for it.
        """
        engine, dpi = self.get_layout_engine(), self.dpi
        if engine is not None and isinstance(kwargs.get("dpi"), int | float):
            self.dpi = kwargs["dpi"]
            engine.execute(self)
            self.set_layout_engine(None)
        try:
            self._saved(*args, **kwargs)
        finally:
            self.set_layout_engine(engine)
            self.dpi = dpi

    def _saved(self, *args: Any, **kwargs: Any) -> None:
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            super().savefig(*args, **kwargs)
        missing = [re.match(r"Glyph (\d+)", str(one.message)) for one in caught]
        characters = "".join(dict.fromkeys(chr(int(found[1])) for found in missing if found))
        for one, found in zip(caught, missing, strict=True):
            if not found:
                warnings.warn_explicit(one.message, one.category, one.filename, one.lineno)
        if characters:
            warnings.warn(f"no installed font has {characters}: install one, like Noto Sans CJK", stacklevel=2)

    def _repr_png_(self) -> tuple[bytes, dict[str, int]]:
        stream = io.BytesIO()
        self.savefig(stream, format="png", dpi=2 * _SCREEN)
        width, height = (round(_SCREEN * side) for side in self.get_size_inches())
        return stream.getvalue(), {"width": width, "height": height}


def blank(width: float = 10.0, height: float = 6.25) -> Figure:
    """An empty figure of 1280 x 800 pixels at 128 dots per inch."""
    return InlineFigure(figsize=(width, height), dpi=128, layout="constrained")


def grid_of(count: int, height: float = 3.1, least: float = 6.25, **shared: Any) -> tuple[Figure, list[Axes], int]:
    """A figure with a number of panels in two or three columns, the panels, and the number of columns."""
    columns = 2 if count in (2, 4) else min(3, count)
    rows = math.ceil(count / columns)
    figure = blank(height=max(least, height * rows))
    panels = list(figure.subplots(rows, columns, squeeze=False, **shared).flat)
    for extra in panels[count:]:
        extra.set_visible(False)
    return figure, panels[:count], columns


def dress(axes: Axes, x: str = "", y: str = "", title: str = "") -> None:
    """Labels, a light grid, no box."""
    axes.set_xlabel(x)
    axes.set_ylabel(y)
    if title:
        axes.set_title(title, loc="left", fontsize=10, color=INK)
    axes.grid(True, color="#e4e4e4", linewidth=0.8)
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)


def named(name: str, unit: str | None) -> str:
    """The label of a constant: its name with a typeset unit."""
    return f"{name} [{units.pretty(unit)}]" if unit else name


def stroke(n: int) -> PlainData:
    """Colour and dash pattern of the n-th line."""
    return {"color": COLOURS[n % len(COLOURS)], "linestyle": STROKES[n % len(STROKES)], "linewidth": 1.8}


def dots(axes: Axes, n: int, x: Any, y: Any, label: str = "") -> None:
    """Measured points of the n-th kind."""
    axes.plot(x, y, MARKS[n % len(MARKS)], color=COLOURS[n % len(COLOURS)], ms=5, mfc="white", mew=1.4, label=label)


def arrows(axes: Axes, x: np.ndarray, y: np.ndarray, sides: np.ndarray, color: str) -> None:
    """Limits: a bar, with an arrow downward (side -1) or upward (1) to where the value is."""
    for side, marker in ((-1, CARETDOWNBASE), (1, CARETUPBASE)):
        own = sides == side
        if own.any():
            axes.plot(x[own], y[own], "_", color=color, ms=9, mew=1.6)
            axes.plot(x[own], y[own], marker=marker, ls="none", color=color, ms=7, label="limit")


def plain_logs(axes: Axes) -> None:
    """Plain numbers on two logarithmic axes."""
    plain_log(axes.xaxis)
    plain_log(axes.yaxis)


def plain_log(axis: Any) -> None:
    """Plain numbers on a logarithmic axis, at 1, 2 and 5 of each decade."""
    low, high = axis.get_view_interval()
    decades = math.log10(high / max(low, 1e-300))
    subs = (1, 2, 5) if decades < 2 else (1, 3) if decades < 4 else (1,)
    axis.set_major_locator(LogLocator(base=10, subs=subs))
    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:.3g}"))
    axis.set_minor_formatter(NullFormatter())
